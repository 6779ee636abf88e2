package pages

import (
	"errors"
	"net/http"
	"net/url"

	"ostiarius/core/policy"
	"ostiarius/service/guard"
	"ostiarius/service/sessions"
)

// An againView is the page that asks for the password once more.
type againView struct {
	frame
	Problem string
	Next    string
	Other   string // the address at which to sign in as somebody else
	Unsent  bool   // what was sent did not arrive, since the proof was missing
	Kept    string // or what was typed, sealed, which is sent on afterwards
}

// proveAgainForm asks somebody who is signed in for the password once more.
func (p *Pages) proveAgainForm(w http.ResponseWriter, r *http.Request) {
	t := guard.TurnOf(r)
	next := guard.OwnPath(t.Book, r.URL.Query().Get("next"))
	p.showProveAgain(w, r, t, http.StatusOK, againView{Next: next, Unsent: r.URL.Query().Has("unsent")})
}

func (p *Pages) showProveAgain(w http.ResponseWriter, r *http.Request, t *guard.Turn, status int, v againView) {
	v.frame = p.frameOf(r, t, "again.title")
	v.Other = policy.To(t.Book.SignInAt(), "other&next="+url.QueryEscape(v.Next))
	p.render(w, r, status, "prove-again.html", v)
}

// proveAgain takes the password: from our own form, or as JSON from a script, which is answered with
// a status and a code, as signIn does.
func (p *Pages) proveAgain(w http.ResponseWriter, r *http.Request) {
	t := guard.TurnOf(r)
	r.Body = http.MaxBytesReader(w, r.Body, 2*mostOfForm) // what is kept of another form is longer than ours are
	err := r.ParseForm()
	s, faulty := read(w, r, t.Book)
	err = errors.Join(err, faulty)
	say := p.voice(r)
	v := againView{Next: s.Next, Kept: s.kept}
	var wrong trouble
	var fresh *sessions.Renewal
	switch {
	case err != nil:
		wrong = trouble{"malformed", unread(err), say.Say("wrong.malformed"), 0}
	default:
		if fresh, err = p.o.Desk.ProveAgain(r.Context(), p.o.Visitors.Token(r), s.Password, p.o.Visitors.Origin(r)); err != nil {
			wrong = p.troubleOf(say, err, say.Say("wrong.again", "name", t.Visitor.Account))
		}
	}
	if wrong.Code != "" {
		wrong.header(w)
		if s.json {
			wrong.tell(w)
			return
		}
		v.Problem = wrong.Text
		p.showProveAgain(w, r, t, wrong.Status, v)
		return
	}
	if fresh != nil {
		p.o.Visitors.Renew(w.Header(), r, fresh)
	}
	if v.Next == "" {
		v.Next = t.Book.After(policy.AfterSignIn, &t.Visitor)
	}
	if s.json {
		said := map[string]any{"next": v.Next}
		if p.o.Mark != nil {
			said["proof"] = p.o.Mark(t.Visitor.Account)
		}
		writeJSON(w, said)
		return
	}
	if s.kept != "" {
		p.sendOn(w, r, s.kept, v.Next)
		return
	}
	redirect(w, v.Next)
}
