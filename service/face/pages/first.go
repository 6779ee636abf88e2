package pages

import (
	"net/http"
	"strings"

	"ostiarius/service/base/guard"
)

// A firstView is the page on which the first steward makes an account.
type firstView struct {
	frame
	Problem  string
	Username string
	Link     string // the token of the link
}

// firstForm asks somebody who brings a link for the name and the password of the first account. Looking at the page
// does not use up the link.
func (p *Pages) firstForm(w http.ResponseWriter, r *http.Request) {
	p.showFirst(w, r, http.StatusOK, firstView{Link: r.URL.Query().Get("link")})
}

func (p *Pages) showFirst(w http.ResponseWriter, r *http.Request, status int, v firstView) {
	w.Header().Set("Referrer-Policy", "no-referrer") // the address has the link
	good, err := p.o.SignIn.IsFirst(r.Context(), v.Link)
	switch {
	case err != nil:
		p.o.Log.Error("a link could not be looked up", "error", err)
		p.failed(w, r)
	case !good:
		p.ended(w, r, "first.ended", "first.ended-hint")
	default:
		v.frame = p.frame(r, "first.title")
		p.render(w, r, status, "first.html", v)
	}
}

func (p *Pages) makeFirst(w http.ResponseWriter, r *http.Request) {
	t := guard.TurnOf(r)
	if err := readForm(w, r); err != nil {
		p.showFirst(w, r, unread(err), firstView{Problem: p.voice(r).Say("wrong.malformed")})
		return
	}
	f := r.PostForm
	v := firstView{Link: f.Get("link"), Username: strings.TrimSpace(f.Get("username"))}
	if f.Get("password") != f.Get("again") {
		v.Problem = p.voice(r).Say("wrong.differ")
		p.showFirst(w, r, http.StatusUnprocessableEntity, v)
		return
	}
	in, err := p.o.SignIn.First(r.Context(), v.Link, v.Username, f.Get("password"), p.o.Visitors.Origin(r))
	if err != nil {
		wrong := p.troubleOf(p.voice(r), err, "")
		wrong.header(w)
		v.Problem = wrong.Text
		p.showFirst(w, r, wrong.Status, v)
		return
	}
	p.o.Visitors.Welcome(w.Header(), r, in)
	redirect(w, t.Book.Prefix+"/console/site")
}
