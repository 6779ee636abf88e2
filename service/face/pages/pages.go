// Package pages is what people meet at the doors: the sign-in page and its sisters, and
// the pages that say why somebody was turned away. They are rendered by the service and
// work without JavaScript.
package pages

import (
	"bytes"
	"crypto/sha256"
	"embed"
	"encoding/base64"
	"encoding/json"
	"errors"
	"html/template"
	"io/fs"
	"log/slog"
	"net/http"
	"net/url"
	"os"
	"strings"
	"sync"

	"github.com/go-chi/chi/v5"

	"ostiarius/core/place"
	"ostiarius/core/policy"
	"ostiarius/core/session"
	"ostiarius/service/base/guard"
	"ostiarius/service/door/visitor"
	"ostiarius/service/held/passes"
	"ostiarius/service/held/shared"
	"ostiarius/service/shop/events"
	"ostiarius/service/who/accesskeys"
	"ostiarius/service/who/elsewhere"
	"ostiarius/service/who/factors"
	"ostiarius/service/who/joining"
	"ostiarius/service/who/leaving"
	"ostiarius/service/who/people"
	"ostiarius/service/who/recovery"
	"ostiarius/service/who/sessions"
	"ostiarius/service/who/signin"
)

// Options are what Pages need.
type Options struct {
	People   *people.Register
	Sessions *sessions.Records
	Recovery *recovery.Recovery
	Factors  *factors.Factors
	Keys     *accesskeys.Keys
	// Elsewhere is where people come back from providers.
	Elsewhere *elsewhere.Providers
	Joining   *joining.Joining
	Leaving   *leaving.Leaving
	Shared    *shared.Passwords
	Passes    *passes.Passes
	Events    *events.Inbox
	SignIn    *signin.Entrance
	Visitors  *visitor.Finder
	Log       *slog.Logger
	Beside    func(name string) string // where a file is that the policy names
	// InPlace answers with a page of the site in the place of ours, with a status, and reports whether it did; nil for
	// not at all.
	InPlace func(w http.ResponseWriter, r *http.Request, page string, status int) bool
	// Lacks reports whether there is known to be nothing at a place of the site; nil if that is not known.
	Lacks func(book *policy.Book, at place.Place) bool
	// Mails says that there is a mail server, so that links can be mailed.
	Mails bool
	// Mark makes the mark of a page of the console for which the password was typed just now, in the session of the request; nil if
	// there are no such pages.
	Mark func(r *http.Request) string
}

// Pages serves the pages that people meet.
type Pages struct {
	o       Options
	kept    *keeping
	askings askings
	marks   *session.Marker
}

// New returns the pages.
func New(o Options) *Pages { return &Pages{o: o, kept: newKeeping(), marks: session.NewMarker()} }

//go:embed templates/*.html
var templateFiles embed.FS

//go:embed assets
var assetFiles embed.FS

// templates returns those of all pages. They are read when the first page is drawn.
var templates = sync.OnceValue(func() *template.Template {
	return template.Must(template.ParseFS(templateFiles, "templates/*.html"))
})

// Routes adds the pages to the router of Ostiarius's own pages.
func (p *Pages) Routes(r chi.Router) {
	p.routeChanges(r)
	r.Get("/sign-in", p.signInForm)
	r.Get("/sign-in/second", p.secondForm)
	r.Get("/sign-out", p.signOutForm)
	r.Get("/prove-again", p.proveAgainForm)
	r.Get("/account", p.account)
	r.Get("/account/factors", p.factors)
	r.Get("/elsewhere/{name}", p.elsewhereForm)
	r.Get("/elsewhere/{name}/back", p.backFromElsewhere)
	r.Get("/elsewhere/{name}/first", p.firstElsewhere)
	r.Get("/elsewhere/{name}/signed-out", p.signedOutElsewhere)
	r.Get("/account/access-keys", p.accessKeys)
	r.Get("/account/code", p.setUpForm)
	r.Get("/recover", p.recoverForm)
	r.Get("/join", p.joinForm)
	r.Get("/address", p.addressForm)
	r.Get("/account/data", p.takeAlong)
	r.Get("/first", p.firstForm)
	r.Get("/unlock", p.unlockForm)
	r.Get("/pass", p.passForm)
	r.Get("/thanks", p.thanks)
	r.Get("/claim", p.claimForm)
	for path, handler := range map[string]http.HandlerFunc{"/me": p.me, "/may": p.may} {
		r.Get(path, forOrigins(handler))
		r.Options(path, forOrigins(handler))
	}
	r.Post("/may", forOrigins(p.may)) // which changes nothing
	r.Get("/client.js", p.clientScript)
	r.Get("/client.d.ts", p.clientTypes)
	r.Get("/done", p.done)
	r.Get("/walk", p.walkPage)
	r.Get("/walk/about", p.aboutWalk)
	r.Post("/walk/end", p.endWalk)
	assets, err := fs.Sub(assetFiles, "assets")
	if err != nil {
		panic(err)
	}
	files := http.FileServerFS(assets)
	r.Get("/assets/looks.css", p.looksSheet)
	r.Get("/assets/looks/{what}", p.looksFile)
	r.Get("/assets/{name}", func(w http.ResponseWriter, r *http.Request) {
		if _, err := fs.Stat(assets, chi.URLParam(r, "name")); err != nil {
			p.Missing(w, r)
			return
		}
		w.Header().Set("Cache-Control", "public, max-age=3600")
		http.StripPrefix(guard.TurnOf(r).Book.Prefix+"/assets", files).ServeHTTP(w, r)
	})
}

