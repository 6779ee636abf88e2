package pages

import (
	"errors"
	"net/http"
	"net/url"
	"strings"

	"ostiarius/core/policy"
	"ostiarius/service/base/guard"
	"ostiarius/service/who/signin"
)

// A signInView is the sign-in page.
type signInView struct {
	frame
	Problem   string
	Done      string // what has just been done
	Next      string
	Username  string
	Offers    []offered // of what would open the page that was asked for
	Unlock    string    // where a shared password or a pass is shown that would do instead; "" for none
	Join      bool      // people make accounts by themselves
	Unsent    bool      // what was sent did not arrive, since the proof was missing
	Elsewhere []providerWay
	Passkey   string // the question for one of whoever is there; "" where nobody has any
}

func (p *Pages) signInForm(w http.ResponseWriter, r *http.Request) {
	t := guard.TurnOf(r)
	query := r.URL.Query()
	next := guard.Next(t.Book, query.Get("next"))
	if t.Visitor.SignedIn && !query.Has("other") {
		if next == "" || here(next) != "" && !p.admitted(r, t, next) {
			next = t.Book.After(policy.AfterSignIn, &t.Visitor)
		}
		redirect(w, next)
		return
	}
	if p.elsewhere(w, r, t.Book.Pages.SignIn) {
		return
	}
	v := signInView{Next: next, Unsent: query.Has("unsent")}
	if query.Has("set") {
		v.Done = p.voice(r).Say("sign-in.done-set")
	}
	if query.Has("over") {
		v.Problem = p.voice(r).Say("second.over")
	}
	p.showSignIn(w, r, http.StatusOK, v)
}

// here returns an address to go on to if it is one of this site, at which doors decide; "" for one of another origin.
func here(next string) string {
	if strings.HasPrefix(next, "/") {
		return next
	}
	return ""
}

// admitted reports whether whoever sends a request, which is at a turn, may go to an address of this site.
func (p *Pages) admitted(r *http.Request, t *guard.Turn, address string) bool {
	path, _, _ := strings.Cut(address, "?")
	d, err := p.o.Visitors.Decide(r, t, policy.Request{Method: http.MethodGet, Host: t.Place.Host, Path: path})
	return err == nil && d.Outcome == policy.Admit
}

// admits reports whether a visitor may see a page of the site, wherever they are.
func (p *Pages) admits(book *policy.Book, page string, v *policy.Visitor) bool {
	path, _, _ := strings.Cut(page, "?")
	return book.Decide(policy.Request{Method: http.MethodGet, Path: path}, v).Outcome == policy.Admit
}

// Entrance answers at the private entrance, and says that nothing is there elsewhere.
func (p *Pages) Entrance(w http.ResponseWriter, r *http.Request) {
	t := guard.TurnOf(r)
	switch {
	case t.Book.Entrance == "" || t.Place.Path != t.Book.Entrance:
		p.Missing(w, r)
	case r.Method == http.MethodPost:
		p.signIn(w, r)
	default:
		p.signInForm(w, r)
	}
}

// elsewhere leads somebody to a page of the site's own, with what they brought; it reports whether there is one.
func (p *Pages) elsewhere(w http.ResponseWriter, r *http.Request, page string) bool {
	if page == "" || !p.admitted(r, guard.TurnOf(r), page) {
		return false
	}
	redirect(w, policy.To(page, r.URL.RawQuery))
	return true
}

func (p *Pages) showSignIn(w http.ResponseWriter, r *http.Request, status int, v signInView) {
	t := guard.TurnOf(r)
	v.frame = p.frame(r, "sign-in.title")
	if v.SignIn = t.Book.Prefix + "/sign-in"; t.Book.Entrance != "" {
		v.SignIn = t.Book.Entrance
	}
	if u, err := p.unlocksAt(r, here(v.Next)); err == nil && (len(u.shared) > 0 || len(u.passes) > 0) {
		v.Unlock = t.Book.Prefix + "/unlock?next=" + url.QueryEscape(v.Next)
	}
	v.Offers = p.offersAt(r, t, here(v.Next))
	by := t.Book.Joining.By
	v.Join = v.Account == "" && (by == policy.ByAnybody || by == policy.ByApproval)
	v.Elsewhere = providers(t.Book, false)
	if page := p.pageOf(r); page.CanHave() {
		if some, err := p.o.Factors.SomePasskeys(r.Context(), page); err == nil && some {
			v.Passkey = questionText(p.o.Factors.AskAny(page))
			withScripts(w, r)
		}
	}
	p.render(w, r, status, "sign-in.html", v)
}

// signIn takes name and password: from our own form; from a form of the site's own, which
// names its page in the field form and is sent back there with a code if something is
// wrong; or as JSON from a script.
func (p *Pages) signIn(w http.ResponseWriter, r *http.Request) {
	t := guard.TurnOf(r)
	say := p.voice(r)
	s, err := readSent(w, r, t.Book)
	var in signin.SignedIn
	var wrong trouble
	switch {
	case err != nil:
		wrong = trouble{"malformed", unread(err), say.Say("wrong.malformed"), 0}
	case s.Passkey != "":
		from := p.o.Visitors.Origin(r)
		from.Before = p.o.Visitors.Token(r)
		if in, err = p.o.SignIn.SignInByPasskey(r.Context(), p.shownIn(r, &s), from, s.Remember); err != nil {
			wrong = p.troubleOf(say, err, say.Say("passkey.wrong"))
		}
	case s.Username == "" || s.Password == "":
		wrong = trouble{"missing", http.StatusUnprocessableEntity, say.Say("wrong.missing"), 0}
	default:
		from := p.o.Visitors.Origin(r)
		from.Before = p.o.Visitors.Token(r)
		if in, err = p.o.SignIn.SignIn(r.Context(), s.Username, s.Password, from, s.Remember); err != nil {
			if second := (*signin.Second)(nil); errors.As(err, &second) {
				p.askSecond(w, r, &s, second)
				return
			}
			wrong = p.troubleOf(say, err, say.Say("wrong.sign-in"))
		}
	}
	if wrong.Code != "" {
		s.refuse(w, wrong, func() {
			p.showSignIn(w, r, wrong.Status, signInView{Problem: wrong.Text, Next: s.Next, Username: s.Username})
		})
		return
	}
	p.signedIn(w, r, &s, in)
}

// signedIn welcomes somebody, and leads them where they wanted to go; whoever has asked for no page, and should have set something
// up that they have not, past where they can.
func (p *Pages) signedIn(w http.ResponseWriter, r *http.Request, s *sent, in signin.SignedIn) {
	t := guard.TurnOf(r)
	p.o.Visitors.Welcome(w.Header(), r, in)
	if s.Next == "" {
		s.Next = t.Book.After(policy.AfterSignIn, &in.Visitor)
		if v := &in.Visitor; !s.json && policy.FactorWantedOf(t.Book, v.Roles, v.Enrolled) != "" {
			s.Next = t.Book.Prefix + "/account/factors?wanted&next=" + url.QueryEscape(s.Next)
		}
	}
	if s.json {
		roles := in.Visitor.Roles
		if roles == nil {
			roles = []string{}
		}
		writeJSON(w, map[string]any{"signedIn": true, "name": in.Visitor.Account, "roles": roles, "next": s.Next})
		return
	}
	redirect(w, s.Next)
}
