package pages

import (
	"net/http"

	"ostiarius/service/guard"
)

// recoverForm asks somebody who brings a link for the password that is to be set. Looking
// at the page does not use up the link: programs that look at mail open links too.
func (p *Pages) recoverForm(w http.ResponseWriter, r *http.Request) {
	p.showRecover(w, r, http.StatusOK, view{Link: r.URL.Query().Get("link")})
}

func (p *Pages) showRecover(w http.ResponseWriter, r *http.Request, status int, v view) {
	t := guard.TurnOf(r)
	w.Header().Set("Referrer-Policy", "no-referrer") // the address has the link
	v.Site, v.Prefix, v.Title = t.Book.Site, t.Book.Prefix, "Set your password"
	name, ok, err := p.Register.LinkedAccount(r.Context(), v.Link)
	switch {
	case err != nil:
		p.Log.Error("a link could not be looked up", "error", err)
		http.Error(w, "That does not work at the moment. Please try again in a while.", http.StatusServiceUnavailable)
	case !ok:
		p.render(w, r, http.StatusGone, "notice.html", view{
			Site: v.Site, Prefix: v.Prefix, Title: "This link has ended",
			Lead: "A link to set a password works once, and for three days.",
			Hint: "If your password is not set, ask the people who run this site for another link.",
		})
	default:
		v.Username = name
		p.render(w, r, status, "recover.html", v)
	}
}

func (p *Pages) recover(w http.ResponseWriter, r *http.Request) {
	t := guard.TurnOf(r)
	if err := readForm(w, r); err != nil {
		p.showRecover(w, r, unread(err), view{Problem: "The form could not be read. Please fill it in again."})
		return
	}
	f := r.PostForm
	v := view{Link: f.Get("link")}
	if f.Get("password") != f.Get("again") {
		v.Problem = "You typed two different passwords. Please type the same one twice."
		p.showRecover(w, r, http.StatusUnprocessableEntity, v)
		return
	}
	if err := p.Register.UseLink(r.Context(), v.Link, f.Get("password"), origin(t)); err != nil {
		wrong := p.troubleOf(err, "")
		wrong.header(w)
		v.Problem = wrong.Text
		p.showRecover(w, r, wrong.Status, v)
		return
	}
	redirect(w, t.Book.Prefix+"/sign-in?set&other")
}
