package pages

import (
	"net/http"
	"net/url"
	"time"

	"github.com/go-chi/chi/v5"

	"ostiarius/core/account"
	"ostiarius/service/base/guard"
)

// A page of the site can run scripts. They have the cookie of the person who views the page, so they could send any of our
// forms in that person's name, and read the answer. Each form that changes something therefore names what such a script
// lacks. The list below is the only way to add one.

// A Protection is what keeps a script of the site from sending one of our forms in a visitor's name.
type Protection string

// The protections.
const (
	// ByMark: the form carries the mark of the page that it is on, or else the password. The mark is given only to a page
	// that somebody navigates to, and a script can't read such a page.
	ByMark Protection = "mark"
	// ByPassword: the form always asks for the password.
	ByPassword Protection = "password"
	// BySecret: the form carries something that only its sender has: a link, a code, a password that is being tried.
	BySecret Protection = "secret"
	// Harmless: the form changes nothing that a page of the site could not change anyway.
	Harmless Protection = "harmless"
)

// A Change is a form that changes something.
type Change struct {
	Path string // below the prefix, as chi writes it
	By   Protection
	back string                   // with ByMark, the page that has the form, below the prefix
	when func(*http.Request) bool // with ByMark, whether the mark is asked for; nil for always
	do   http.HandlerFunc
}

// Changes lists all forms that change something.
func Changes() []Change { return (&Pages{}).changes() }

func (p *Pages) changes() []Change {
	return []Change{
		{Path: "/sign-in", By: BySecret, do: p.signIn},
		{Path: "/sign-in/second", By: BySecret, do: p.second},
		{Path: "/sign-out", By: Harmless, do: p.signOut},
		{Path: "/prove-again", By: BySecret, do: p.proveAgain},
		{Path: "/recover", By: BySecret, do: p.recover},
		{Path: "/join", By: BySecret, do: p.join},
		{Path: "/first", By: BySecret, do: p.makeFirst},
		{Path: "/unlock", By: BySecret, do: p.unlock},
		{Path: "/pass", By: BySecret, do: p.pass},
		{Path: "/claim", By: BySecret, do: p.claim},
		{Path: "/events", By: BySecret, do: p.takeEvent},
		{Path: "/address", By: BySecret, do: p.useAddress},
		{Path: "/language", By: Harmless, do: p.chooseLanguage},
		{Path: "/other-name", By: Harmless, do: p.otherName},
		{Path: "/walk/end", By: Harmless, do: p.endWalk},

		{Path: "/account/password", By: ByPassword, do: p.changePassword},
		{Path: "/account/address", By: ByPassword, do: p.askAddress},
		{Path: "/account/leave", By: ByPassword, do: p.leave},
		{Path: "/account/stay", By: ByMark, back: "/account", do: p.stay},
		{Path: "/account/sessions", By: ByMark, back: "/account", do: p.endSessions},

		{Path: "/account/factors/keep", By: ByMark, back: "/account/factors",
			do: p.change("kept", func(r *http.Request, a *account.Account) error {
				return p.o.Factors.DropReset(r.Context(), a.Name, a, p.o.Visitors.Origin(r))
			})},
		{Path: "/account/code", By: ByMark, back: "/account/code", do: p.setUp},
		{Path: "/account/code/remove", By: ByMark, back: "/account/factors",
			do: p.change("removed", func(r *http.Request, a *account.Account) error {
				return p.o.Factors.RemoveCode(r.Context(), a, p.o.Visitors.Origin(r))
			})},
		{Path: "/account/kept", By: ByMark, back: "/account/factors", do: p.newKept},
		{Path: "/account/passkeys", By: ByMark, back: "/account/factors", do: p.addPasskey},
		{Path: "/account/passkeys/remove", By: ByMark, back: "/account/factors",
			do: p.change("removed", func(r *http.Request, a *account.Account) error {
				return p.o.Factors.Remove(r.Context(), a, r.PostForm.Get("id"), p.o.Visitors.Origin(r))
			})},
		{Path: "/account/browsers", By: ByMark, back: "/account/factors",
			do: p.change("forgotten", func(r *http.Request, a *account.Account) error {
				return p.o.Factors.Forget(r.Context(), a, r.PostForm.Get("end"), p.o.Visitors.Origin(r))
			})},
		{Path: "/account/access-keys", By: ByMark, back: "/account/access-keys", do: p.makeKey},
		{Path: "/account/access-keys/remove", By: ByMark, back: "/account/access-keys", do: p.removeKey},

		{Path: "/elsewhere/{name}", By: ByMark, back: "/account/factors", when: linking, do: p.goElsewhere},
		{Path: "/elsewhere/{name}/first", By: ByMark, back: "/account/factors", when: signedIn, do: p.settleElsewhere},
		{Path: "/account/elsewhere/unlink", By: ByMark, back: "/account/factors",
			do: p.change("removed", func(r *http.Request, a *account.Account) error {
				return p.o.Elsewhere.Unlink(r.Context(), a, r.PostForm.Get("provider"), p.o.Visitors.Token(r), p.o.Visitors.Origin(r))
			})},
		{Path: "/elsewhere/{name}/sign-out", By: BySecret, do: p.loggedOut}, // a provider sends this, and signs it
	}
}

