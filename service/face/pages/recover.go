package pages

import (
	"errors"
	"net/http"
	"net/url"

	"ostiarius/core/policy"
	"ostiarius/service/base/guard"
	"ostiarius/service/who/people"
	"ostiarius/service/who/recovery"
	"ostiarius/service/who/signin"
)

// A recoverView is the page that sets a password with a link.
type recoverView struct {
	frame
	Problem  string
	Done     string // what has just been done
	Username string
	Link     string // the token of the link
}

// recoverForm asks somebody who brings a link for the password that is to be set, and others whose it is. Looking
// at the page does not use up the link: programs that look at mail open links too.
func (p *Pages) recoverForm(w http.ResponseWriter, r *http.Request) {
	query := r.URL.Query()
	switch {
	case query.Has("link"):
		p.showRecover(w, r, http.StatusOK, recoverView{Link: query.Get("link")})
	case query.Has("asked"):
		f := p.frame(r, "recover.asked-title")
		p.render(w, r, http.StatusOK, "notice.html", notice{frame: f, Lead: f.Say("recover.asked"), Hint: f.Say("recover.asked-hint")})
	case p.elsewhere(w, r, guard.TurnOf(r).Book.Pages.Recover):
	default:
		v := recoverView{}
		if query.Has("undone") {
			v.Done = p.voice(r).Say("account.done-email-undone")
		}
		p.showAskRecovery(w, r, http.StatusOK, v)
	}
}

func (p *Pages) showAskRecovery(w http.ResponseWriter, r *http.Request, status int, v recoverView) {
	v.frame = p.frame(r, "recover.ask-title")
	if !p.o.Mails { // no link can be sent, so none is promised
		p.render(w, r, status, "notice.html", notice{frame: v.frame, Lead: v.Say("recover.no-mail")})
		return
	}
	p.render(w, r, status, "recover-ask.html", v)
}

func (p *Pages) showRecover(w http.ResponseWriter, r *http.Request, status int, v recoverView) {
	w.Header().Set("Referrer-Policy", "no-referrer") // the address has the link
	v.frame = p.frame(r, "recover.title")
	name, ok, err := p.o.People.LinkedAccount(r.Context(), v.Link)
	switch {
	case err != nil:
		p.o.Log.Error("a link could not be looked up", "error", err)
		p.failed(w, r)
	case !ok:
		p.ended(w, r, "recover.ended", "recover.ended-hint")
	default:
		v.Username = name
		p.render(w, r, status, "recover.html", v)
	}
}

// ended says that a link has ended.
func (p *Pages) ended(w http.ResponseWriter, r *http.Request, lead, hint string) {
	f := p.frame(r, "recover.ended-title")
	p.render(w, r, http.StatusGone, "notice.html", notice{frame: f, Lead: f.Say(lead), Hint: f.Say(hint)})
}

// recover sets a password for whoever brings a link, and has one sent to others.
func (p *Pages) recover(w http.ResponseWriter, r *http.Request) {
	t := guard.TurnOf(r)
	say := p.voice(r)
	s, err := readSent(w, r, t.Book)
	switch {
	case err != nil:
		wrong := trouble{"malformed", unread(err), say.Say("wrong.malformed"), 0}
		s.refuse(w, wrong, func() { p.showAskRecovery(w, r, wrong.Status, recoverView{Problem: wrong.Text}) })
	case s.link != "":
		p.setByLink(w, r, s)
	default:
		p.askRecovery(w, r, s)
	}
}

func (p *Pages) setByLink(w http.ResponseWriter, r *http.Request, s sent) {
	v, say := recoverView{Link: s.link}, p.voice(r)
	if s.Password != s.again {
		v.Problem = say.Say("wrong.differ")
		p.showRecover(w, r, http.StatusUnprocessableEntity, v)
		return
	}
	from := p.o.Visitors.Origin(r)
	if err := p.o.People.UseLink(r.Context(), s.link, s.Password, from.Network, from.Language); err != nil {
		wrong := p.troubleOf(say, err, "")
		wrong.header(w)
		v.Problem = wrong.Text
		p.showRecover(w, r, wrong.Status, v)
		return
	}
	redirect(w, policy.To(guard.TurnOf(r).Book.SignInAt(), "set&other"))
}

