package pages

import (
	"encoding/json"
	"errors"
	"html/template"
	"net"
	"net/http"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"time"

	"ostiarius/core/account"
	"ostiarius/core/document"
	"ostiarius/core/factor"
	"ostiarius/core/policy"
	"ostiarius/core/words"
	"ostiarius/service/base/guard"
	"ostiarius/service/door/visitor"
	"ostiarius/service/who/factors"
	"ostiarius/store"
)

// A factorsView is the page of what somebody can show beside their password.
type factorsView struct {
	frame
	Problem, Done string
	Why           string // they are here, if they did not come by themselves
	Next          string // where they go on
	Later         bool   // to go on without is allowed
	Back          string // the query that brings them back to Next
	Reset         string // that a steward takes it away, in a sentence
	Passkeys      []shownPasskey
	Question      string // to make one; "" where there are none
	Device        string // a name for it
	CodeSince     string
	Kept          string // how many codes are kept
	CanKeep       bool
	Browsers      []shownBrowser
	Linked        []shownLink
	Linkable      []providerWay
}

// A shownLink is an account elsewhere that is linked.
type shownLink struct{ Provider, Title, About string }

type shownPasskey struct{ ID, Name, About string }

type shownBrowser struct{ Handle, Device, Network, About string }

// pageOf is the page that a request is for, as the browser that shows it knows it.
func (p *Pages) pageOf(r *http.Request) factors.Page { return p.pageFor(r, guard.TurnOf(r)) }

// pageFor is pageOf for a request that was not handed on.
func (p *Pages) pageFor(r *http.Request, t *guard.Turn) factors.Page {
	scheme := "http://"
	if t.Secure {
		scheme = "https://"
	}
	host := strings.ToLower(r.Host)
	page := factors.Page{Origin: scheme + host, Host: host}
	if name, _, err := net.SplitHostPort(host); err == nil {
		page.Host = name
	}
	return page
}

// withScripts lets a page load our own scripts.
func withScripts(w http.ResponseWriter, r *http.Request) {
	w.Header().Set("Content-Security-Policy", framed(r, contentPolicy+"; script-src 'self'"))
}

// questionText is a question as it stands in a page; "" for none.
func questionText(q factors.Question) string {
	if q == nil {
		return ""
	}
	text, err := json.Marshal(q)
	if err != nil {
		return "" // texts and numbers can be written
	}
	return string(text)
}

// factors shows somebody what they can show beside their password.
func (p *Pages) factors(w http.ResponseWriter, r *http.Request) {
	v := factorsView{}
	query := r.URL.Query()
	say := p.voice(r)
	if done := query.Get("done"); slices.Contains([]string{"passkey", "code", "removed", "forgotten", "kept", "linked"}, done) {
		v.Done = say.Say("factors.done-" + done)
	}
	if needed := query.Get("needed"); needed != "" {
		word := factor.AskTwo
		if slices.Contains(factor.Asked, needed) {
			word = needed
		}
		v.Why = say.Say("factors.needed-" + word)
	} else if query.Has("wanted") {
		v.Why, v.Later = say.Say("factors.wanted"), true
	}
	p.showFactors(w, r, http.StatusOK, v)
}

