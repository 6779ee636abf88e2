package pages

import (
	"encoding/json"
	"hash/maphash"
	"net/http"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"time"

	"ostiarius/client"
	"ostiarius/core/policy"
	"ostiarius/service/guard"
	"ostiarius/service/problem"
)

// me tells a page's scripts who is here, what the session still proves, and where to go.
func (p *Pages) me(w http.ResponseWriter, r *http.Request) {
	t := guard.TurnOf(r)
	v := &t.Visitor
	me := client.Me{SignedIn: v.SignedIn, Name: v.Account, Roles: append([]string{}, t.Book.RolesOf(v)...), Unlocked: []string{}, Passes: []string{}, Ways: p.waysOf(t)}
	if len(r.Header["Cookie"]) > 0 {
		if err := p.heldBy(r, t, &me); err != nil {
			p.failed(w, r)
			return
		}
	}
	if term, ok := p.o.Sessions.Term(p.o.Visitors.Token(r)); ok && v.SignedIn {
		me.Proven, me.Ends, me.Idle = timeOf(term.Proven), timeOf(term.Ends), seconds(term.Idle)
	}
	writeTagged(w, r, me)
}

// heldBy adds what the browser holds beside the session.
func (p *Pages) heldBy(r *http.Request, t *guard.Turn, me *client.Me) error {
	var want policy.Wanted
	for i := range t.Book.Shared {
		want.Shared = append(want.Shared, t.Book.Shared[i].Name)
	}
	unlocked := guard.Turn{Book: t.Book, Place: t.Place, Secure: t.Secure}
	if err := p.o.Visitors.Unlocked(r, want, &unlocked); err != nil {
		return err
	}
	me.Unlocked = append(me.Unlocked, unlocked.Visitor.Shared...)
	var kinds []string
	for i := range t.Book.Passes {
		kinds = append(kinds, t.Book.Passes[i].Name)
	}
	for _, held := range p.o.Visitors.Held(r, t.Book, kinds, t.Place.Path) {
		if held.State().Opens() && !slices.Contains(me.Passes, held.Kind()) {
			me.Passes = append(me.Passes, held.Kind())
		}
	}
	return nil
}

func timeOf(t time.Time) *time.Time {
	if t.IsZero() {
		return nil
	}
	t = t.UTC().Truncate(time.Millisecond)
	return &t
}

// waysOf are the addresses of our pages, as far as this visitor is told them.
func (p *Pages) waysOf(t *guard.Turn) client.Ways {
	b := t.Book
	ways := client.Ways{SignOut: b.Prefix + "/sign-out", Unlock: b.Prefix + "/unlock"}
	if t.Visitor.SignedIn {
		ways.Account, ways.ProveAgain = b.Prefix+"/account", b.Prefix+"/prove-again"
	}
	if b.Entrance == "" || t.Visitor.SignedIn {
		ways.SignIn, ways.Recover = b.SignInAt(), b.Prefix+"/recover"
		if by := b.Joining.By; by == policy.ByAnybody || by == policy.ByApproval {
			ways.Join = b.Prefix + "/join"
		}
	}
	return ways
}

// The most addresses that are asked about at a time.
const mostAsked = 500

// may tells a page's scripts what the visitor would get at some addresses. What is hidden looks like what is not there.
func (p *Pages) may(w http.ResponseWriter, r *http.Request) {
	asked, problemOf := readAsked(w, r)
	if problemOf != "" {
		problem.Write(w, client.Problem{Status: http.StatusBadRequest, Detail: problemOf, Code: "malformed"})
		return
	}
	t := guard.TurnOf(r)
	told := client.May{Places: make([]client.PlaceToGo, 0, len(asked))}
	for _, place := range asked {
		path, query, _ := strings.Cut(place.Path, "?")
		d, err := p.o.Visitors.Decide(r, t, policy.Request{Method: place.Method, Host: r.Host, Path: path})
		if err != nil {
			p.failed(w, r)
			return
		}
		told.Places = append(told.Places, p.toGo(t, place, query, d))
	}
	writeTagged(w, r, told)
}

