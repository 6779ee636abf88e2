package pages

import (
	"cmp"
	"errors"
	"html/template"
	"net/http"
	"net/url"

	rules "ostiarius/core/joining"
	"ostiarius/core/policy"
	"ostiarius/service/base/guard"
	"ostiarius/service/who/joining"
)

// A joinView is the page on which people make an account.
type joinView struct {
	frame
	Elsewhere  []providerWay // with whose accounts one joins
	Problem    string
	Next       string
	Username   string
	Email      string
	Mark       string // by which is known how long the form was open
	Invitation string // the token of one
	Invited    string // the address that it is for
	Approval   bool   // a steward looks at it
	Terms      template.HTML
	Privacy    template.HTML
}

// joinForm asks whoever wants an account for what it needs, and whoever brings a link for the password.
func (p *Pages) joinForm(w http.ResponseWriter, r *http.Request) {
	t, query := guard.TurnOf(r), r.URL.Query()
	switch {
	case p.sold(w, r):
	case t.Book.Joining.By == policy.ByNobody:
		p.Missing(w, r)
	case query.Has("sent"):
		p.said(w, r, "join.sent-title", "join.sent", "join.sent-hint")
	case query.Has("waiting"):
		p.said(w, r, "join.waiting-title", "join.waiting", "")
	case query.Has("link"):
		p.showProveJoin(w, r, http.StatusOK, recoverView{Link: query.Get("link")})
	case query.Get("invitation") == "" && p.elsewhere(w, r, t.Book.Pages.Join):
	default:
		p.showJoin(w, r, http.StatusOK,
			joinView{Next: cmp.Or(soldNext(t.Book, query.Get("item")), guard.Next(t.Book, query.Get("next"))), Invitation: query.Get("invitation")})
	}
}

// said is a page that says something, and a hint unless its key is "".
func (p *Pages) said(w http.ResponseWriter, r *http.Request, title, lead, hint string) {
	n := notice{frame: p.frame(r, title)}
	if n.Lead = n.Say(lead); hint != "" {
		n.Hint = n.Say(hint)
	}
	p.render(w, r, http.StatusOK, "notice.html", n)
}

func (p *Pages) showJoin(w http.ResponseWriter, r *http.Request, status int, v joinView) {
	t := guard.TurnOf(r)
	w.Header().Set("Referrer-Policy", "no-referrer") // the address may have a link
	j := &t.Book.Joining
	v.frame = p.frame(r, "join.title")
	v.Elsewhere = providers(t.Book, true)
	if j.By == policy.ByNobody {
		p.Missing(w, r)
		return
	}
	if v.Account != "" {
		p.render(w, r, http.StatusOK, "notice.html",
			notice{frame: v.frame, Lead: v.Say("join.signed-in", "name", v.Account), Other: policy.To(t.Book.SignInAt(), "other")})
		return
	}
	switch {
	case v.Invitation != "":
		invited, err := p.o.Joining.Invitation(r.Context(), v.Invitation)
		if err != nil {
			p.linkFailed(w, r, err)
			return
		}
		v.Invited = invited.Email
	case j.By == policy.ByInvitation:
		p.said(w, r, "join.title", "join.by-invitation", "")
		return
	}
	v.Mark, v.Approval = p.o.Joining.Mark(), j.By == policy.ByApproval && v.Invited == ""
	v.Terms, v.Privacy = v.linked("join.agree", "terms", j.Terms), v.linked("join.agree-privacy", "privacy", j.Privacy)
	p.render(w, r, status, "join.html", v)
}

// linked says a sentence whose gap is a link to a page of the site; "" if there is no such page.
func (v voice) linked(key, gap, to string) template.HTML {
	if to == "" {
		return ""
	}
	link := `<a href="` + template.HTMLEscapeString(to) + `" target="_blank">` + template.HTMLEscapeString(v.Say("join."+gap)) + `</a>`
	return template.HTML(v.fill(key, map[string]string{gap: link}))
}

// linkFailed says why a link could not be followed.
func (p *Pages) linkFailed(w http.ResponseWriter, r *http.Request, err error) {
	if errors.Is(err, joining.ErrLink) {
		p.ended(w, r, "join.ended", "join.ended-hint")
		return
	}
	p.o.Log.Error("a link could not be looked up", "error", err)
	p.failed(w, r)
}

func (p *Pages) showProveJoin(w http.ResponseWriter, r *http.Request, status int, v recoverView) {
	w.Header().Set("Referrer-Policy", "no-referrer")
	name, err := p.o.Joining.Applied(r.Context(), v.Link)
	if err != nil {
		p.linkFailed(w, r, err)
		return
	}
	v.frame, v.Username = p.frame(r, "join.prove-title"), name
	p.render(w, r, status, "join-prove.html", v)
}

