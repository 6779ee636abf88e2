package pages

import (
	"errors"
	"io"
	"net/http"
	"net/url"
	"strings"

	"ostiarius/core/event"
	"ostiarius/core/policy"
	"ostiarius/core/signature"
	"ostiarius/service/base/guard"
	"ostiarius/service/shop/events"
)

// takeEvent takes what a shop tells. Why something is refused is told to nobody.
func (p *Pages) takeEvent(w http.ResponseWriter, r *http.Request) {
	answer := func(status int) {
		w.Header().Set("Cache-Control", "private, no-store")
		w.WriteHeader(status)
	}
	body, err := io.ReadAll(http.MaxBytesReader(w, r.Body, event.MaxSize))
	var large *http.MaxBytesError
	switch {
	case errors.As(err, &large):
		answer(http.StatusRequestEntityTooLarge)
		return
	case err != nil:
		answer(unread(err))
		return
	}
	var h signature.Head
	for name, into := range map[string]*string{signature.ID: &h.ID, signature.Timestamp: &h.Timestamp, signature.Signature: &h.Signature} {
		if values := r.Header.Values(name); len(values) == 1 { // of two, either could be meant
			*into = values[0]
		}
	}
	err = p.o.Events.Take(r.Context(), h, body, p.o.Visitors.Origin(r).Network)
	switch {
	case err == nil:
		answer(http.StatusNoContent)
	case errors.Is(err, events.ErrRefused):
		answer(http.StatusBadRequest)
	default:
		p.o.Log.Error("an event could not be written down", "error", err)
		w.Header().Set("Retry-After", "10")
		answer(http.StatusServiceUnavailable)
	}
}

// How often the page looks again on which somebody waits for what they have paid for, in seconds.
const lookAgain = "3"

// A thanksView is the page to which a shop sends whoever has paid.
type thanksView struct {
	frame
	Lead, Hint string
	Go         string // where to go on, "" while that is not there
}

// thanks says how far an order is, and nothing else of it: whoever guesses its number comes here too.
func (p *Pages) thanks(w http.ResponseWriter, r *http.Request) {
	t, order := guard.TurnOf(r), r.URL.Query().Get("order")
	v := thanksView{frame: p.frame(r, "thanks.title")}
	is := events.NotYet
	var err error
	if order != "" && len(order) <= 200 {
		is, err = p.o.Events.Progress(r.Context(), order)
	}
	if err != nil {
		p.o.Log.Error("it could not be looked up how far an order is", "error", err)
		p.failed(w, r)
		return
	}
	v.Lead = v.Say("thanks." + string(is))
	switch is {
	case events.NotYet:
		v.Hint = v.Say("thanks.waiting-hint")
		w.Header().Set("Refresh", lookAgain)
	case events.IsThere:
		v.Hint = v.Say("thanks.there-hint")
		v.Go = t.Book.After(policy.AfterPaying, &t.Visitor)
	}
	p.render(w, r, http.StatusOK, "thanks.html", v)
}

// An offered is an offer as a page tells it.
type offered struct{ Say, Go string }

// offersAt are the offers of what would open an address of this site. Of what is hidden nothing is said.
func (p *Pages) offersAt(r *http.Request, t *guard.Turn, address string) (all []offered) {
	if address == "" || len(t.Book.Offers) == 0 {
		return nil
	}
	path, _, _ := strings.Cut(address, "?")
	q := policy.Request{Method: http.MethodGet, Host: t.Place.Host, Path: path}
	d, err := p.o.Visitors.Decide(r, t, q)
	if err != nil || d.Outcome != policy.Challenge && d.Outcome != policy.Refuse {
		return nil
	}
	for _, o := range policy.OffersAt(t.Book, q, &t.Visitor) {
		all = append(all, offered{o.Say, o.Go})
	}
	return all
}

// sold leads to where an item is sold: whoever is signed in, and who need not be. It reports whether it did.
func (p *Pages) sold(w http.ResponseWriter, r *http.Request) bool {
	t := guard.TurnOf(r)
	item := policy.ItemNamed(t.Book, r.URL.Query().Get("item"))
	if item == nil {
		return false
	}
	by := t.Book.Joining.By
	to := policy.SoldAt(t.Book, item)
	if to == "" || !t.Visitor.SignedIn && (by == policy.ByAnybody || by == policy.ByApproval) {
		return false
	}
	redirect(w, to)
	return true
}

// soldNext is where somebody goes on to who makes an account for an item.
func soldNext(book *policy.Book, item string) string {
	if policy.ItemNamed(book, item) == nil {
		return ""
	}
	return book.Prefix + "/join?item=" + url.QueryEscape(item)
}
