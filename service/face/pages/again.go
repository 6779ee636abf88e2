package pages

import (
	"errors"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"time"

	"ostiarius/core/account"
	"ostiarius/core/document"
	"ostiarius/core/factor"
	"ostiarius/core/policy"
	"ostiarius/service/base/guard"
	"ostiarius/service/who/sessions"
	"ostiarius/store"
)

// An againView is the page that asks somebody who is signed in for the password once more, or for what is still missing.
type againView struct {
	frame
	Problem   string
	Lead      string // the key of the sentence that says why
	At        string // where the forms go
	Next      string
	Other     string // the address at which to sign in as somebody else
	Unsent    bool   // what was sent did not arrive, since the proof was missing
	Kept      string // or what was typed, sealed, which is sent on afterwards
	Password  bool   // what is asked for: any one of these
	Passkey   string // the question for it
	Code      bool
	OnlyKept  bool // codes that are kept are the only ones
	Elsewhere []providerWay
}

// An again is what is asked for of somebody who is signed in.
type again struct {
	words  []string // any one of these factors; none for what one signs in with
	within time.Duration
}

// againFor reads what is asked for from the address of the page. What it says there that makes no sense is not asked for.
func againFor(query url.Values) (ask again) {
	for _, word := range strings.Fields(query.Get("factor")) {
		if slices.Contains(factor.Asked, word) && !slices.Contains(ask.words, word) {
			ask.words = append(ask.words, word)
		}
	}
	if within, err := document.ParseDuration(query.Get("within")); err == nil && within > 0 {
		ask.within = within
	}
	return ask
}

// query is what againFor reads.
func (a again) query(next string) string {
	values := url.Values{}
	if len(a.words) > 0 {
		values.Set("factor", strings.Join(a.words, " "))
	}
	if a.within > 0 {
		values.Set("within", document.FormatDuration(a.within))
	}
	if next != "" {
		values.Set("next", next)
	}
	if len(values) == 0 {
		return ""
	}
	return "?" + values.Encode()
}

// lacks returns the kinds of proof that would do.
func (a again) lacks(v *policy.Visitor) (lacks factor.Set) {
	if len(a.words) == 0 {
		return factor.Of(factor.Password, factor.Passkey)
	}
	shown := v.Shown().Kinds
	if a.within > 0 {
		shown = v.Shown().Within(a.within)
	}
	for _, word := range a.words {
		lacks |= shown.Lacks(word)
	}
	return lacks
}

// proveAgainForm asks somebody who is signed in for the password once more, or for another proof.
func (p *Pages) proveAgainForm(w http.ResponseWriter, r *http.Request) {
	t := guard.TurnOf(r)
	query := r.URL.Query()
	p.showProveAgain(w, r, t, http.StatusOK, againFor(query),
		againView{Next: guard.Next(t.Book, query.Get("next")), Unsent: query.Has("unsent")})
}

func (p *Pages) showProveAgain(w http.ResponseWriter, r *http.Request, t *guard.Turn, status int, ask again, v againView) {
	v.frame = p.frameOf(r, t, "again.title")
	v.Lead = "again.as"
	if len(ask.words) > 0 {
		v.Lead, v.Title = "again.factor-as", v.Say("again.factor-title")
	}
	a, err := p.o.People.Find(r.Context(), t.Visitor.Account)
	if err == nil {
		err = p.offer(r, t, a, ask, &v)
	}
	if err != nil {
		p.failed(w, r)
		return
	}
	if !v.Password && !v.Code && v.Passkey == "" && len(v.Elsewhere) == 0 {
		switch {
		case len(ask.words) > 0 && ask.lacks(&t.Visitor) != 0:
			redirect(w, t.Book.Prefix+"/account/factors?needed="+url.QueryEscape(ask.words[0])+"&next="+url.QueryEscape(v.Next))
		case v.Next != "" && len(ask.words) > 0: // it was shown meanwhile
			redirect(w, v.Next)
		default:
			redirect(w, policy.To(t.Book.SignInAt(), "other&next="+url.QueryEscape(v.Next)))
		}
		return
	}
	if !v.Password {
		v.Title = v.Say("again.factor-title")
	}
	v.At = t.Book.Prefix + "/prove-again" + ask.query(v.Next)
	v.Other = policy.To(t.Book.SignInAt(), "other&next="+url.QueryEscape(v.Next))
	withScripts(w, r)
	p.render(w, r, status, "prove-again.html", v)
}