// toGo says what a decision means for somebody who wants to go there.
func (p *Pages) toGo(t *guard.Turn, asked client.AskedPlace, query string, d policy.Decision) client.PlaceToGo {
	told := client.PlaceToGo{Path: asked.Path, Method: asked.Method, Outcome: string(d.Outcome)}
	switch d.Outcome {
	case policy.Hide:
		told.Outcome = missing
	case policy.Admit:
		if told.May = true; policy.Hides(t.Book) && p.o.Lacks != nil && p.o.Lacks(t.Book, d.Place) {
			told.Outcome, told.May = missing, false
		}
	case policy.Challenge, policy.Refuse:
		if d.Outcome == policy.Challenge {
			if told.Code = needed(d, policy.Browser); d.Proof.Kind == policy.ProveShared || d.Proof.Kind == policy.ProvePass {
				told.Name = d.Proof.Name
			}
		}
		d.Place.Method = http.MethodGet // one goes there to look
		switch a := policy.Usual(t.Book, d, policy.Browser, query); {
		case a.Status == http.StatusSeeOther:
			told.Go = a.Location
		case a.Status == http.StatusUnauthorized: // the browser asks there
			told.Go = guard.OwnPath(t.Book, asked.Path)
		}
	}
	return told
}

// missing is said of what is not there for a visitor, hidden or not.
const missing = "missing"

// readAsked reads what is asked about: in the query, or as JSON. The text says what is wrong.
func readAsked(w http.ResponseWriter, r *http.Request) (asked []client.AskedPlace, wrong string) {
	if r.Method == http.MethodPost {
		var body client.AskedPlaces
		decoder := json.NewDecoder(http.MaxBytesReader(w, r.Body, 1<<20))
		decoder.DisallowUnknownFields()
		if err := decoder.Decode(&body); err != nil {
			return nil, `The body is JSON such as {"places": [{"path": "/rota/"}]}: ` + err.Error() + "."
		}
		asked = body.Places
	} else {
		query, err := url.ParseQuery(r.URL.RawQuery)
		if err != nil {
			return nil, "The query cannot be read."
		}
		for _, path := range query["path"] {
			asked = append(asked, client.AskedPlace{Method: query.Get("method"), Path: path})
		}
	}
	if len(asked) == 0 || len(asked) > mostAsked {
		return nil, "Between 1 and 500 addresses are asked about at a time: path=/rota/ in the query, once for each, or as JSON."
	}
	for i := range asked {
		if asked[i].Method == "" {
			asked[i].Method = http.MethodGet
		}
	}
	return asked, ""
}

var tagSeeds = [2]maphash.Seed{maphash.MakeSeed(), maphash.MakeSeed()}

// writeTagged answers with JSON that is not kept by caches, with a tag by which a script asks whether it is still the same (RFC 9110,
// section 13.1.2).
func writeTagged(w http.ResponseWriter, r *http.Request, value any) {
	body, err := json.Marshal(value)
	if err != nil {
		http.Error(w, "This cannot be told.", http.StatusInternalServerError)
		return
	}
	// Two seeds make a tag of 128 bits that nobody outside can aim at; it lasts as long as the process.
	tag := `"` + strconv.FormatUint(maphash.Bytes(tagSeeds[0], body), 36) + strconv.FormatUint(maphash.Bytes(tagSeeds[1], body), 36) + `"`
	h := w.Header()
	h.Set("Content-Type", "application/json")
	h.Set("Cache-Control", "private, no-store")
	h.Set("X-Content-Type-Options", "nosniff")
	h.Set("ETag", tag)
	if r.Method != http.MethodPost && r.Header.Get("If-None-Match") == tag {
		w.WriteHeader(http.StatusNotModified)
		return
	}
	w.Write(append(body, '\n'))
}
