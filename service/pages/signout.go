package pages

import (
	"errors"
	"net/http"

	"ostiarius/service/ending"
	"ostiarius/service/guard"
)

func (p *Pages) signOutForm(w http.ResponseWriter, r *http.Request) {
	t := guard.TurnOf(r)
	p.render(w, r, http.StatusOK, "sign-out.html", view{Site: t.Book.Site, Prefix: t.Book.Prefix, Title: "Sign out", Account: t.Visitor.Account})
}

func (p *Pages) signOut(w http.ResponseWriter, r *http.Request) {
	t := guard.TurnOf(r)
	var unwritten *ending.Unwritten
	switch err := p.Register.SignOut(r.Context(), p.Token(r), origin(t)); {
	case errors.As(err, &unwritten):
		p.setCookie(w.Header(), r, "", -1)
		p.render(w, r, http.StatusOK, "notice.html", view{
			Site: t.Book.Site, Prefix: t.Book.Prefix, Title: "You are signed out",
			Lead: "You are signed out, here and everywhere this session was open.",
			Hint: "This could not be written down yet, and is tried again until it can be. If the site is started again before that, sign out once more.",
		})
		return
	case err != nil:
		p.Log.Error("sign-out failed", "error", err)
		http.Error(w, "Signing out does not work at the moment. Please try again.", http.StatusServiceUnavailable)
		return
	}
	p.setCookie(w.Header(), r, "", -1)
	redirect(w, t.Book.AfterSignOut(&t.Visitor))
}