func (p *Pages) showFactors(w http.ResponseWriter, r *http.Request, status int, v factorsView) {
	t := guard.TurnOf(r)
	a, err := p.o.People.Find(r.Context(), t.Visitor.Account)
	var held factors.Held
	if err == nil {
		held, err = p.o.Factors.Of(r.Context(), a)
	}
	var links []store.ElsewhereLink
	if err == nil {
		links, err = p.o.Elsewhere.Links(r.Context(), a)
	}
	page := p.pageOf(r)
	if err == nil && page.CanHave() {
		var q factors.Question
		q, err = p.o.Factors.AskNew(r.Context(), a, page)
		v.Question = questionText(q)
	}
	if err != nil {
		p.o.Log.Error("an account could not be shown", "error", err)
		p.failed(w, r)
		return
	}
	v.frame = p.markedFrame(w, r, "factors.title")
	if v.Next = guard.Next(t.Book, r.URL.Query().Get("next")); v.Next != "" {
		v.Back = "?next=" + url.QueryEscape(v.Next)
	}
	now := time.Now()
	v.Device = v.set.Device(v.Language, r.UserAgent())
	for _, k := range held.Passkeys {
		used := v.Say("factors.never")
		if !k.UsedAt.IsZero() {
			used = v.ago(now.Sub(k.UsedAt))
		}
		v.Passkeys = append(v.Passkeys,
			shownPasskey{k.ID, k.Name, v.Say("factors.passkey-since", "since", words.Day(v.Language, k.MadeAt.Local()), "used", used)})
	}
	if held.Code != nil {
		v.CodeSince = words.Day(v.Language, held.Code.MadeAt.Local())
	}
	v.Kept, v.CanKeep = strconv.Itoa(held.Kept), a.Enrolled != 0
	for _, b := range held.Browsers {
		v.Browsers = append(v.Browsers, shownBrowser{b.Handle(), v.set.Device(v.Language, b.Agent), b.Network,
			v.Say("factors.browser-until", "until", words.Day(v.Language, b.Until.Local()), "seen", v.ago(now.Sub(b.UsedAt)))})
	}
	if held.Reset != nil {
		v.Reset = v.Say("factors.reset", "by", held.Reset.By, "when", words.Moment(v.Language, held.Reset.Due.Local()))
	}
	v.Linkable = providers(t.Book, false)
	for _, l := range links {
		title := l.Provider
		if d := policy.ElsewhereNamed(t.Book, l.Provider); d != nil {
			title = d.Title
		}
		used := v.Say("factors.never")
		if !l.UsedAt.IsZero() {
			used = v.ago(now.Sub(l.UsedAt))
		}
		v.Linked = append(v.Linked,
			shownLink{l.Provider, title,
				l.KnownAs + ", " + v.Say("factors.passkey-since", "since", words.Day(v.Language, l.MadeAt.Local()), "used", used)})
		v.Linkable = slices.DeleteFunc(v.Linkable, func(w providerWay) bool { return w.Name == l.Provider })
	}
	withScripts(w, r)
	p.render(w, r, status, "factors.html", v)
}

// sure returns the account of whoever changes what they can show, if it is sure enough that it is theirs: whoever has something set up
// has shown some of it a moment ago, and everybody else what they sign in with. Others are led to show it, and back to a page of
// the account.
func (p *Pages) sure(w http.ResponseWriter, r *http.Request, page string) *account.Account {
	t := guard.TurnOf(r)
	a, err := p.o.People.Find(r.Context(), t.Visitor.Account)
	if err != nil {
		p.failed(w, r)
		return nil
	}
	second := factor.Of(factor.Passkey, factor.Code)
	enough := t.Visitor.ProofAge >= 0 && t.Visitor.ProofAge <= recentProof
	to := t.Book.Prefix + "/prove-again?"
	if a.Enrolled&second != 0 {
		enough = t.Visitor.Shown().Within(recentProof)&second != 0
		to += "factor=" + url.QueryEscape((a.Enrolled | factor.Of(factor.Code)).String()) + "&within=" +
			document.FormatDuration(recentProof) + "&"
	}
	if enough {
		return a
	}
	next := t.Book.Prefix + "/account/" + page
	if r.Method == http.MethodGet {
		next = r.URL.RequestURI()
	} else {
		to += "unsent&"
	}
	redirect(w, to+"next="+url.QueryEscape(next))
	return nil
}

// sureForm reads a form of the page, and returns the account of whoever sent it, if it is sure that it is theirs; nil if it has answered.
func (p *Pages) sureForm(w http.ResponseWriter, r *http.Request) *account.Account {
	if err := readForm(w, r); err != nil {
		p.showFactors(w, r, unread(err), factorsView{Problem: p.voice(r).Say("wrong.malformed")})
		return nil
	}
	return p.sure(w, r, "factors")
}

// unchanged says on the page why something was not done.
func (p *Pages) unchanged(w http.ResponseWriter, r *http.Request, err error) {
	wrong := p.troubleOf(p.voice(r), err, "")
	wrong.header(w)
	p.showFactors(w, r, wrong.Status, factorsView{Problem: wrong.Text})
}

// change carries out what a form of the page asks for, if it is sure who asks.
func (p *Pages) change(done string, do func(r *http.Request, a *account.Account) error) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		a := p.sureForm(w, r)
		if a == nil {
			return
		}
		if err := do(r, a); err != nil {
			p.unchanged(w, r, err)
			return
		}
		p.know(w, r)
		redirect(w, guard.TurnOf(r).Book.Prefix+"/account/factors?done="+done)
	}
}

// know marks the browser of somebody who has just shown a second factor, or set one up: marks from before have ended.
func (p *Pages) know(w http.ResponseWriter, r *http.Request) {
	if a, err := p.o.People.Find(r.Context(), guard.TurnOf(r).Visitor.Account); err == nil {
		visitor.Know(p.o.Visitors, w.Header(), r, p.o.SignIn.Mark(a, a.Enrolled))
	}
}