// join makes an account for whoever fills in the form, or has a link sent to them first; and for whoever brings
// such a link with the password. As with signIn, the form can be ours, or one of the site's own, or JSON.
func (p *Pages) join(w http.ResponseWriter, r *http.Request) {
	t := guard.TurnOf(r)
	say := p.voice(r)
	s, err := readSent(w, r, t.Book)
	from := p.o.Visitors.Origin(r)
	var out joining.Outcome
	v := joinView{Next: s.Next, Username: s.Username, Email: s.Email, Invitation: s.invitation}
	show := func(status int, text string) {
		if s.link != "" {
			p.showProveJoin(w, r, status, recoverView{Link: s.link, Problem: text})
			return
		}
		v.Problem = text
		p.showJoin(w, r, status, v)
	}
	own := !s.json && s.form == ""
	var wrong trouble
	switch {
	case err != nil:
		wrong = trouble{"malformed", unread(err), say.Say("wrong.malformed"), 0}
	case t.Book.Joining.By == policy.ByNobody && own:
		p.Missing(w, r)
		return
	case s.link != "":
		out, err = p.o.Joining.Prove(r.Context(), s.link, s.Password, from)
	case s.Username == "" || s.Password == "" || s.Email == "" && s.invitation == "":
		wrong = trouble{"missing", http.StatusUnprocessableEntity, say.Say("wrong.join-missing"), 0}
	case own && s.Password != s.again:
		wrong = trouble{"differ", http.StatusUnprocessableEntity, say.Say("wrong.differ"), 0}
	default:
		if own {
			err = p.o.Joining.CheckForm(s.mark, s.trap)
		}
		if err == nil {
			out, err = p.o.Joining.Ask(r.Context(),
				joining.Applicant{
					Name: s.Username, Email: s.Email, Password: s.Password, Agreed: s.Agree, Next: s.Next, Invitation: s.invitation,
				}, from)
		}
	}
	if wrong.Code == "" && err != nil {
		wrong = p.joinTrouble(say, err)
	}
	if wrong.Code != "" {
		s.refuse(w, wrong, func() { show(wrong.Status, wrong.Text) })
		return
	}
	p.afterJoining(w, r, s, out)
}

func (p *Pages) joinTrouble(say voice, err error) trouble {
	for _, known := range []struct {
		err    error
		code   string
		status int
		key    string
	}{
		{joining.ErrClosed, "closed", http.StatusForbidden, "wrong.closed"},
		{joining.ErrRobot, "too-fast", http.StatusUnprocessableEntity, "wrong.robot"},
		{joining.ErrStale, "stale", http.StatusUnprocessableEntity, "wrong.stale"},
		{joining.ErrAgree, "agree", http.StatusUnprocessableEntity, "wrong.agree"},
		{joining.ErrWrong, "wrong", http.StatusUnprocessableEntity, "wrong.join-password"},
		{joining.ErrLink, "link", http.StatusGone, "wrong.link"},
	} {
		if errors.Is(err, known.err) {
			return trouble{known.code, known.status, say.Say(known.key), 0}
		}
	}
	return p.troubleOf(say, err, "")
}

// afterJoining signs in whoever has an account now, and tells others what is missing.
func (p *Pages) afterJoining(w http.ResponseWriter, r *http.Request, s sent, out joining.Outcome) {
	t := guard.TurnOf(r)
	if out.Account == nil {
		what := map[rules.State]string{rules.Unproven: "sent", rules.Waiting: "waiting"}[out.State]
		switch {
		case s.json:
			writeJSON(w, map[string]any{"joined": false, "state": out.State})
		case s.form != "":
			redirect(w, withQuery(s.form, url.Values{"done": {what}}))
		default:
			redirect(w, t.Book.Prefix+"/join?"+what)
		}
		return
	}
	from := p.o.Visitors.Origin(r)
	from.Before = p.o.Visitors.Token(r)
	in, err := p.o.SignIn.Enter(r.Context(), out.Account, from, "after joining")
	if err != nil { // there is an account; they can sign in
		p.o.Log.Error("somebody who joined could not be signed in", "error", err)
		redirect(w, t.Book.SignInAt())
		return
	}
	p.o.Visitors.Welcome(w.Header(), r, in)
	next := guard.Next(t.Book, out.Next)
	if next == "" {
		next = t.Book.After(policy.AfterJoining, &in.Visitor)
	}
	if s.json {
		roles := in.Visitor.Roles
		if roles == nil {
			roles = []string{}
		}
		writeJSON(w, map[string]any{"joined": true, "signedIn": true, "name": in.Visitor.Account, "roles": roles, "next": next})
		return
	}
	redirect(w, next)
}
