package pages

import (
	"errors"
	"net/http"

	"ostiarius/core/pass"
	"ostiarius/service/base/guard"
	"ostiarius/service/held/passes"
	"ostiarius/store"
)

// A passView is the page to which the link of a pass leads.
type passView struct {
	frame
	Lead   string
	For    string // to whom it was issued
	Lapsed string // why it opens nothing, "" if it does
	Again  bool   // it is opened again, with other credentials
	Go     string // what the button says
	// What is new, shown this once.
	User, Password, To, GoOn string
}

// passForm shows a page with one button: looking at a link uses nothing up, whoever does that. The token is not left
// in the address: the browser is given it for this page alone, and led to where nothing of it stands.
func (p *Pages) passForm(w http.ResponseWriter, r *http.Request) {
	w.Header().Set("Referrer-Policy", "no-referrer")
	query := r.URL.Query()
	for _, what := range []string{"link", "again"} {
		if query.Has(what) {
			p.o.Visitors.Bring(w.Header(), r, what, query.Get(what))
			redirect(w, guard.TurnOf(r).Book.Prefix+"/pass")
			return
		}
	}
	what, token := p.o.Visitors.Brought(r)
	is, err := p.passOf(r, what, token)
	switch {
	case err != nil:
		p.o.Log.Error("the link of a pass could not be looked up", "error", err)
		p.failed(w, r)
	case is == nil:
		p.noPass(w, r)
	default:
		p.showPass(w, r, is, what == "again")
	}
}

func (p *Pages) passOf(r *http.Request, what, token string) (*pass.Pass, error) {
	if what == "again" {
		return p.o.Passes.Gate().ByAgain(r.Context(), token)
	}
	return p.o.Passes.Gate().ByLink(r.Context(), token)
}

func (p *Pages) noPass(w http.ResponseWriter, r *http.Request) {
	f := p.frame(r, "pass.gone-title")
	p.render(w, r, http.StatusGone, "notice.html", notice{frame: f, Lead: f.Say("pass.gone")})
}

func (p *Pages) showPass(w http.ResponseWriter, r *http.Request, is *pass.Pass, again bool) {
	t := guard.TurnOf(r)
	title := p.o.Passes.TitleOf(is.Kind)
	v := passView{frame: p.frame(r, "pass.title"), Again: again}
	if again {
		v.Title = v.Say("pass.again-title")
		v.Lead, v.Go = v.Say("pass.again-lead", "title", title), v.Say("pass.again-go")
		p.render(w, r, http.StatusOK, "pass.html", v)
		return
	}
	switch state := p.o.Passes.StateOf(is); {
	case state == pass.Revoked:
		p.noPass(w, r)
		return
	case !state.Opens():
		v.Lapsed = stateText(v.voice, t.Book, is, state)
	default:
		v.Lead, v.Go = v.Say("pass.lead", "title", title), v.Say("pass.go")
		if is.Name != "" {
			v.For = v.Say("pass.for", "name", is.Name)
		}
	}
	p.render(w, r, http.StatusOK, "pass.html", v)
}

// pass opens the pass whose link was brought, in this browser.
func (p *Pages) pass(w http.ResponseWriter, r *http.Request) {
	what, token := p.o.Visitors.Brought(r)
	from := p.o.Visitors.Origin(r)
	origin := passes.Origin{Network: from.Network, Agent: from.Agent}
	if what == "again" {
		p.reopen(w, r, token, origin)
		return
	}
	given, is, err := p.o.Passes.Gate().Open(r.Context(), token, origin)
	switch {
	case errors.Is(err, store.ErrNone):
		p.noPass(w, r)
	case err != nil:
		p.o.Log.Error("a pass could not be opened", "error", err)
		p.failed(w, r)
	default:
		p.o.Visitors.Bring(w.Header(), r, "", "")
		p.o.Visitors.GivePass(w.Header(), r, is.ID, given)
		redirect(w, p.o.Passes.Leads(is))
	}
}

func (p *Pages) reopen(w http.ResponseWriter, r *http.Request, token string, from passes.Origin) {
	given, issued, err := p.o.Passes.Gate().Reopen(r.Context(), token, from)
	switch {
	case errors.Is(err, store.ErrNone):
		p.noPass(w, r)
		return
	case err != nil:
		p.o.Log.Error("a pass could not be opened again", "error", err)
		p.failed(w, r)
		return
	}
	p.o.Visitors.Bring(w.Header(), r, "", "")
	p.o.Visitors.GivePass(w.Header(), r, issued.Pass.ID, given)
	v := passView{frame: p.frame(r, "pass.title"), User: issued.Pass.ID, Password: issued.Password, To: p.o.Passes.Leads(issued.Pass)}
	v.Lead, v.GoOn = v.Say("pass.new"), v.Say("pass.go-on", "title", p.o.Passes.TitleOf(issued.Pass.Kind))
	p.render(w, r, http.StatusOK, "pass.html", v)
}
