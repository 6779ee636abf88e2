package pages

import (
	"errors"
	"net/http"
	"net/url"
	"strings"

	"github.com/go-chi/chi/v5"

	"ostiarius/core/account"
	"ostiarius/core/policy"
	"ostiarius/service/base/guard"
	"ostiarius/service/door/visitor"
	"ostiarius/service/who/elsewhere"
	"ostiarius/service/who/signin"
)

// A providerWay is a way to sign in with an account elsewhere, as a page offers it.
type providerWay struct {
	Name, Title string
	At          string // where its form goes
}

// providers are those that the policy has; with joins only those with whose accounts people join.
func providers(book *policy.Book, joins bool) (all []providerWay) {
	for _, d := range book.Elsewhere {
		if !joins || d.Joins {
			all = append(all, providerWay{d.Name, d.Title, book.Prefix + "/elsewhere/" + d.Name})
		}
	}
	return all
}

// A leaveView is the page from which somebody goes to a provider.
type leaveView struct {
	frame
	Title2 string // of the provider
	To     string
	At     string // where the form goes, before it is known where they go
	Next   string
}

// elsewhereForm asks before it sends somebody away.
func (p *Pages) elsewhereForm(w http.ResponseWriter, r *http.Request) {
	t := guard.TurnOf(r)
	d := policy.ElsewhereNamed(t.Book, chi.URLParam(r, "name"))
	if d == nil {
		p.Missing(w, r)
		return
	}
	f := p.frame(r, "sign-in.title")
	p.render(w, r, http.StatusOK, "elsewhere.html",
		leaveView{frame: f, Title2: d.Title, At: t.Book.Prefix + "/elsewhere/" + d.Name, Next: guard.Next(t.Book, r.URL.Query().Get("next"))})
}

// goElsewhere sends somebody to a provider: to sign in, to link an account there with theirs, or to prove who they are.
func (p *Pages) goElsewhere(w http.ResponseWriter, r *http.Request) {
	t := guard.TurnOf(r)
	d := policy.ElsewhereNamed(t.Book, chi.URLParam(r, "name"))
	if d == nil {
		p.Missing(w, r)
		return
	}
	if err := readForm(w, r); err != nil {
		p.notElsewhere(w, r, d, err)
		return
	}
	purpose, a, ok := p.purposeOf(w, r)
	if !ok {
		return
	}
	next := guard.Next(t.Book, r.PostForm.Get("next"))
	to, token, err := p.o.Elsewhere.Begin(r.Context(), d.Name, purpose, a, p.pageOf(r).Origin+t.Book.Prefix+"/elsewhere/"+d.Name+"/back", next)
	if err != nil {
		p.notElsewhere(w, r, d, err)
		return
	}
	visitor.Carry(p.o.Visitors, w.Header(), r, visitor.Way, token)
	// Not by a redirect: browsers follow none from a form to another site where a page's forms stay at this one (CSP Level 3, form-action).
	w.Header().Set("Refresh", "0; url="+to)
	p.render(w, r, http.StatusOK, "elsewhere.html", leaveView{frame: p.frame(r, "elsewhere.leaving"), Title2: d.Title, To: to})
}

// purposeOf reads why somebody goes to a provider, and returns the account for which they do, nil to sign in. If that cannot be, it
// has answered.
func (p *Pages) purposeOf(w http.ResponseWriter, r *http.Request) (purpose elsewhere.Purpose, a *account.Account, ok bool) {
	t := guard.TurnOf(r)
	to := r.PostForm.Get("to")
	if to != "link" && to != "prove" {
		return elsewhere.ToSignIn, nil, true
	}
	if !t.Visitor.SignedIn { // the session has ended meanwhile
		redirect(w, policy.To(t.Book.Prefix+"/sign-in", "next="+url.QueryEscape(t.Book.Prefix+"/account/factors")))
		return "", nil, false
	}
	if to == "link" {
		a = p.sure(w, r, "factors")
		return elsewhere.ToLink, a, a != nil
	}
	a, err := p.o.People.Find(r.Context(), t.Visitor.Account)
	if err != nil {
		p.failed(w, r)
	}
	return elsewhere.ToProve, a, err == nil
}