// offer says what somebody can show of what is asked for.
func (p *Pages) offer(r *http.Request, t *guard.Turn, a *account.Account, ask again, v *againView) error {
	lacks := ask.lacks(&t.Visitor)
	v.Password = lacks.Has(factor.Password) && !a.Unset
	if page := p.pageFor(r, t); lacks.Has(factor.Passkey) && page.CanHave() {
		q, err := p.o.Factors.AskOf(r.Context(), a, page)
		if err != nil {
			return err
		}
		v.Passkey = questionText(q)
	}
	if lacks.Has(factor.Password) {
		links, err := p.o.Elsewhere.Links(r.Context(), a)
		if err != nil {
			return err
		}
		for _, way := range providers(t.Book, false) {
			if slices.ContainsFunc(links, func(l store.ElsewhereLink) bool { return l.Provider == way.Name }) {
				v.Elsewhere = append(v.Elsewhere, way)
			}
		}
	}
	if !lacks.Has(factor.Code) || a.Enrolled == 0 {
		return nil
	}
	held, err := p.o.Factors.Of(r.Context(), a)
	v.Code, v.OnlyKept = held.Code != nil || held.Kept > 0, held.Code == nil
	return err
}

// proveAgain takes the password: from our own form, or as JSON from a script, which is answered with
// a status and a code, as signIn does.
func (p *Pages) proveAgain(w http.ResponseWriter, r *http.Request) {
	t := guard.TurnOf(r)
	r.Body = http.MaxBytesReader(w, r.Body, 2*mostOfForm) // what is kept of another form is longer than ours are
	err := r.ParseForm()
	s, faulty := readSent(w, r, t.Book)
	err = errors.Join(err, faulty)
	say := p.voice(r)
	v := againView{Next: s.Next, Kept: s.kept}
	var wrong trouble
	var fresh *sessions.Renewal
	switch shown := p.shownIn(r, &s); {
	case err != nil:
		wrong = trouble{"malformed", unread(err), say.Say("wrong.malformed"), 0}
	case s.Code != "" || s.Passkey != "":
		if fresh, err = p.o.SignIn.ShowMore(r.Context(), p.o.Visitors.Token(r), shown, p.o.Visitors.Origin(r)); err != nil {
			wrong = p.troubleOf(say, err, wrongShown(say, shown))
		}
	default:
		if fresh, err = p.o.SignIn.ProveAgain(r.Context(), p.o.Visitors.Token(r), s.Password, p.o.Visitors.Origin(r)); err != nil {
			wrong = p.troubleOf(say, err, say.Say("wrong.again", "name", t.Visitor.Account))
		}
	}
	if wrong.Code != "" {
		wrong.header(w)
		if s.json {
			wrong.tell(w)
			return
		}
		v.Problem = wrong.Text
		p.showProveAgain(w, r, t, wrong.Status, againFor(r.URL.Query()), v)
		return
	}
	if fresh != nil {
		p.o.Visitors.Renew(w.Header(), r, fresh)
	}
	if s.Code != "" || s.Passkey != "" {
		p.know(w, r)
	}
	if v.Next == "" {
		v.Next = t.Book.After(policy.AfterSignIn, &t.Visitor)
	}
	if s.json {
		said := map[string]any{"next": v.Next}
		if p.o.Mark != nil && s.Code == "" { // a code alone is not what one signs in with
			said["proof"] = p.o.Mark(r)
		}
		writeJSON(w, said)
		return
	}
	if s.kept != "" {
		p.sendOn(w, r, s.kept, v.Next)
		return
	}
	redirect(w, v.Next)
}
