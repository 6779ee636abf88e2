package pages

import (
	"net/http"
	"net/url"
	"slices"
	"time"

	"ostiarius/core/account"
	"ostiarius/core/policy"
	"ostiarius/core/words"
	"ostiarius/service/base/guard"
	"ostiarius/service/shop/events"
	"ostiarius/service/who/sessions"
)

// An accountView is the page of one's own account.
type accountView struct {
	frame
	Problem  string
	Done     string // what has just been done
	NewEmail string // as it was typed
	Leaving  string // when the account is deleted, in a sentence; "" for not at all
	Leave    string // what becomes of it if one wants that; "" if one cannot
	Details  []detail
	Sessions []shownSession
	Bought   []shownBought
}

// A shownBought is something that somebody has bought, as they see it.
type shownBought struct {
	Title, About string
}

// A detail is a line about an account.
type detail struct{ Name, Value string }

// A shownSession is a session as its owner sees it.
type shownSession struct {
	Handle, Device, Network, Since, Seen string
	This, Remembered                     bool
}

// The most sessions that the account page lists.
const mostListed = 100

// account shows people their own account, with what they can do about it.
func (p *Pages) account(w http.ResponseWriter, r *http.Request) {
	v := accountView{}
	if done := r.URL.Query().Get("done"); slices.Contains([]string{"password", "ended", "others", "email", "email-proven",
		"email-undone", "stay"}, done) {
		v.Done = p.voice(r).Say("account.done-" + done)
	}
	p.showAccount(w, r, http.StatusOK, v)
}

func (p *Pages) showAccount(w http.ResponseWriter, r *http.Request, status int, v accountView) {
	t := guard.TurnOf(r)
	a, err := p.o.People.Find(r.Context(), t.Visitor.Account)
	var held []sessions.Held
	if err == nil {
		held, _, err = p.o.Sessions.List(r.Context(), a, "", 0, mostListed)
	}
	var bought []events.Bought
	if err == nil {
		bought, err = p.o.Events.Bought(r.Context(), a)
	}
	if err != nil {
		p.o.Log.Error("an account could not be shown", "error", err)
		p.failed(w, r)
		return
	}
	v.frame = p.markedFrame(w, r, "account.title")
	v.Details = []detail{{v.Say("common.name"), a.Name}}
	if a.Email != "" {
		v.Details = append(v.Details, detail{v.Say("account.email"), a.Email})
	}
	now := time.Now()
	for _, g := range a.Grants {
		key, gaps := "", []string{"role", g.Role}
		if g.From.After(now) {
			key, gaps = "-from", append(gaps, "from", words.Moment(v.Language, g.From.Local()))
		}
		until := g.Until
		for _, b := range bought { // whoever bought it has days of grace, which are not told as the end
			if g.Order != "" && b.Order == g.Order && !b.Over && !b.Until.IsZero() && b.Until.Before(until) {
				until = b.Until
			}
		}
		if !until.IsZero() {
			key, gaps = key+"-until", append(gaps, "until", words.End(v.Language, until.Local()))
		}
		role := g.Role
		if key != "" {
			role = v.Say("account.role"+key, gaps...)
		}
		if g.Active(now) || g.From.After(now) {
			v.Details = append(v.Details, detail{v.Say("account.role"), role})
		}
	}
	v.Details = append(v.Details, detail{v.Say("account.since"), words.Day(v.Language, a.MadeAt.Local())})
	switch j := &t.Book.Joining; {
	case !a.LeavesAt.IsZero():
		v.Leaving = v.Say("account.leaving", "when", words.Moment(v.Language, a.LeavesAt.Local()))
	case j.NeverLeave:
	case j.Leave < time.Hour:
		v.Leave = v.Say("account.leave-at-once")
	default:
		v.Leave = v.Say("account.leave-about", "time", v.span(j.Leave))
	}
	for _, b := range bought {
		key, until := "account.bought-open", ""
		if !b.Until.IsZero() {
			key, until = "account.bought-until", words.End(v.Language, b.Until.Local())
		}
		switch {
		case b.Over:
			key = "account.bought-over"
		case b.Ends:
			key = "account.bought-ends"
		}
		v.Bought = append(v.Bought, shownBought{b.Title, v.Say(key, "order", b.Order, "at", words.Day(v.Language, b.At.Local()), "until", until)})
	}
	this := p.o.Sessions.Handle(p.o.Visitors.Token(r))
	for _, s := range held {
		v.Sessions = append(v.Sessions, shownSession{
			Handle: s.Handle(), Device: v.set.Device(v.Language, s.Agent), Network: s.Network, Remembered: s.Remembered, This: s.Handle() == this,
			Since: words.Moment(v.Language, s.MadeAt.Local()), Seen: v.ago(now.Sub(s.SeenAt)),
		})
	}
	p.render(w, r, status, "account.html", v)
}