// backFromElsewhere takes somebody who comes back from a provider. That is a GET by the standard; what it may do is bound to the
// browser that was sent there.
func (p *Pages) backFromElsewhere(w http.ResponseWriter, r *http.Request) {
	t := guard.TurnOf(r)
	w.Header().Set("Referrer-Policy", "no-referrer") // the address has a code
	d := policy.ElsewhereNamed(t.Book, chi.URLParam(r, "name"))
	if d == nil {
		p.Missing(w, r)
		return
	}
	from := p.o.Visitors.Origin(r)
	from.Before = p.o.Visitors.Token(r)
	token := visitor.Carried(p.o.Visitors, r, visitor.Way)
	visitor.Carry(p.o.Visitors, w.Header(), r, visitor.Way, "")
	came, err := p.o.Elsewhere.Back(r.Context(), d.Name, token, from.Before, r.URL.Query(), from)
	if second := (*signin.Second)(nil); errors.As(err, &second) {
		p.askSecond(w, r, &sent{Next: came.Next}, second)
		return
	}
	switch {
	case err != nil:
		p.notElsewhere(w, r, d, err)
	case came.First != "":
		visitor.Carry(p.o.Visitors, w.Header(), r, visitor.First, came.First)
		redirect(w, policy.To(t.Book.Prefix+"/elsewhere/"+d.Name+"/first", "next="+url.QueryEscape(came.Next)))
	case came.Purpose == elsewhere.ToProve:
		if came.Renewal != nil {
			p.o.Visitors.Renew(w.Header(), r, came.Renewal)
		}
		if came.Next == "" {
			came.Next = t.Book.After(policy.AfterSignIn, &t.Visitor)
		}
		redirect(w, came.Next)
	case came.Purpose == elsewhere.ToLink: // it was linked already
		redirect(w, t.Book.Prefix+"/account/factors?done=linked")
	default:
		p.signedIn(w, r, &sent{Next: came.Next}, came.SignedIn)
	}
}

// notElsewhere says what has become of a way to a provider that came to nothing, in words that help.
func (p *Pages) notElsewhere(w http.ResponseWriter, r *http.Request, d *policy.DeclaredElsewhere, err error) {
	f := p.frame(r, "elsewhere.failed-title")
	status, lead := http.StatusServiceUnavailable, "wrong.failed"
	switch {
	case errors.Is(err, elsewhere.ErrDown):
		lead = "elsewhere.down"
	case errors.Is(err, elsewhere.ErrRefused):
		status, lead = http.StatusForbidden, "elsewhere.refused"
	case errors.Is(err, elsewhere.ErrLate):
		status, lead = http.StatusBadRequest, "elsewhere.late"
	case errors.Is(err, elsewhere.ErrUntrue):
		status, lead = http.StatusBadGateway, "elsewhere.untrue"
	case errors.Is(err, elsewhere.ErrOther):
		status, lead = http.StatusForbidden, "elsewhere.other"
	case errors.Is(err, signin.ErrDisabled):
		status, lead = http.StatusForbidden, "wrong.disabled"
	case errors.Is(err, signin.ErrOver):
		status, lead = http.StatusForbidden, "second.over"
	case err != nil:
		p.o.Log.Error("an account elsewhere", "provider", d.Name, "error", err)
	}
	v := notice{frame: f, Lead: f.Say(lead, "title", d.Title), Hint: f.Say("elsewhere.failed-hint")}
	if f.SignIn != "" {
		v.Back = f.SignIn
	}
	p.render(w, r, status, "notice.html", v)
}

// A firstView is the page for somebody who has come from a provider, and whom no account here is known for.
type firstElsewhereView struct {
	frame
	Problem  string
	Lead     string
	At, Next string
	Name     string // of the account that they would make, as they typed it
	Joins    bool
	Asks     bool // for an agreement
	Terms    any
	Privacy  any
	Links    bool   // it can be linked with the account that is signed in
	SignInTo string // where one signs in, and comes back to this page
}

func (p *Pages) firstElsewhere(w http.ResponseWriter, r *http.Request) {
	p.showFirstElsewhere(w, r, http.StatusOK, firstElsewhereView{Next: guard.Next(guard.TurnOf(r).Book, r.URL.Query().Get("next"))})
}

func (p *Pages) showFirstElsewhere(w http.ResponseWriter, r *http.Request, status int, v firstElsewhereView) {
	t := guard.TurnOf(r)
	d := policy.ElsewhereNamed(t.Book, chi.URLParam(r, "name"))
	if d == nil {
		p.Missing(w, r)
		return
	}
	i, err := p.o.Elsewhere.Kept(d.Name, visitor.Carried(p.o.Visitors, r, visitor.First))
	if err != nil {
		p.notElsewhere(w, r, d, err)
		return
	}
	v.frame = p.markedFrame(w, r, "elsewhere.first-title")
	v.At = t.Book.Prefix + "/elsewhere/" + d.Name + "/first"
	back := v.At
	if v.Next != "" {
		back += "?next=" + url.QueryEscape(v.Next)
	}
	v.SignInTo = policy.To(t.Book.Prefix+"/sign-in", "next="+url.QueryEscape(back))
	if t.Book.Entrance != "" {
		v.SignInTo = policy.To(t.Book.Entrance, "next="+url.QueryEscape(back))
	}
	v.Links = t.Visitor.SignedIn
	v.Joins = d.Joins && !v.Links && i.Account == 0
	v.Lead = v.Say("elsewhere.first", "as", i.KnownAs(), "title", d.Title)
	if v.Links {
		v.Lead = v.Say("elsewhere.link", "as", i.KnownAs(), "title", d.Title, "name", t.Visitor.Account)
	}
	if v.Name == "" {
		v.Name, _, _ = strings.Cut(i.Username, "@")
	}
	j := &t.Book.Joining
	v.Asks = j.Asks()
	v.Terms, v.Privacy = v.linked("join.agree", "terms", j.Terms), v.linked("join.agree-privacy", "privacy", j.Privacy)
	p.render(w, r, status, "elsewhere-first.html", v)
}

