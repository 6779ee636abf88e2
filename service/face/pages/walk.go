package pages

import (
	_ "embed"
	"html/template"
	"net/http"
	"strings"

	"ostiarius/core/policy"
	"ostiarius/core/prove"
	"ostiarius/service/base/guard"
	"ostiarius/service/door/visitor"
)

// A steward walks through the site as somebody else in a window of its own: a bar of ours says for each page what decides there,
// and the site stands in a frame below it, as it is. The page holds nothing that a script of the site could use: not the mark of
// the console, and no token.

//go:embed scripts/walk.js
var walkScript string

var walkPolicy = policyWith(walkScript) + "; frame-src 'self'; connect-src 'self'"

// A walkView is the page of a walk.
type walkView struct {
	frame
	As      string
	Ends    int64 // milliseconds since 1970
	Changes bool
	Start   string
	Script  template.JS
}

func (p *Pages) walkPage(w http.ResponseWriter, r *http.Request) {
	t := guard.TurnOf(r)
	walk, ok := p.o.Visitors.Walks().Of(r)
	if !ok {
		f := p.frame(r, "missing.title")
		f.Title = "No preview is running"
		p.render(w, r, http.StatusNotFound, "notice.html",
			notice{frame: f, Lead: "Start a preview as another visitor in the console, under Try. It ends after 15 minutes."})
		return
	}
	start := guard.OwnPath(t.Book, r.URL.Query().Get("next"))
	if start == "" || isOwn(t.Book, start) {
		start = "/"
	}
	f := p.frame(r, "missing.title")
	f.Title = "As " + whoIs(walk.As)
	w.Header().Set("Content-Security-Policy", walkPolicy)
	p.render(w, r, http.StatusOK, "walk.html",
		walkView{f, whoIs(walk.As), walk.Until.UnixMilli(), walk.Changes, start, template.JS(walkScript)})
}

// isOwn reports whether an address is that of a page of ours.
func isOwn(b *policy.Book, address string) bool {
	path, _, _ := strings.Cut(address, "?")
	asked, err := b.Read(policy.Request{Method: http.MethodGet, Path: path})
	return err == nil && b.IsOwn(asked.Place)
}

// whoIs names who a walk is as, without the stand-in for an account.
func whoIs(v policy.Visitor) string {
	if v.Account == visitor.Stand {
		v.Account = ""
	}
	return v.String()
}

// aboutWalk says what decides at an address for who walks, and what others get there.
func (p *Pages) aboutWalk(w http.ResponseWriter, r *http.Request) {
	t := guard.TurnOf(r)
	walk, ok := p.o.Visitors.Walks().Of(r)
	if !ok {
		http.Error(w, "no preview is running", http.StatusNotFound)
		return
	}
	path, query, _ := strings.Cut(r.URL.Query().Get("at"), "?")
	request := policy.Request{Method: http.MethodGet, Host: r.Host, Path: path}
	as := walk.As
	if as.Account == visitor.Stand { // nobody in particular
		as.Account = ""
	}
	e := t.Book.Explain(request, &as, policy.Browser, query)
	type other struct {
		As      string `json:"as"`
		Outcome string `json:"outcome"`
	}
	said := struct {
		Outcome string   `json:"outcome"`
		Path    string   `json:"path"`
		Says    string   `json:"says"`
		Steps   []string `json:"steps"`
		Own     bool     `json:"own"`
		Change  string   `json:"change"`
		Others  []other  `json:"others"`
	}{
		Outcome: string(e.Outcome), Path: e.Path, Says: e.Says, Steps: []string{}, Own: isOwn(t.Book, path),
		Change: t.Book.Prefix + "/console/site?place=", Others: []other{},
	}
	for _, step := range e.Steps {
		said.Steps = append(said.Steps, step.Text)
	}
	for _, kind := range prove.Kinds(t.Book) {
		said.Others = append(said.Others, other{kind.String(), string(t.Book.Decide(request, &kind).Outcome)})
	}
	writeJSON(w, said)
}

func (p *Pages) endWalk(w http.ResponseWriter, r *http.Request) {
	if walk, ok := p.o.Visitors.Walks().Of(r); ok {
		if err := p.o.Visitors.Walks().End(walk); err != nil {
			p.o.Log.Error("a walk could not be ended", "error", err)
		}
	}
	p.o.Visitors.Walks().Forget(w.Header(), r)
	redirect(w, guard.TurnOf(r).Book.Prefix+"/console/try")
}

// stopped says to a steward who walks what somebody else would be asked for at a place, in the place of leading there: what they
// have proven themselves would count.
func (p *Pages) stopped(w http.ResponseWriter, r *http.Request, t *guard.TurnedAway) {
	f := p.bareFrame(r, t.Book, "turned.title")
	f.Title = "A visitor would be asked here"
	lead := map[policy.ProofKind]string{
		policy.ProveSignIn: "To sign in.", policy.ProveAgain: "To enter the password again.",
		policy.ProveShared: "To enter a shared password.", policy.ProvePass: "For a pass.",
		policy.ProveKeyring: "To enter a name and password in the browser's dialog.",
	}[t.Decision.Proof.Kind]
	hint := "You see this as " + whoIs(t.Walk.As) + "."
	if t.Answer.Location != "" {
		hint += " The answer would lead to " + t.Answer.Location + "."
		if t.Decision.Instead.Go != "" {
			f.Title, lead = "A visitor would go to another page", "The door says which."
		}
	}
	p.render(w, r, http.StatusForbidden, "notice.html", notice{frame: f, Lead: lead, Hint: hint})
}
