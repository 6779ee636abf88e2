package pages

import (
	"fmt"
	"net/http"
	"net/url"
	"strings"

	"ostiarius/client"
	"ostiarius/core/keyring"
	"ostiarius/core/policy"
	"ostiarius/core/words"
	"ostiarius/service/base/guard"
	"ostiarius/service/base/problem"
)

// Missing answers for a page that is not there. It is also the answer for what is
// hidden, to the last byte.
func (p *Pages) Missing(w http.ResponseWriter, r *http.Request) {
	t := guard.TurnOf(r)
	p.missing(w, r, t.Book, guard.ClientOf(r.Header))
}

func (p *Pages) missing(w http.ResponseWriter, r *http.Request, book *policy.Book, asks policy.Client) {
	// What is missing behind a door has been given the fields of the site's answers already;
	// what is hidden has not.
	for _, field := range book.Headers {
		w.Header().Del(field.Name)
	}
	w.Header().Del("Vary")
	if asks != policy.Browser {
		problem.Write(w, client.Problem{Status: http.StatusNotFound, Detail: "There is nothing at this address."})
		return
	}
	if to := book.Pages.Missing; to != "" && p.o.InPlace != nil && p.admits(book, to, &policy.Visitor{}) &&
		p.o.InPlace(w, r, to, http.StatusNotFound) {
		return
	}
	f := p.bareFrame(r, book, "missing.title")
	p.render(w, r, http.StatusNotFound, "notice.html", notice{frame: f, Lead: f.Say("missing.lead"), Hint: f.Say("missing.hint")})
}

// Unable answers where nobody can be recognised at the moment, to be tried again after a while.
func (p *Pages) Unable(w http.ResponseWriter, r *http.Request, book *policy.Book, later *guard.Later) {
	f := p.bareFrame(r, book, "upstream.title")
	lead := f.Say("wrong.failed")
	code := "failed"
	switch {
	case later.Status == http.StatusTooManyRequests:
		lead, code = f.Say("wrong.too-many", "wait", f.in(later.Wait)), "too-many"
	case later.Busy:
		lead, code = f.Say("wrong.busy"), "busy"
	}
	if guard.ClientOf(r.Header) != policy.Browser {
		problem.Write(w, client.Problem{Status: later.Status, Detail: lead, Code: code, Wait: seconds(later.Wait)})
		return
	}
	p.render(w, r, later.Status, "notice.html", notice{frame: f, Lead: lead})
}

// Upstream answers a request for which the server behind has no answer. It says nothing of
// that server.
func (p *Pages) Upstream(w http.ResponseWriter, r *http.Request, status int) {
	t := guard.TurnOf(r)
	title, lead, hint := "upstream.title", "upstream.silent", "upstream.hint"
	switch status {
	case http.StatusGatewayTimeout:
		lead = "upstream.slow"
	case http.StatusLoopDetected:
		lead = "upstream.loop"
	case http.StatusRequestTimeout:
		lead = "upstream.late"
	case http.StatusBadRequest:
		title, lead, hint = "upstream.malformed-title", "upstream.malformed", "upstream.malformed-hint"
	}
	f := p.bareFrame(r, t.Book, title)
	if guard.ClientOf(r.Header) != policy.Browser {
		problem.Write(w, client.Problem{Status: status, Detail: f.Say(lead)})
		return
	}
	p.render(w, r, status, "notice.html", notice{frame: f, Lead: f.Say(lead), Hint: f.Say(hint)})
}

