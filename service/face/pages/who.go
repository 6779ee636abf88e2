package pages

import (
	"hash/maphash"
	"net/http"
	"slices"
	"strconv"
	"time"

	"ostiarius/client"
	"ostiarius/core/policy"
	"ostiarius/service/base/guard"
	"ostiarius/service/base/problem"
)

// me tells a page's scripts who is here, what the session still proves, and where to go.
func (p *Pages) me(w http.ResponseWriter, r *http.Request) {
	t := guard.TurnOf(r)
	v := &t.Visitor
	me := client.Me{
		SignedIn: v.SignedIn, Name: v.Account, Roles: append([]string{}, t.Book.RolesOf(v)...), Unlocked: []string{}, Passes: []string{},
		Ways: p.waysOf(t),
	}
	if p.o.Visitors.HoldsBeside(r) {
		if err := p.heldBy(r, t, &me); err != nil {
			p.failed(w, r)
			return
		}
	}
	if term, ok := p.o.Sessions.Term(p.o.Visitors.Token(r)); ok && v.SignedIn {
		me.Proven, me.Ends, me.Idle = timeOf(term.Proven), timeOf(term.Ends), seconds(term.Idle)
	}
	writeTagged(w, r, appendMe(make([]byte, 0, 512), &me))
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
	t = time.UnixMilli(t.UnixMilli()).UTC()
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
		if ways.SignIn = b.SignInAt(); p.o.Mails { // else no link can be sent
			ways.Recover = b.Prefix + "/recover"
		}
		if by := b.Joining.By; by == policy.ByAnybody || by == policy.ByApproval {
			ways.Join = b.Prefix + "/join"
		}
	}
	return ways
}

// may tells a page's scripts what the visitor would get at some addresses. What is hidden looks like what is not there.
func (p *Pages) may(w http.ResponseWriter, r *http.Request) {
	t := guard.TurnOf(r)
	asked, wrong := p.readAsked(w, r, t.Book)
	if wrong != "" {
		problem.Write(w, client.Problem{Status: http.StatusBadRequest, Detail: wrong, Code: "malformed"})
		return
	}
	told := client.May{Places: make([]client.PlaceToGo, len(asked))}
	for i := range asked {
		d, err := policy.Rejected(asked[i].fault), error(nil)
		if asked[i].fault == nil {
			d, err = p.o.Visitors.Judge(r, t, &asked[i].read)
		}
		if err != nil {
			p.failed(w, r)
			return
		}
		told.Places[i] = p.toGo(t, &asked[i], d)
	}
	writeTagged(w, r, appendMay(make([]byte, 0, 96*len(told.Places)+64), &told))
}

// toGo says what a decision means for somebody who wants to go there.
func (p *Pages) toGo(t *guard.Turn, asked *asking, d policy.Decision) client.PlaceToGo {
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
			if told.Code = needed(d, policy.Browser); d.Proof.Kind == policy.ProveShared || d.Proof.Kind == policy.ProvePass ||
				d.Proof.Kind == policy.ProveFactor {
				told.Name = d.Proof.Name
			}
		}
		d.Place.Method = http.MethodGet // one goes there to look
		switch a := policy.Usual(t.Book, d, policy.Browser, asked.query); {
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

var tagSeeds = [2]maphash.Seed{maphash.MakeSeed(), maphash.MakeSeed()}

// writeTagged answers with JSON that is not kept by caches, with a tag by which a script asks whether it is still the same (RFC 9110,
// section 13.1.2).
func writeTagged(w http.ResponseWriter, r *http.Request, body []byte) {
	// Two seeds make a tag of 128 bits that nobody outside can aim at; it lasts as long as the process.
	tag := make([]byte, 0, 32)
	tag = strconv.AppendUint(append(tag, '"'), maphash.Bytes(tagSeeds[0], body), 36)
	tag = append(strconv.AppendUint(tag, maphash.Bytes(tagSeeds[1], body), 36), '"')
	h := w.Header()
	h["Content-Type"], h["Cache-Control"], h["X-Content-Type-Options"] = asJSON, keptByNobody, asItSays
	h["Etag"] = []string{string(tag)}
	if r.Method != http.MethodPost && r.Header.Get("If-None-Match") == h["Etag"][0] {
		w.WriteHeader(http.StatusNotModified)
		return
	}
	body = append(body, '\n')
	h["Content-Length"] = []string{strconv.Itoa(len(body))} // so that it goes out in one piece
	w.Write(body)
}

var asJSON, keptByNobody, asItSays = []string{"application/json"}, []string{"private, no-store"}, []string{"nosniff"}
