package pages

import (
	"errors"
	"net/http"
	"net/url"

	"ostiarius/core/account"
	"ostiarius/core/factor"
	"ostiarius/core/policy"
	"ostiarius/service/base/guard"
	"ostiarius/service/door/visitor"
	"ostiarius/service/who/factors"
	"ostiarius/service/who/signin"
)

// A secondView is the page between the password and being signed in.
type secondView struct {
	frame
	Problem  string
	Name     string
	Next     string
	Passkey  string // the question for one; "" for none
	Code     bool
	OnlyKept bool   // codes that are kept are the only ones
	Remember string // for how long the browser is not asked again; "" for not at all
	Other    string // where one signs in anew
}

// askSecond leads somebody on whose password was right, or tells a program what is missing.
func (p *Pages) askSecond(w http.ResponseWriter, r *http.Request, s *sent, second *signin.Second) {
	visitor.Carry(p.o.Visitors, w.Header(), r, visitor.Half, second.Token)
	if s.json {
		trouble{"factor-needed", http.StatusUnauthorized, "Send a code to " + guard.TurnOf(r).Book.Prefix + "/sign-in/second.", 0}.tell(w)
		return
	}
	redirect(w, policy.To(guard.TurnOf(r).Book.Prefix+"/sign-in/second", "next="+url.QueryEscape(s.Next)))
}

func (p *Pages) secondForm(w http.ResponseWriter, r *http.Request) {
	a, err := p.o.SignIn.Half(r.Context(), visitor.Carried(p.o.Visitors, r, visitor.Half))
	if err != nil {
		p.anew(w, r, err)
		return
	}
	p.showSecond(w, r, a, http.StatusOK, secondView{Next: guard.Next(guard.TurnOf(r).Book, r.URL.Query().Get("next"))})
}

// anew leads somebody back to the beginning whose first half of a sign-in counts no longer.
func (p *Pages) anew(w http.ResponseWriter, r *http.Request, err error) {
	t := guard.TurnOf(r)
	visitor.Carry(p.o.Visitors, w.Header(), r, visitor.Half, "")
	switch {
	case !errors.Is(err, signin.ErrOver):
		p.failed(w, r)
	case t.Book.Entrance != "": // where that is, is told to nobody
		p.Missing(w, r)
	default:
		redirect(w, policy.To(t.Book.SignInAt(), "over&next="+url.QueryEscape(guard.Next(t.Book, r.URL.Query().Get("next")))))
	}
}

func (p *Pages) showSecond(w http.ResponseWriter, r *http.Request, a *account.Account, status int, v secondView) {
	t := guard.TurnOf(r)
	v.frame = p.frame(r, "second.title")
	v.Name, v.Other = a.Name, policy.To(t.Book.SignInAt(), "other&next="+url.QueryEscape(v.Next))
	held, err := p.o.Factors.Of(r.Context(), a)
	var q factors.Question
	if page := p.pageOf(r); err == nil && page.CanHave() {
		q, err = p.o.Factors.AskOf(r.Context(), a, page)
	}
	if err != nil {
		p.failed(w, r)
		return
	}
	v.Passkey = questionText(q)
	v.Code, v.OnlyKept = a.Enrolled.Has(factor.Code) || held.Kept > 0, !a.Enrolled.Has(factor.Code)
	if d := t.Book.Factors.Remember; d > 0 {
		v.Remember = v.span(d)
	}
	withScripts(w, r)
	p.render(w, r, status, "second.html", v)
}

// second takes the second half of a sign-in: a code, or a passkey.
func (p *Pages) second(w http.ResponseWriter, r *http.Request) {
	t := guard.TurnOf(r)
	say := p.voice(r)
	s, err := readSent(w, r, t.Book)
	half := visitor.Carried(p.o.Visitors, r, visitor.Half)
	a, over := p.o.SignIn.Half(r.Context(), half)
	if over != nil {
		if s.json {
			p.troubleOf(say, over, "").tell(w)
			return
		}
		p.anew(w, r, over)
		return
	}
	var in signin.SignedIn
	var wrong trouble
	if err != nil {
		wrong = trouble{"malformed", unread(err), say.Say("wrong.malformed"), 0}
	} else {
		from := p.o.Visitors.Origin(r)
		from.Before = p.o.Visitors.Token(r)
		shown := p.shownIn(r, &s)
		if in, err = p.o.SignIn.Finish(r.Context(), half, shown, from, s.Browser); err != nil {
			wrong = p.troubleOf(say, err, wrongShown(say, shown))
		}
	}
	if wrong.Code != "" {
		wrong.header(w)
		if s.json {
			wrong.tell(w)
			return
		}
		p.showSecond(w, r, a, wrong.Status, secondView{Problem: wrong.Text, Next: s.Next})
		return
	}
	visitor.Carry(p.o.Visitors, w.Header(), r, visitor.Half, "")
	p.signedIn(w, r, &s, in)
}

func (p *Pages) shownIn(r *http.Request, s *sent) signin.Shown {
	return signin.Shown{Code: s.Code, Passkey: s.Passkey, Page: p.pageOf(r)}
}

func wrongShown(say voice, shown signin.Shown) string {
	if shown.Passkey != "" {
		return say.Say("passkey.wrong")
	}
	return say.Say("code.wrong")
}
