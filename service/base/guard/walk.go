package guard

import (
	"net/http"

	"ostiarius/core/policy"
)

// A Walk is a way through the site as somebody else. For its requests nothing else is looked at that they bring: neither session nor
// credentials. It is for the site alone: own pages know no walks, but for those that tell scripts who is here.
type Walk struct {
	As policy.Visitor
	// Changes says that requests may change something; else only GET, HEAD and OPTIONS are let through.
	Changes bool
	// Within is the steward who walks, who is to see no more than they may see themselves; nil for no such bound.
	Within *policy.Visitor
}

// What is told instead of the page.
const (
	walkChangesNothing = "This is a preview as another visitor, which doesn't allow changes. Start one that does if you want to."
	walkSeesNoMore     = "Whom you walk as may see this page, but you may not yourself, so it is not shown."
)

// walking returns the walk of a request; nil for none. What the answer needs besides is added to h.
func (g *Guard) walking(h http.Header, r *http.Request, asked *policy.Asked, t *Turn) *Walk {
	if g.Walking == nil {
		return nil
	}
	if p := asked.Place.Path; t.Book.IsOwn(asked.Place) && p != t.Book.Prefix+"/me" && p != t.Book.Prefix+"/may" {
		return nil
	}
	return g.Walking(h, r, t.Book)
}

// judgeWalk decides for whom a walk stands in.
func (g *Guard) judgeWalk(r *http.Request, asked *policy.Asked, t *Turn) policy.Decision {
	walk := t.Walk
	from := g.Front.Client(r)
	t.Visitor = walk.As
	if !t.Visitor.From.IsValid() {
		t.Visitor.From = from
	}
	t.Place, t.DropCredentials = asked.Place, len(r.Header["Authorization"]) > 0
	d := t.Book.Judge(asked.Place, asked.Doors(), &t.Visitor)
	if d.Outcome == policy.Admit && !walk.Changes && !t.Book.IsOwn(asked.Place) && changes(r) { // own pages that know walks change nothing
		d = policy.Decision{Outcome: policy.Refuse, Place: d.Place, Door: d.Door, Instead: policy.Instead{Say: walkChangesNothing}}
	}
	if d.Outcome == policy.Admit && walk.Within != nil && !t.Book.Admits(asked.Doors(), walk.Within) {
		d = policy.Decision{Outcome: policy.Refuse, Place: d.Place, Door: d.Door, Instead: policy.Instead{Say: walkSeesNoMore}}
	}
	t.Place, t.Door, t.Public = d.Place, d.Door, d.Public
	return d
}

// changes reports whether a request may change something: by its method, by one that it names for what is behind, or since it opens
// a way for more.
func changes(r *http.Request) bool {
	if r.Method != http.MethodGet && r.Method != http.MethodHead && r.Method != http.MethodOptions {
		return true
	}
	for _, name := range []string{"Upgrade", "X-Http-Method-Override", "X-Http-Method", "X-Method-Override"} {
		if len(r.Header[name]) > 0 {
			return true
		}
	}
	return opensWebSocket(r.Header)
}