func (p *Pages) askRecovery(w http.ResponseWriter, r *http.Request, s sent) {
	say, typed := p.voice(r), s.Username
	if typed == "" {
		typed = s.Email
	}
	wrong := trouble{}
	if !p.o.Mails {
		wrong = trouble{"refused", http.StatusUnprocessableEntity, say.Say("recover.no-mail"), 0}
	} else if typed == "" {
		wrong = trouble{"missing", http.StatusUnprocessableEntity, say.Say("wrong.missing-name"), 0}
	} else if err := p.ask(r, typed); err != nil {
		wrong = p.troubleOf(say, err, "")
	}
	switch {
	case wrong.Code != "":
		s.refuse(w, wrong, func() {
			p.showAskRecovery(w, r, wrong.Status, recoverView{Problem: wrong.Text, Username: typed})
		})
	case s.json:
		w.Header().Set("Cache-Control", "private, no-store")
		w.WriteHeader(http.StatusNoContent)
	case s.form != "":
		redirect(w, withQuery(s.form, url.Values{"done": {"asked"}}))
	default:
		redirect(w, guard.TurnOf(r).Book.Prefix+"/recover?asked")
	}
}

func (p *Pages) ask(r *http.Request, typed string) error {
	from := p.o.Visitors.Origin(r)
	return p.o.Recovery.Ask(r.Context(), signin.Keys(typed), from.Network, from.Language)
}

// An addressView is the page of a link about an address.
type addressView struct {
	frame
	About, Go string // keys of sentences
	recovery.Change
	Link   string
	SignIn string // where the owner signs in first, and comes back; "" where that isn't needed
}

// addressForm asks whoever brings a link about an address to go on: programs that look at mail open links too.
func (p *Pages) addressForm(w http.ResponseWriter, r *http.Request) {
	w.Header().Set("Referrer-Policy", "no-referrer")
	link := r.URL.Query().Get("link")
	c, err := p.o.Recovery.Change(r.Context(), link)
	if err != nil {
		p.addressFailed(w, r, err)
		return
	}
	v := addressView{frame: p.frame(r, "address.title"), About: "address.about", Go: "address.go", Change: c, Link: link}
	switch {
	case c.Undo:
		v.Title, v.About, v.Go = v.Say("address.undo-title"), "address.undo-about", "address.undo-go"
	case !c.IsOf(p.owner(r)):
		t := guard.TurnOf(r)
		v.SignIn = policy.To(t.Book.SignInAt(), "other&next="+url.QueryEscape(t.Book.Prefix+"/address?link="+url.QueryEscape(link)))
	}
	p.render(w, r, http.StatusOK, "address.html", v)
}

func (p *Pages) addressFailed(w http.ResponseWriter, r *http.Request, err error) {
	if errors.Is(err, people.ErrLink) {
		p.ended(w, r, "address.ended", "address.ended-hint")
		return
	}
	p.o.Log.Error("a link about an address could not be followed", "error", err)
	p.failed(w, r)
}

// owner is the number of the account whose session a request belongs to; 0 for none. An access key is no session.
func (p *Pages) owner(r *http.Request) int64 {
	if !guard.TurnOf(r).Visitor.SignedIn {
		return 0
	}
	_, a, _, err := p.o.Sessions.Of(r.Context(), p.o.Visitors.Token(r))
	if err != nil {
		return 0
	}
	return a.ID
}

func (p *Pages) useAddress(w http.ResponseWriter, r *http.Request) {
	t := guard.TurnOf(r)
	s, err := readSent(w, r, t.Book)
	var c recovery.Change
	if err == nil {
		from := p.o.Visitors.Origin(r)
		c, err = p.o.Recovery.MakeChange(r.Context(), s.link, p.owner(r), from.Network, from.Language)
	}
	switch {
	case errors.Is(err, recovery.ErrOwner):
		redirect(w, t.Book.Prefix+"/address?link="+url.QueryEscape(s.link))
	case err != nil:
		p.addressFailed(w, r, err)
	case c.Undo: // somebody else may know the password
		redirect(w, t.Book.Prefix+"/recover?undone")
	case t.Visitor.SignedIn:
		redirect(w, t.Book.Prefix+"/account?done=email-proven")
	default:
		f := p.frame(r, "account.title")
		p.render(w, r, http.StatusOK, "notice.html", notice{frame: f, Lead: f.Say("account.done-email-proven")})
	}
}
