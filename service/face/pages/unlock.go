package pages

import (
	"errors"
	"net/http"
	"net/url"
	"slices"
	"strconv"
	"strings"

	"ostiarius/client"
	"ostiarius/core/pass"
	"ostiarius/core/policy"
	"ostiarius/core/words"
	"ostiarius/service/base/guard"
	"ostiarius/service/base/problem"
	"ostiarius/service/held/passes"
	"ostiarius/service/held/shared"
)

// An unlockView is the page where a shared password or a pass is shown.
type unlockView struct {
	frame
	Problem  string
	Lead     string
	Lapsed   []string // why the passes that the browser has open nothing
	Name     string   // of the shared password that is asked for; "" for none that is told
	Shared   bool     // one is asked for
	Pass     bool     // a pass would do
	Username string   // of a pass
	Next     string
	Elsewise string // where to sign in instead, "" if that is of no use
	Unsent   bool
	Offers   []offered // of what would open the page
}

// What a page asks for beside an account.
type unlocks struct {
	shared []string
	passes []string
	signIn bool
	met    bool // nothing is missing any more
}

// unlocksAt says what could be unlocked for an address of the site. Of what is hidden nothing is said.
func (p *Pages) unlocksAt(r *http.Request, address string) (u unlocks, err error) {
	if address == "" {
		return u, nil
	}
	t := guard.TurnOf(r)
	path, _, _ := strings.Cut(address, "?")
	q := policy.Request{Method: http.MethodGet, Host: t.Place.Host, Path: path}
	d, err := p.o.Visitors.Decide(r, t, q)
	if err != nil {
		return u, err
	}
	if u.met = d.Outcome == policy.Admit; d.Outcome != policy.Challenge {
		return u, nil
	}
	asked, err := t.Book.Read(q)
	if err != nil {
		return u, nil
	}
	for _, door := range asked.Doors() {
		for _, name := range door.Shared() {
			if !slices.Contains(u.shared, name) {
				u.shared = append(u.shared, name)
			}
		}
		u.passes = append(u.passes, door.Passes()...)
		for _, kind := range []policy.Kind{policy.SignedIn, policy.Role, policy.User} {
			u.signIn = u.signIn || !t.Visitor.SignedIn && door.Admit.Mentions(kind)
		}
	}
	if d.Proof.Kind == policy.ProveShared { // what is asked for first
		at := slices.Index(u.shared, d.Proof.Name)
		u.shared[0], u.shared[at] = u.shared[at], u.shared[0]
	}
	return u, nil
}

func (p *Pages) unlockForm(w http.ResponseWriter, r *http.Request) {
	t := guard.TurnOf(r)
	query := r.URL.Query()
	next := guard.Next(t.Book, query.Get("next"))
	u, err := p.unlocksAt(r, here(next))
	asked := false // for one password, whatever it opens
	if name := query.Get("name"); err == nil && policy.SharedNamed(t.Book, name) != nil && told(t.Book, name) {
		holds := guard.Turn{Book: t.Book, Place: t.Place, Secure: t.Secure}
		err = p.o.Visitors.Unlocked(r, policy.Wanted{Shared: []string{name}}, &holds)
		asked = len(holds.Visitor.Shared) == 0
	}
	switch {
	case err != nil:
		p.failed(w, r)
		return
	case u.met && !asked:
		redirect(w, next)
		return
	}
	p.showUnlock(w, r, http.StatusOK, u, unlockView{Next: next, Name: query.Get("name"), Unsent: query.Has("unsent")})
}

// told reports whether the policy tells people of a shared password: some door that is not hidden asks for it.
func told(book *policy.Book, name string) bool {
	return slices.ContainsFunc(book.Doors, func(d policy.Door) bool {
		return slices.Contains(d.Shared(), name) && !d.Otherwise.Anonymous.Hide && !d.Otherwise.Refused.Hide
	})
}

func (p *Pages) showUnlock(w http.ResponseWriter, r *http.Request, status int, u unlocks, v unlockView) {
	t := guard.TurnOf(r)
	v.frame = p.frame(r, "unlock.title")
	v.Offers = p.offersAt(r, t, here(v.Next))
	if len(u.shared) > 0 && !slices.Contains(u.shared, v.Name) {
		v.Name = u.shared[0]
	}
	v.Shared, v.Pass = len(u.shared) > 0 || len(u.passes) == 0, len(u.passes) > 0
	v.Lead = v.Say("unlock.lead")
	if d := policy.SharedNamed(t.Book, v.Name); d != nil && (len(u.shared) > 0 || told(t.Book, v.Name)) {
		v.Title = d.Title
		if d.Say != "" {
			v.Lead = d.Say
		}
	} else if kind := policy.PassNamed(t.Book, first(u.passes)); kind != nil {
		v.Title = kind.Title
	}
	for _, held := range p.lapsed(r, u.passes, here(v.Next)) {
		v.Lapsed = append(v.Lapsed, lapsedText(v.voice, t.Book, held))
	}
	if u.signIn && v.SignIn != "" {
		v.Elsewise = policy.To(v.SignIn, "next="+url.QueryEscape(v.Next))
	}
	w.Header().Set("Content-Security-Policy", framed(r, contentPolicy+"; script-src 'self'"))
	p.render(w, r, status, "unlock.html", v)
}

func first(names []string) string {
	if len(names) == 0 {
		return ""
	}
	return names[0]
}

