package pages

import (
	"net/http"
	"net/url"
	"path"
	"strings"

	"ostiarius/core/words"
	"ostiarius/service/base/guard"
	"ostiarius/service/rule/source"
)

// A listingView is the page that shows what is in a directory.
type listingView struct {
	frame
	Up      bool // the directory around it can be seen
	Entries []listed
	More    bool
}

type listed struct{ Name, Address, Size string }

// Listing shows what is in a directory: what this visitor may open there. Everything else is left out, since its name could tell something.
func (p *Pages) Listing(w http.ResponseWriter, r *http.Request, entries []source.Entry, more bool) {
	t := guard.TurnOf(r)
	at := r.URL.Path
	v := listingView{frame: p.bareFrame(r, t.Book, "listing.title"), More: more}
	v.Title = v.Say("listing.title", "path", at)
	v.Account = t.Visitor.Account
	if around := path.Dir(strings.TrimSuffix(at, "/")); around != "/" && around != "." { // to that leads another link
		v.Up = p.admitted(r, t, (&url.URL{Path: around}).EscapedPath())
	}
	for _, e := range entries {
		one := listed{Name: e.Name, Address: (&url.URL{Path: e.Name}).EscapedPath(), Size: words.Size(v.Language, e.Size)}
		if e.Directory {
			one.Name, one.Address, one.Size = e.Name+"/", one.Address+"/", v.Say("listing.directory")
		}
		if p.admitted(r, t, (&url.URL{Path: at}).EscapedPath()+one.Address) {
			one.Address = "./" + one.Address // a name may have a colon
			v.Entries = append(v.Entries, one)
		}
	}
	w.Header().Del("Cache-Control")
	p.render(w, r, http.StatusOK, "listing.html", v)
}