// A setUpView is the page on which an app for codes is set up.
type setUpView struct {
	frame
	Problem, Next    string
	Text, Sealed     string
	Picture, Address template.URL // made by us: a picture in itself, and an address for apps
}

func (p *Pages) setUpForm(w http.ResponseWriter, r *http.Request) {
	a := p.sure(w, r, "factors")
	if a == nil {
		return
	}
	fresh, err := p.o.Factors.NewCode(a)
	if err != nil {
		p.failed(w, r)
		return
	}
	p.showSetUp(w, r, http.StatusOK, fresh, setUpView{Next: guard.Next(guard.TurnOf(r).Book, r.URL.Query().Get("next"))})
}

func (p *Pages) showSetUp(w http.ResponseWriter, r *http.Request, status int, fresh factors.Fresh, v setUpView) {
	v.frame = p.markedFrame(w, r, "setup.title")
	v.Text, v.Sealed, v.Picture, v.Address = fresh.Text, fresh.Sealed, template.URL(fresh.Picture), template.URL(fresh.Address)
	v.Here = "" // in another language it would be another secret
	v.Others = nil
	p.render(w, r, status, "set-up-code.html", v)
}

func (p *Pages) setUp(w http.ResponseWriter, r *http.Request) {
	a := p.sureForm(w, r)
	if a == nil {
		return
	}
	sealed, next := r.PostForm.Get("sealed"), guard.Next(guard.TurnOf(r).Book, r.PostForm.Get("next"))
	kept, err := p.o.Factors.SetCode(r.Context(), a, sealed, r.PostForm.Get("code"), p.o.Visitors.Origin(r))
	switch {
	case errors.Is(err, factors.ErrWrong):
		if fresh, err := p.o.Factors.SameCode(a, sealed); err == nil {
			p.showSetUp(w, r, http.StatusUnprocessableEntity, fresh, setUpView{Next: next, Problem: p.voice(r).Say("setup.wrong")})
			return
		}
		fallthrough
	case err != nil:
		wrong := p.troubleOf(p.voice(r), err, p.voice(r).Say("setup.wrong"))
		p.showFactors(w, r, wrong.Status, factorsView{Problem: wrong.Text})
	default:
		p.know(w, r)
		fresh, err := p.o.SignIn.HasShown(r.Context(), p.o.Visitors.Token(r), factor.Code, p.o.Visitors.Origin(r))
		if err != nil {
			p.o.Log.Error("a code that was shown could not be noted", "error", err) // it will be asked for again
		} else if fresh != nil {
			p.o.Visitors.Renew(w.Header(), r, fresh)
		}
		p.shownOnce(w, r, kept, "code", next)
	}
}

func (p *Pages) addPasskey(w http.ResponseWriter, r *http.Request) {
	a := p.sureForm(w, r)
	if a == nil {
		return
	}
	kept, err := p.o.Factors.Add(r.Context(), a, p.pageOf(r), r.PostForm.Get("passkey"), r.PostForm.Get("name"), p.o.Visitors.Origin(r))
	if err != nil {
		p.unchanged(w, r, err)
		return
	}
	p.know(w, r)
	p.shownOnce(w, r, kept, "passkey", guard.Next(guard.TurnOf(r).Book, r.URL.Query().Get("next")))
}

// A keptView is the page with codes to keep, which are shown once.
type keptView struct {
	frame
	Codes []string
	Next  string
}

// shownOnce shows codes to keep, if there are new ones, and leads on.
func (p *Pages) shownOnce(w http.ResponseWriter, r *http.Request, codes []string, done, next string) {
	if next == "" {
		next = guard.TurnOf(r).Book.Prefix + "/account/factors?done=" + done
	}
	if len(codes) == 0 {
		redirect(w, next)
		return
	}
	v := keptView{frame: p.frame(r, "kept.title"), Codes: codes, Next: next}
	v.Here, v.Others = "", nil
	p.render(w, r, http.StatusOK, "kept.html", v)
}

func (p *Pages) newKept(w http.ResponseWriter, r *http.Request) {
	a := p.sureForm(w, r)
	if a == nil {
		return
	}
	codes, err := p.o.Factors.NewKept(r.Context(), a, p.o.Visitors.Origin(r))
	if err != nil {
		p.unchanged(w, r, err)
		return
	}
	p.shownOnce(w, r, codes, "code", "")
}