// contentPolicy lets a page load our own style sheet, and nothing else.
const contentPolicy = "default-src 'none'; style-src 'self'; font-src 'self'; img-src 'self' data:; form-action 'self'; " +
	"frame-ancestors 'none'; base-uri 'none'"

// policyWith is contentPolicy for a page with one script, which stands in it.
func policyWith(script string) string {
	sum := sha256.Sum256([]byte(script))
	return contentPolicy + "; script-src 'sha256-" + base64.StdEncoding.EncodeToString(sum[:]) + "'"
}

// A notice is a page that says what happened, and what can be done.
type notice struct {
	frame
	Lead      string    // what happened, in a sentence
	Who       bool      // tell who somebody is
	Roles     string    // what the visitor has
	Hint      string    // what can be done
	Other     string    // the address at which to sign in as somebody else
	OtherName string    // the address for which other credentials of HTTP Basic are to be asked
	Reference string    // the number under which a refusal can be found
	Back      string    // the page to go back to
	Offers    []offered // of what would open the page
}

// render writes a page. Nothing of it is stored by caches, and nothing but our own style
// sheet is loaded by it.
func (p *Pages) render(w http.ResponseWriter, r *http.Request, status int, name string, v any) {
	var page bytes.Buffer
	if err := templates().ExecuteTemplate(&page, name, v); err != nil {
		p.o.Log.Error("page not rendered", "page", name, "error", err)
		http.Error(w, "This page cannot be shown.", http.StatusInternalServerError)
		return
	}
	w.Header().Add("Vary", "Accept-Language")
	h := w.Header()
	h.Set("Content-Type", "text/html; charset=utf-8")
	h.Set("Cache-Control", "private, no-store")
	h.Set("X-Content-Type-Options", "nosniff")
	if h.Get("Referrer-Policy") == "" {
		h.Set("Referrer-Policy", "same-origin")
	}
	if h.Get("Content-Security-Policy") == "" {
		h.Set("Content-Security-Policy", framed(r, contentPolicy))
	}
	if t := guard.TurnOf(r); t != nil && len(t.Book.Origins) > 0 { // browsers follow a form there only if its page says so
		onward := "form-action 'self' " + strings.Join(t.Book.Origins, " ")
		h.Set("Content-Security-Policy", strings.Replace(h.Get("Content-Security-Policy"), "form-action 'self'", onward, 1))
	}
	w.WriteHeader(status)
	if r.Method != http.MethodHead {
		w.Write(page.Bytes())
	}
}

// failed says that something does not work at the moment.
func (p *Pages) failed(w http.ResponseWriter, r *http.Request) {
	f := p.frame(r, "upstream.title")
	trouble{Wait: tryAgain}.header(w)
	p.render(w, r, http.StatusServiceUnavailable, "notice.html", notice{frame: f, Lead: f.Say("wrong.failed")})
}

// readForm reads a form that is no longer than ours ever are.
func readForm(w http.ResponseWriter, r *http.Request) error {
	r.Body = http.MaxBytesReader(w, r.Body, 64<<10)
	return r.ParseForm()
}

// unread is the status for a form that could not be read: it did not come in time, or is none.
func unread(err error) int {
	if errors.Is(err, os.ErrDeadlineExceeded) {
		return http.StatusRequestTimeout
	}
	return http.StatusBadRequest
}

// redirect sends to a page with 303, so that it is fetched with GET whatever the method
// was (RFC 9110, section 15.4.4).
func redirect(w http.ResponseWriter, to string) {
	w.Header().Set("Cache-Control", "private, no-store")
	w.Header().Set("Location", to)
	w.WriteHeader(http.StatusSeeOther)
}

func writeJSON(w http.ResponseWriter, value any) {
	w.Header().Set("Content-Type", "application/json")
	w.Header().Set("Cache-Control", "private, no-store")
	w.Header().Set("X-Content-Type-Options", "nosniff")
	json.NewEncoder(w).Encode(value)
}

// backToForm returns where to lead somebody whose request could not be carried out since a
// proof was missing. After what was to change something, that is the page with the form,
// if the browser says which it was: what was typed there has to be sent again.
func (p *Pages) backToForm(r *http.Request, t *guard.Turn, location string) string {
	page, query, _ := strings.Cut(location, "?")
	values, err := url.ParseQuery(query)
	if err != nil || !values.Has("unsent") {
		return location
	}
	from, err := url.Parse(r.Referer())
	if err != nil || from.Host != r.Host {
		return location
	}
	back := guard.OwnPath(t.Book, from.RequestURI())
	if back == "" || strings.HasPrefix(back, t.Book.Prefix+"/") {
		return location
	}
	return page + "?next=" + url.QueryEscape(back) + "&unsent"
}
