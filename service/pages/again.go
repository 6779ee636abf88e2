package pages

import (
	"net/http"
	"net/url"

	"ostiarius/service/guard"
	"ostiarius/service/people"
)

// proveAgainForm asks somebody who is signed in for the password once more.
func (p *Pages) proveAgainForm(w http.ResponseWriter, r *http.Request) {
	t := guard.TurnOf(r)
	next := guard.OwnPath(t.Book, r.URL.Query().Get("next"))
	p.showProveAgain(w, r, http.StatusOK, view{Next: next, Unsent: r.URL.Query().Has("unsent")})
}

func (p *Pages) showProveAgain(w http.ResponseWriter, r *http.Request, status int, v view) {
	t := guard.TurnOf(r)
	v.Site, v.Prefix, v.Title, v.Account = t.Book.Site, t.Book.Prefix, "Type your password again", t.Visitor.Account
	v.Other = t.Book.Prefix + "/sign-in?other&next=" + url.QueryEscape(v.Next)
	p.render(w, r, status, "prove-again.html", v)
}

// proveAgain takes the password: from our own form, or as JSON from a script, which is answered with
// a status and a code, as signIn does.
func (p *Pages) proveAgain(w http.ResponseWriter, r *http.Request) {
	t := guard.TurnOf(r)
	s, err := readSignIn(w, r)
	v := view{Next: guard.OwnPath(t.Book, s.Next)}
	var wrong trouble
	var fresh *people.Renewal
	switch {
	case err != nil:
		wrong = trouble{"malformed", unread(err), "The form could not be read. Please fill it in again.", 0}
	default:
		if fresh, err = p.Register.ProveAgain(r.Context(), p.Token(r), s.Password, p.from(r)); err != nil {
			wrong = p.troubleOf(err, "That is not the password of "+t.Visitor.Account+". Please try again.")
		}
	}
	if wrong.Code != "" {
		wrong.header(w)
		if s.json {
			writeJSON(w, wrong.Status, "application/problem+json", map[string]any{
				"type": "about:blank", "title": http.StatusText(wrong.Status), "status": wrong.Status, "detail": wrong.Text, "code": wrong.Code,
			})
			return
		}
		v.Problem = wrong.Text
		p.showProveAgain(w, r, wrong.Status, v)
		return
	}
	if fresh != nil {
		p.Renew(w.Header(), r, fresh)
	}
	if v.Next == "" {
		v.Next = t.Book.AfterSignIn(&t.Visitor)
	}
	if s.json {
		said := map[string]any{"next": v.Next}
		if p.Mark != nil {
			said["proof"] = p.Mark(t.Visitor.Account)
		}
		writeJSON(w, http.StatusOK, "application/json", said)
		return
	}
	redirect(w, v.Next)
}