// lapsed returns the passes that somebody has for an address and that open it no longer.
func (p *Pages) lapsed(r *http.Request, kinds []string, address string) (all []*passes.Held) {
	if len(kinds) == 0 {
		return nil
	}
	t := guard.TurnOf(r)
	path, _, _ := strings.Cut(address, "?")
	asked, err := t.Book.Read(policy.Request{Method: http.MethodGet, Host: t.Place.Host, Path: path})
	if err != nil {
		return nil
	}
	for _, held := range p.o.Visitors.Held(r, t.Book, kinds, asked.Place.Path) {
		if held.Covers() && !held.State().Opens() {
			all = append(all, held)
		}
	}
	return all
}

// lapsedText says why a pass opens nothing, and how to get another one.
func lapsedText(say voice, book *policy.Book, held *passes.Held) string {
	return stateText(say, book, held.Pass(), held.State())
}

func stateText(say voice, book *policy.Book, is *pass.Pass, state pass.State) string {
	kind := policy.PassNamed(book, is.Kind)
	if kind == nil {
		return say.Say("pass.gone")
	}
	text := ""
	switch state {
	case pass.Ended:
		text = say.Say("pass.ended", "title", kind.Title, "at", words.Zoned(say.Language, is.Until.Local()))
	case pass.UsedUp:
		text = say.Say("pass.used-up", "title", kind.Title, "n", strconv.Itoa(is.Allowed))
	case pass.Paused:
		if is.Why == pass.BySpread {
			return say.Say("pass.spread", "title", kind.Title)
		}
		text = say.Say("pass.paused", "title", kind.Title)
	default:
		text = say.Say("pass.gone")
	}
	if kind.Say != "" {
		return text + " " + kind.Say
	}
	return text + " " + say.Say("pass.ask", "reference", is.Reference)
}

// UsedUp answers in the place of a download that a pass no longer has.
func (p *Pages) UsedUp(w http.ResponseWriter, r *http.Request) {
	t := guard.TurnOf(r)
	f := p.bareFrame(r, t.Book, "turned.title")
	lead, hint := f.Say("pass.last", "title", ""), ""
	if len(t.Passes) > 0 {
		if kind := policy.PassNamed(t.Book, t.Passes[0].Kind()); kind != nil {
			lead, hint = f.Say("pass.last", "title", kind.Title), kind.Say
		}
	}
	if guard.ClientOf(r.Header) != policy.Browser {
		problem.Write(w, client.Problem{Status: http.StatusForbidden, Detail: lead, Code: "pass-used-up"})
		return
	}
	p.render(w, r, http.StatusForbidden, "notice.html", notice{frame: f, Lead: lead, Hint: hint})
}

// unlock takes a shared password, or the name and the password of a pass.
func (p *Pages) unlock(w http.ResponseWriter, r *http.Request) {
	say := p.voice(r)
	s, err := readSent(w, r, guard.TurnOf(r).Book)
	var wrong trouble
	var u unlocks
	to := ""
	switch {
	case err != nil:
		wrong = trouble{"malformed", unread(err), say.Say("wrong.malformed"), 0}
	case s.Password == "":
		wrong = trouble{"missing", http.StatusUnprocessableEntity, say.Say("wrong.missing-password"), 0}
	default:
		if u, err = p.unlocksAt(r, here(s.Next)); err == nil {
			if s.Username != "" {
				to, err = p.enterPass(w, r, s)
			} else {
				to, err = p.unlockShared(w, r, s, u)
			}
		}
		switch {
		case errors.Is(err, shared.ErrWrong):
			wrong = trouble{"wrong", http.StatusUnprocessableEntity, say.Say("wrong.unlock"), 0}
		case errors.Is(err, passes.ErrWrong):
			wrong = trouble{"wrong", http.StatusUnprocessableEntity, say.Say("wrong.pass"), 0}
		case err != nil:
			wrong = p.troubleOf(say, err, "")
		}
	}
	if wrong.Code != "" {
		s.refuse(w, wrong, func() {
			p.showUnlock(w, r, wrong.Status, u, unlockView{Problem: wrong.Text, Next: s.Next, Name: s.Name, Username: s.Username})
		})
		return
	}
	if s.Next != "" {
		to = s.Next
	}
	if s.json {
		writeJSON(w, map[string]any{"unlocked": true, "next": to})
		return
	}
	redirect(w, to)
}

// unlockShared takes what was typed for the name that was asked for, and for the others that would open the page.
func (p *Pages) unlockShared(w http.ResponseWriter, r *http.Request, s sent, u unlocks) (to string, err error) {
	t := guard.TurnOf(r)
	names := u.shared
	if s.Name != "" && !slices.Contains(names, s.Name) {
		names = append([]string{s.Name}, names...)
	}
	from := p.o.Visitors.Origin(r)
	token, unlocked, err := p.o.Shared.Unlock(r.Context(), names, s.Password,
		shared.Origin{Network: from.Network, Agent: from.Agent, Account: t.Visitor.Account},
		func(name string) string { return p.o.Visitors.UnlockToken(r, name) })
	if err != nil {
		return "", err
	}
	d := policy.SharedNamed(t.Book, unlocked.Name)
	if d == nil {
		return "", shared.ErrWrong
	}
	p.o.Visitors.GiveUnlock(w.Header(), r, d, unlocked, token)
	return policy.Opened(t.Book, policy.Shared, unlocked.Name), nil
}

// enterPass takes the name and the password of a pass.
func (p *Pages) enterPass(w http.ResponseWriter, r *http.Request, s sent) (to string, err error) {
	from := p.o.Visitors.Origin(r)
	token, is, err := p.o.Passes.Gate().Enter(r.Context(), s.Username, s.Password, passes.Origin{Network: from.Network, Agent: from.Agent})
	if err != nil {
		return "", err
	}
	p.o.Visitors.GivePass(w.Header(), r, is.ID, token)
	return p.o.Passes.Leads(is), nil
}