func (p *Pages) changePassword(w http.ResponseWriter, r *http.Request) {
	t := guard.TurnOf(r)
	if err := readForm(w, r); err != nil {
		p.showAccount(w, r, unread(err), accountView{Problem: p.voice(r).Say("wrong.malformed")})
		return
	}
	f := r.PostForm
	if f.Get("new") != f.Get("again") {
		p.showAccount(w, r, http.StatusUnprocessableEntity, accountView{Problem: p.voice(r).Say("wrong.differ")})
		return
	}
	in, err := p.o.SignIn.ChangePassword(r.Context(), p.o.Visitors.Token(r), f.Get("password"), f.Get("new"), p.o.Visitors.Origin(r))
	if err != nil {
		say := p.voice(r)
		wrong := p.troubleOf(say, err, say.Say("wrong.now"))
		wrong.header(w)
		p.showAccount(w, r, wrong.Status, accountView{Problem: wrong.Text})
		return
	}
	p.o.Visitors.Welcome(w.Header(), r, in)
	if to := t.Book.After(policy.AfterPasswordChange, &in.Visitor); to != "" {
		redirect(w, to)
		return
	}
	redirect(w, t.Book.Prefix+"/account?done=password")
}

// askAddress has a link sent to the address that somebody wants their account to have. They type the password for it: whoever
// has the address can set another.
func (p *Pages) askAddress(w http.ResponseWriter, r *http.Request) {
	t := guard.TurnOf(r)
	say := p.voice(r)
	s, err := readSent(w, r, t.Book)
	from := p.o.Visitors.Origin(r)
	if err == nil {
		var a *account.Account
		if a, err = p.o.SignIn.Owner(r.Context(), p.o.Visitors.Token(r), s.Password, from); err == nil {
			err = p.o.Recovery.AskChange(r.Context(), a.Name, s.Email, from.Network, from.Language)
		}
	}
	if err != nil {
		wrong := p.troubleOf(say, err, say.Say("wrong.again", "name", t.Visitor.Account))
		wrong.header(w)
		p.showAccount(w, r, wrong.Status, accountView{Problem: wrong.Text, NewEmail: s.Email})
		return
	}
	redirect(w, t.Book.Prefix+"/account?done=email")
}

// How old the proof of the password may be where other sessions of the account are ended, so
// that somebody who finds a browser open does not throw the owner out.
const recentProof = 15 * time.Minute

func (p *Pages) endSessions(w http.ResponseWriter, r *http.Request) {
	t := guard.TurnOf(r)
	if err := readForm(w, r); err != nil {
		p.showAccount(w, r, unread(err), accountView{Problem: p.voice(r).Say("wrong.malformed")})
		return
	}
	token, handle := p.o.Visitors.Token(r), r.PostForm.Get("end")
	this := p.o.Sessions.Handle(token) == handle
	if !this && t.Visitor.ProofAge > recentProof {
		redirect(w, t.Book.Prefix+"/prove-again?unsent&next="+url.QueryEscape(t.Book.Prefix+"/account"))
		return
	}
	a, err := p.o.People.Find(r.Context(), t.Visitor.Account)
	switch {
	case err != nil:
	case handle == "others":
		_, err = p.o.Sessions.EndOf(r.Context(), t.Visitor.Account, a, token)
	default:
		err = p.o.Sessions.EndOne(r.Context(), t.Visitor.Account, handle, a)
	}
	switch {
	case err != nil:
		wrong := p.troubleOf(p.voice(r), err, "")
		p.showAccount(w, r, wrong.Status, accountView{Problem: wrong.Text})
	case handle == "others":
		redirect(w, t.Book.Prefix+"/account?done=others")
	case this:
		p.o.Visitors.Farewell(w.Header(), r)
		redirect(w, t.Book.After(policy.AfterSignOut, &t.Visitor))
	default:
		redirect(w, t.Book.Prefix+"/account?done=ended")
	}
}
