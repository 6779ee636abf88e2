package pages

import (
	"fmt"
	"net/http"
	"net/url"
	"strings"
	"time"

	"ostiarius/service/guard"
	"ostiarius/service/people"
)

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
	v := view{}
	switch r.URL.Query().Get("done") {
	case "password":
		v.Done = "Your password is changed. All other devices are signed out."
	case "ended":
		v.Done = "That session has ended."
	case "others":
		v.Done = "All other sessions have ended."
	}
	p.showAccount(w, r, http.StatusOK, v)
}

func (p *Pages) showAccount(w http.ResponseWriter, r *http.Request, status int, v view) {
	t := guard.TurnOf(r)
	a, err := p.Register.Show(r.Context(), t.Visitor.Account)
	var held []people.HeldSession
	if err == nil {
		held, _, err = p.Register.Sessions(r.Context(), a.Name, "", 0, mostListed)
	}
	if err != nil {
		p.Log.Error("an account could not be shown", "error", err)
		http.Error(w, "Your account cannot be shown at the moment. Please try again in a while.", http.StatusServiceUnavailable)
		return
	}
	v.Site, v.Prefix, v.Title, v.Account = t.Book.Site, t.Book.Prefix, "Your account", t.Visitor.Account
	v.Details = []detail{{"Name", a.Name}}
	if a.Email != "" {
		v.Details = append(v.Details, detail{"E-mail", a.Email})
	}
	now := time.Now()
	for _, g := range a.Grants {
		until := ""
		if !g.Until.IsZero() {
			until = ", until " + g.Until.Local().Format("2 January 2006, 15:04")
		}
		if g.Active(now) {
			v.Details = append(v.Details, detail{"Role", g.Role + until})
		} else if g.From.After(now) {
			v.Details = append(v.Details, detail{"Role", g.Role + ", from " + g.From.Local().Format("2 January 2006, 15:04") + until})
		}
	}
	v.Details = append(v.Details, detail{"Account since", a.MadeAt.Local().Format("2 January 2006")})
	this := p.Register.Handle(p.Token(r))
	for _, s := range held {
		v.Sessions = append(v.Sessions, shownSession{
			Handle: s.Handle(), Device: deviceInWords(s.Agent), Network: s.Network, Remembered: s.Remembered, This: s.Handle() == this,
			Since: s.MadeAt.Local().Format("2 January, 15:04"), Seen: ago(now.Sub(s.SeenAt)),
		})
	}
	p.render(w, r, status, "account.html", v)
}

func ago(d time.Duration) string {
	switch {
	case d < time.Minute:
		return "just now"
	case d < 2*time.Hour:
		return fmt.Sprintf("%d minutes ago", int(d.Minutes()))
	case d < 48*time.Hour:
		return fmt.Sprintf("%d hours ago", int(d.Hours()))
	}
	return fmt.Sprintf("%d days ago", int(d.Hours()/24))
}

// deviceInWords makes of a browser's own words about itself what people recognise: the
// browser and the system.
func deviceInWords(agent string) string {
	find := func(pairs ...string) string {
		for i := 0; i < len(pairs); i += 2 {
			if strings.Contains(agent, pairs[i]) {
				return pairs[i+1]
			}
		}
		return ""
	}
	browser := find("Edg/", "Edge", "OPR/", "Opera", "Firefox/", "Firefox", "Chrome/", "Chrome", "Safari/", "Safari", "curl/", "curl")
	system := find("Android", "Android", "iPhone", "iPhone", "iPad", "iPad", "Windows", "Windows", "Mac OS", "a Mac", "CrOS", "ChromeOS", "Linux", "Linux")
	switch {
	case browser != "" && system != "":
		return browser + " on " + system
	case browser+system != "":
		return browser + system
	case agent == "":
		return "a program that says nothing of itself"
	}
	if len(agent) > 60 {
		agent = agent[:60]
	}
	return strings.ToValidUTF8(agent, "")
}

func (p *Pages) changePassword(w http.ResponseWriter, r *http.Request) {
	t := guard.TurnOf(r)
	if err := readForm(w, r); err != nil {
		p.showAccount(w, r, unread(err), view{Problem: "The form could not be read. Please fill it in again."})
		return
	}
	f := r.PostForm
	if f.Get("new") != f.Get("again") {
		p.showAccount(w, r, http.StatusUnprocessableEntity, view{Problem: "You typed two different new passwords. Please type the same one twice."})
		return
	}
	in, err := p.Register.ChangePassword(r.Context(), p.Token(r), f.Get("password"), f.Get("new"), p.from(r))
	if err != nil {
		wrong := p.troubleOf(err, "The first of them is not your password. Nothing was changed.")
		wrong.header(w)
		p.showAccount(w, r, wrong.Status, view{Problem: wrong.Text})
		return
	}
	p.giveCookies(w, r, in)
	if to := t.Book.AfterPasswordChange(&in.Visitor); to != "" {
		redirect(w, to)
		return
	}
	redirect(w, t.Book.Prefix+"/account?done=password")
}

// How old the proof of the password may be where other sessions of the account are ended, so
// that somebody who finds a browser open does not throw the owner out.
const recentProof = 15 * time.Minute

func (p *Pages) endSessions(w http.ResponseWriter, r *http.Request) {
	t := guard.TurnOf(r)
	if err := readForm(w, r); err != nil {
		p.showAccount(w, r, unread(err), view{Problem: "The form could not be read. Please try again."})
		return
	}
	name, token := t.Visitor.Account, p.Token(r)
	handle := r.PostForm.Get("end")
	this := p.Register.Handle(token) == handle
	if !this && t.Visitor.ProofAge > recentProof {
		redirect(w, t.Book.Prefix+"/prove-again?unsent&next="+url.QueryEscape(t.Book.Prefix+"/account"))
		return
	}
	if handle != "others" {
		if err := p.Register.EndSession(r.Context(), name, handle, name); err != nil {
			wrong := p.troubleOf(err, "")
			p.showAccount(w, r, wrong.Status, view{Problem: wrong.Text})
			return
		}
		if this {
			p.setCookie(w.Header(), r, "", -1)
			redirect(w, t.Book.AfterSignOut(&t.Visitor))
			return
		}
		redirect(w, t.Book.Prefix+"/account?done=ended")
		return
	}
	if _, err := p.Register.EndSessions(r.Context(), name, name, token); err != nil {
		wrong := p.troubleOf(err, "")
		p.showAccount(w, r, wrong.Status, view{Problem: wrong.Text})
		return
	}
	redirect(w, t.Book.Prefix+"/account?done=others")
}