// settleElsewhere links an account, or makes one, as somebody has said.
func (p *Pages) settleElsewhere(w http.ResponseWriter, r *http.Request) {
	t := guard.TurnOf(r)
	d := policy.ElsewhereNamed(t.Book, chi.URLParam(r, "name"))
	if d == nil {
		p.Missing(w, r)
		return
	}
	say := p.voice(r)
	s, err := readSent(w, r, t.Book)
	if err != nil {
		p.showFirstElsewhere(w, r, unread(err), firstElsewhereView{Problem: say.Say("wrong.malformed")})
		return
	}
	from, token := p.o.Visitors.Origin(r), visitor.Carried(p.o.Visitors, r, visitor.First)
	if t.Visitor.SignedIn {
		a := p.sure(w, r, "factors")
		if a == nil {
			return
		}
		if err := p.o.Elsewhere.Link(r.Context(), d.Name, token, a, from); err != nil {
			p.notLinked(w, r, d, err)
			return
		}
		visitor.Carry(p.o.Visitors, w.Header(), r, visitor.First, "")
		if s.Next == "" {
			s.Next = t.Book.Prefix + "/account/factors?done=linked"
		}
		redirect(w, s.Next)
		return
	}
	from.Before = p.o.Visitors.Token(r)
	in, err := p.o.Elsewhere.Join(r.Context(), d.Name, token, s.Username, s.Agree, from)
	if second := (*signin.Second)(nil); errors.As(err, &second) {
		p.askSecond(w, r, &s, second)
		return
	}
	if errors.Is(err, elsewhere.ErrLate) {
		p.notElsewhere(w, r, d, err)
		return
	}
	if err != nil {
		wrong := p.troubleOf(say, err, "")
		if errors.Is(err, elsewhere.ErrAgree) {
			wrong = trouble{"agree", http.StatusUnprocessableEntity, say.Say("wrong.agree"), 0}
		}
		p.showFirstElsewhere(w, r, wrong.Status, firstElsewhereView{Problem: wrong.Text, Name: s.Username, Next: s.Next})
		return
	}
	visitor.Carry(p.o.Visitors, w.Header(), r, visitor.First, "")
	if s.Next == "" {
		s.Next = t.Book.After(policy.AfterJoining, &in.Visitor)
	}
	p.signedIn(w, r, &s, in)
}

// notLinked says why an account could not be linked.
func (p *Pages) notLinked(w http.ResponseWriter, r *http.Request, d *policy.DeclaredElsewhere, err error) {
	if errors.Is(err, elsewhere.ErrLate) || errors.Is(err, elsewhere.ErrOther) {
		p.notElsewhere(w, r, d, err)
		return
	}
	p.unchanged(w, r, err)
}

// loggedOut is told by a provider that somebody has signed out there (Back-Channel Logout 1.0, section 2.5).
func (p *Pages) loggedOut(w http.ResponseWriter, r *http.Request) {
	w.Header().Set("Cache-Control", "no-store")
	if err := readForm(w, r); err != nil {
		http.Error(w, "The logout token is sent as a form.", http.StatusBadRequest)
		return
	}
	switch err := p.o.Elsewhere.LoggedOut(r.Context(), chi.URLParam(r, "name"), r.PostForm.Get("logout_token"), p.o.Visitors.Origin(r)); {
	case errors.Is(err, elsewhere.ErrUnknown):
		p.Missing(w, r)
	case errors.Is(err, elsewhere.ErrUntrue):
		http.Error(w, "The logout token was not taken.", http.StatusBadRequest)
	case err != nil:
		http.Error(w, "The sessions could not be ended at the moment.", http.StatusServiceUnavailable)
	}
}

// signedOutElsewhere is where a provider leads to after somebody has signed out there.
func (p *Pages) signedOutElsewhere(w http.ResponseWriter, r *http.Request) {
	t := guard.TurnOf(r)
	redirect(w, t.Book.After(policy.AfterSignOut, &t.Visitor))
}

// leaveThereToo leads somebody who has just signed out here to where they sign out elsewhere, and reports whether they do.
func (p *Pages) leaveThereToo(w http.ResponseWriter, r *http.Request, to string) bool {
	if to == "" || asksForJSON(r) {
		return false
	}
	w.Header().Set("Refresh", "0; url="+to)
	p.render(w, r, http.StatusOK, "elsewhere.html", leaveView{frame: p.frame(r, "elsewhere.signing-out"), To: to})
	return true
}