// Turned answers a request that was not admitted.
func (p *Pages) Turned(w http.ResponseWriter, r *http.Request, t *guard.TurnedAway) {
	if t.Walk != nil && t.Walk.Within != nil && t.Client == policy.Browser &&
		(t.Answer.Status == http.StatusSeeOther || t.Answer.Status == http.StatusUnauthorized) {
		w.Header().Del("WWW-Authenticate")
		p.stopped(w, r, t)
		return
	}
	if t.Decision.Outcome != policy.Hide { // what is hidden is as what is missing
		readable(w.Header(), r, t.Book)
	}
	switch t.Answer.Status {
	case http.StatusSeeOther:
		to := p.backToForm(r, t.Turn, t.Answer.Location)
		if page, query, _ := strings.Cut(to, "?"); page == t.Book.Prefix+"/prove-again" {
			if kept := p.keep(r, t); kept != "" {
				values, _ := url.ParseQuery(query)
				p.showProveAgain(w, r, t.Turn, http.StatusForbidden, againFor(values), againView{Next: values.Get("next"), Kept: kept})
				return
			}
		}
		redirect(w, to)
		return
	case http.StatusNotFound:
		p.missing(w, r, t.Book, t.Client)
		return
	}
	v := notice{frame: p.bareFrame(r, t.Book, "turned.title")}
	v.Account = t.Visitor.Account
	switch a := t.Answer; {
	case a.Status == http.StatusBadRequest:
		if t.Client != policy.Browser {
			problem.Write(w, client.Problem{
				Status: a.Status, Detail: fmt.Sprintf("The request cannot be read without guessing: %v.", t.Decision.Fault),
			})
			return
		}
		v.Title, v.Lead = v.Say("turned.unread-title"), v.Say("turned.unread")
		v.Hint = v.Say("turned.unread-hint", "what", t.Decision.Fault.Error())
	case a.Status == http.StatusUnauthorized:
		if t.Client != policy.Browser {
			problem.Write(w, p.unproven(r, t, v.voice))
			return
		}
		v.Title, v.Lead, v.Hint = v.Say("turned.credentials-title"), v.Say("turned.credentials"), v.Say("turned.credentials-hint")
	case t.Over != nil && a.Status == http.StatusForbidden && t.Decision.Proof.Basic && a.Say == "":
		v.Title, v.Lead, v.Hint = v.Say("turned.over-title"), overText(v.voice, t.Over), v.Say("turned.over-hint")
		if t.Client != policy.Browser {
			problem.Write(w, client.Problem{Status: a.Status, Detail: v.Lead, Code: "credentials-ended"})
			return
		}
		v.OtherName = t.Address
	default:
		if t.Client != policy.Browser {
			detail := t.Door.Admits("this")
			if a.Say != "" {
				detail = a.Say
			}
			problem.Write(w, client.Problem{Status: a.Status, Detail: detail, Reference: t.Reference})
			return
		}
		if to := t.Book.Pages.TurnedAway; to != "" && p.admitted(r, t.Turn, to) {
			redirect(w, policy.To(to, url.Values{"reference": {t.Reference}, "next": {t.Address}}.Encode()))
			return
		}
		v.Reference, v.Offers = t.Reference, p.offersAt(r, t.Turn, t.Address)
		if a.Say != "" {
			v.Lead = a.Say
		} else {
			v.Lead, v.Who = t.Door.AdmitsIn(v.Language, v.Say("turned.this-page")), true
		}
		if t.Book.Entrance == "" || t.Visitor.SignedIn {
			v.Other = policy.To(t.Book.SignInAt(), "other&next="+url.QueryEscape(t.Address))
		}
		if t.Visitor.SignedIn {
			v.Roles = strings.Join(t.Visitor.Roles, ", ")
		}
	}
	p.render(w, r, t.Answer.Status, "notice.html", v)
}

// overText says why credentials of HTTP Basic open nothing any more.
func overText(say voice, over *keyring.Over) string {
	if over.Second {
		return say.Say("turned.over-second", "name", over.Name)
	}
	if over.Disabled {
		return say.Say("turned.over-disabled", "name", over.Name)
	}
	return say.Say("turned.over", "name", over.Name, "until", words.End(say.Language, over.Until.Local()))
}

// otherName has the browser ask for other credentials than those it brings, at the place it comes from.
func (p *Pages) otherName(w http.ResponseWriter, r *http.Request) {
	back := ""
	if err := readForm(w, r); err == nil {
		back = guard.OwnPath(guard.TurnOf(r).Book, r.PostForm.Get("next"))
	}
	if back == "" {
		back = "/"
	}
	p.o.Visitors.OtherName(w.Header(), r)
	redirect(w, back)
}

// unproven tells a program what is missing; one that has shown a pass which opens nothing any more, why.
func (p *Pages) unproven(r *http.Request, t *guard.TurnedAway, say voice) client.Problem {
	told := client.Problem{Status: t.Answer.Status, Detail: t.Door.Admits("this") + " " + remedy(t), Code: needed(t.Decision, t.Client)}
	if len(t.Door.Passes()) == 0 {
		return told
	}
	for _, held := range p.o.Visitors.Held(r, t.Book, t.Door.Passes(), t.Place.Path) {
		if state := held.State(); held.Covers() && !state.Opens() {
			told.Detail, told.Code = lapsedText(say, t.Book, held), "pass-"+string(state)
		}
	}
	return told
}

// needed is the code of what is missing.
func needed(d policy.Decision, asks policy.Client) string {
	switch kind := d.Proof.Kind; {
	case d.Pass != "" && asks == policy.API:
		return "pass-needed"
	case kind == policy.ProveKeyring || d.Proof.Basic:
		return "credentials-needed"
	case kind == policy.ProveAgain:
		return "proof-needed"
	case kind == policy.ProveFactor:
		return "factor-needed"
	default:
		return string(kind) + "-needed"
	}
}

// remedy says what a program, or a page's background request, can do about a challenge.
func remedy(t *guard.TurnedAway) string {
	switch proof := t.Decision.Proof; {
	case t.Decision.Pass != "" && t.Client == policy.API:
		return "Send the name and the password of a pass with HTTP Basic."
	case proof.Basic && t.Client == policy.Script:
		return "Open a page there first, so that the browser asks for them."
	case proof.Basic:
		return "Send a name and a password with HTTP Basic, for \"" + proof.Realm + "\"."
	case proof.Kind == policy.ProveAgain:
		return "Type your password again at " + t.Book.Prefix + "/prove-again first."
	case proof.Kind == policy.ProveFactor:
		return "Show a passkey or a code at " + t.Book.Prefix + "/prove-again first."
	case proof.Kind == policy.ProveSignIn:
		return "Sign in at " + t.Book.SignInAt() + " first."
	default:
		return "Open it at " + t.Book.Prefix + "/unlock first."
	}
}
