package pages

import (
	"cmp"
	"errors"
	"mime"
	"net/http"
	"strings"

	"ostiarius/core/policy"
	"ostiarius/service/base/ending"
	"ostiarius/service/base/guard"
)

// A signOutView is the page on which somebody signs out.
type signOutView struct {
	frame
	Next string
}

func (p *Pages) signOutForm(w http.ResponseWriter, r *http.Request) {
	v := signOutView{p.frame(r, "sign-out.title"), guard.Next(guard.TurnOf(r).Book, r.URL.Query().Get("next"))}
	p.render(w, r, http.StatusOK, "sign-out.html", v)
}

func (p *Pages) signOut(w http.ResponseWriter, r *http.Request) {
	t := guard.TurnOf(r)
	next := ""
	if !asksForJSON(r) && readForm(w, r) == nil { // whatever is sent, they are signed out
		next = guard.Next(t.Book, r.PostForm.Get("next"))
	}
	there := p.o.Elsewhere.SessionOf(r.Context(), p.o.Visitors.Token(r))
	var unwritten *ending.Unwritten
	switch err := p.o.Sessions.End(r.Context(), p.o.Visitors.Token(r), p.o.Visitors.Origin(r).Network); {
	case errors.As(err, &unwritten):
		p.o.Visitors.Farewell(w.Header(), r)
		if asksForJSON(r) {
			w.WriteHeader(http.StatusNoContent)
			return
		}
		f := p.frame(r, "sign-out.done-title")
		p.render(w, r, http.StatusOK, "notice.html", notice{frame: f, Lead: f.Say("sign-out.done"), Hint: f.Say("sign-out.unwritten")})
		return
	case err != nil:
		p.o.Log.Error("sign-out failed", "error", err)
		p.failed(w, r)
		return
	}
	if err := p.o.Visitors.Lock(w.Header(), r); err != nil && !errors.As(err, &unwritten) {
		p.o.Log.Error("what was unlocked could not be ended", "error", err)
		p.failed(w, r)
		return
	}
	p.o.Visitors.Farewell(w.Header(), r)
	if asksForJSON(r) {
		w.WriteHeader(http.StatusNoContent)
		return
	}
	if !p.leaveThereToo(w, r, p.o.Elsewhere.SignOut(r.Context(), there, p.pageOf(r).Origin+t.Book.Prefix+"/elsewhere/")) {
		redirect(w, cmp.Or(next, t.Book.After(policy.AfterSignOut, &t.Visitor)))
	}
}

// asksForJSON reports whether a program of a page sent a request, and not a form.
func asksForJSON(r *http.Request) bool {
	kind, _, _ := mime.ParseMediaType(r.Header.Get("Content-Type"))
	return kind == "application/json" || strings.Contains(r.Header.Get("Accept"), "application/json")
}