// linking reports whether somebody goes to a provider to link an account there.
func linking(r *http.Request) bool { return r.PostForm.Get("to") == "link" }

func signedIn(r *http.Request) bool { return guard.TurnOf(r).Visitor.SignedIn }

// routeChanges adds them to the router.
func (p *Pages) routeChanges(r chi.Router) {
	for _, c := range p.changes() {
		do := c.do
		if c.By == ByMark {
			do = p.marked(c)
		}
		r.Post(c.Path, do)
	}
}

// How long the mark of a page is valid.
const markLasts = time.Hour

// marked carries out a change only if its form shows the mark of our page, or the password.
func (p *Pages) marked(c Change) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		t := guard.TurnOf(r)
		if err := readForm(w, r); err != nil {
			f := p.frame(r, "account.title")
			p.render(w, r, unread(err), "notice.html", notice{frame: f, Lead: f.Say("wrong.malformed"), Back: t.Book.Prefix + c.back})
			return
		}
		if c.when != nil && !c.when(r) {
			c.do(w, r)
			return
		}
		owner := p.MarkOwner(r)
		if mark := r.PostForm.Get("mark"); owner != "" && p.marks.Age(mark, owner, time.Now()) <= markLasts {
			c.do(w, r)
			return
		}
		if password := r.PostForm.Get("password"); password != "" {
			_, err := p.o.SignIn.Owner(r.Context(), p.o.Visitors.Token(r), password, p.o.Visitors.Origin(r))
			if err == nil {
				c.do(w, r)
				return
			}
			say := p.voice(r)
			wrong := p.troubleOf(say, err, say.Say("wrong.again", "name", t.Visitor.Account))
			wrong.header(w)
			p.render(w, r, wrong.Status, "notice.html", notice{frame: p.frame(r, "account.title"), Lead: wrong.Text, Back: t.Book.Prefix + c.back})
			return
		}
		redirect(w, t.Book.Prefix+"/prove-again?unsent&next="+url.QueryEscape(t.Book.Prefix+c.back))
	}
}

// markedFrame is frame for a page with forms that carry a mark. Only a page that somebody navigates to in a window gets one
// (W3C Fetch Metadata, sections 2.1 and 2.2): no script that fetches the page, and no frame within another. A page of the
// site that has opened ours in a window can't look into it. Browsers that don't say how a page is loaded get no mark, and
// their forms ask for the password instead.
func (p *Pages) markedFrame(w http.ResponseWriter, r *http.Request, title string) frame {
	f := p.frame(r, title)
	w.Header().Set("Cross-Origin-Opener-Policy", "same-origin")
	if r.Header.Get("Sec-Fetch-Mode") == "navigate" && r.Header.Get("Sec-Fetch-Dest") == "document" {
		if owner := p.MarkOwner(r); owner != "" {
			f.Mark = p.marks.Mark(owner, time.Now())
		}
	}
	return f
}

// MarkOwner names the session for which a page is marked; "" for none. An access key has none.
func (p *Pages) MarkOwner(r *http.Request) string {
	s, a, _, err := p.o.Sessions.Of(r.Context(), p.o.Visitors.Token(r))
	if err != nil || s.Family == "" {
		return ""
	}
	return s.Family + " " + a.Name
}
