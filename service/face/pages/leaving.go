package pages

import (
	"encoding/json"
	"errors"
	"net/http"
	"net/url"
	"strconv"
	"time"

	"ostiarius/core/account"
	"ostiarius/core/policy"
	"ostiarius/service/base/guard"
	"ostiarius/service/base/mistake"
	"ostiarius/service/who/leaving"
)

// takeAlong gives somebody what is known of them, as a file. It has more than a page that stands open shows, so the
// proof of the password is a recent one.
func (p *Pages) takeAlong(w http.ResponseWriter, r *http.Request) {
	t := guard.TurnOf(r)
	if t.Visitor.ProofAge > recentProof {
		redirect(w, t.Book.Prefix+"/prove-again?next="+url.QueryEscape(t.Book.Prefix+"/account"))
		return
	}
	a, err := p.o.People.Find(r.Context(), t.Visitor.Account)
	var data leaving.Data
	if err == nil {
		data, err = p.o.Leaving.Data(r.Context(), a)
	}
	if err != nil {
		p.o.Log.Error("the data of an account could not be read", "error", err)
		p.failed(w, r)
		return
	}
	h := w.Header()
	h.Set("Content-Type", "application/json")
	h.Set("Content-Disposition", `attachment; filename="account.json"`)
	h.Set("Cache-Control", "private, no-store")
	h.Set("X-Content-Type-Options", "nosniff")
	lines := json.NewEncoder(w)
	lines.SetIndent("", "  ")
	lines.Encode(data)
}

// leave notes that somebody wants their account to be deleted, who types the password for it.
func (p *Pages) leave(w http.ResponseWriter, r *http.Request) {
	t := guard.TurnOf(r)
	say := p.voice(r)
	s, err := readSent(w, r, t.Book)
	from := p.o.Visitors.Origin(r)
	if err == nil {
		var a *account.Account
		if a, err = p.o.SignIn.Owner(r.Context(), p.o.Visitors.Token(r), s.Password, from); err == nil {
			err = p.o.People.UnlessLast(r.Context(), a.Name, policy.Steward, func() error {
				_, err := p.o.Leaving.Leave(r.Context(), a, from.Network, from.Language)
				return err
			})
		}
	}
	if err != nil {
		wrong := p.troubleOf(say, err, say.Say("wrong.again", "name", t.Visitor.Account))
		if errors.Is(err, leaving.ErrNever) {
			wrong = trouble{"refused", http.StatusForbidden, say.Say("wrong.leave"), 0}
		}
		if last := new(mistake.Error); errors.As(err, &last) {
			wrong = trouble{"last", http.StatusForbidden, say.Say("wrong.leave-last"), 0}
		}
		wrong.header(w)
		p.showAccount(w, r, wrong.Status, accountView{Problem: wrong.Text})
		return
	}
	redirect(w, t.Book.Prefix+"/account")
}

// stay takes that back.
func (p *Pages) stay(w http.ResponseWriter, r *http.Request) {
	t := guard.TurnOf(r)
	a, err := p.o.People.Find(r.Context(), t.Visitor.Account)
	if err == nil {
		err = p.o.Leaving.Stay(r.Context(), a, p.o.Visitors.Origin(r).Network)
	}
	if err != nil {
		wrong := p.troubleOf(p.voice(r), err, "")
		p.showAccount(w, r, wrong.Status, accountView{Problem: wrong.Text})
		return
	}
	redirect(w, t.Book.Prefix+"/account?done=stay")
}

// span says how long something takes, in whole days or hours.
func (v voice) span(d time.Duration) string {
	if d < 48*time.Hour {
		return v.Say("common.hours", "n", strconv.Itoa(int(d.Hours())))
	}
	return v.Say("common.days", "n", strconv.Itoa(int(d.Hours()/24)))
}
