// Package pages is what people meet at the doors: the sign-in page and its sisters, and
// the pages that say why somebody was turned away. They are rendered by the service and
// work without JavaScript.
package pages

import (
	"bytes"
	"embed"
	"encoding/json"
	"errors"
	"html/template"
	"io/fs"
	"log/slog"
	"net/http"
	"net/url"
	"os"
	"strings"
	"time"

	"github.com/go-chi/chi/v5"

	"ostiarius/service/guard"
	"ostiarius/service/people"
)

// Pages serves the pages that people meet.
type Pages struct {
	Register *people.Register
	Front    *guard.Front
	Log      *slog.Logger
	// Mark makes the mark of a page for which the password of an account was typed just now; nil if
	// there are no such pages.
	Mark func(account string) string
}

//go:embed templates/*.html
var templateFiles embed.FS

//go:embed assets
var assetFiles embed.FS

var templates = template.Must(template.ParseFS(templateFiles, "templates/*.html"))

// Routes adds the pages to the router of Ostiarius's own pages.
func (p *Pages) Routes(r chi.Router) {
	r.Get("/sign-in", p.signInForm)
	r.Post("/sign-in", p.signIn)
	r.Get("/sign-out", p.signOutForm)
	r.Post("/sign-out", p.signOut)
	r.Get("/prove-again", p.proveAgainForm)
	r.Post("/prove-again", p.proveAgain)
	r.Get("/account", p.account)
	r.Post("/account/password", p.changePassword)
	r.Post("/account/sessions", p.endSessions)
	r.Get("/recover", p.recoverForm)
	r.Post("/recover", p.recover)
	r.Get("/unlock", p.unlock)
	r.Get("/me", p.me)
	r.Get("/may", p.may)
	assets, err := fs.Sub(assetFiles, "assets")
	if err != nil {
		panic(err)
	}
	files := http.FileServerFS(assets)
	r.Get("/assets/{name}", func(w http.ResponseWriter, r *http.Request) {
		if _, err := fs.Stat(assets, chi.URLParam(r, "name")); err != nil {
			p.Missing(w, r)
			return
		}
		w.Header().Set("Cache-Control", "public, max-age=3600")
		http.StripPrefix(guard.TurnOf(r).Book.Prefix+"/assets", files).ServeHTTP(w, r)
	})
}

// A view is what the templates are given.
type view struct {
	Site    string
	Prefix  string
	Title   string
	Account string // who is signed in, or ""
	// Of the sign-in page:
	Next     string
	Username string
	Problem  string
	// Of the other pages:
	Lead  string // what happened, in a sentence
	Asks  string // what the door asks
	Roles string // what the visitor has
	Hint  string // what can be done
	Other string // the address at which to sign in as somebody else
	// What was sent did not arrive, since a proof was missing.
	Unsent bool
	// The number under which a refusal can be found.
	Reference string
	// Of the account page:
	Details  []detail
	Sessions []shownSession
	Done     string // what has just been done
	Strength string // of the password that was just tried
	Link     string // the token of a link to set a password
}

// render writes a page. Nothing of it is stored by caches, and nothing but our own style
// sheet is loaded by it.
func (p *Pages) render(w http.ResponseWriter, r *http.Request, status int, name string, v view) {
	var page bytes.Buffer
	if err := templates.ExecuteTemplate(&page, name, v); err != nil {
		p.Log.Error("page not rendered", "page", name, "error", err)
		http.Error(w, "This page cannot be shown.", http.StatusInternalServerError)
		return
	}
	h := w.Header()
	h.Set("Content-Type", "text/html; charset=utf-8")
	h.Set("Cache-Control", "private, no-store")
	h.Set("X-Content-Type-Options", "nosniff")
	if h.Get("Referrer-Policy") == "" {
		h.Set("Referrer-Policy", "same-origin")
	}
	h.Set("Content-Security-Policy", "default-src 'none'; style-src 'self'; font-src 'self'; img-src 'self' data:; form-action 'self'; frame-ancestors 'none'; base-uri 'none'")
	w.WriteHeader(status)
	if r.Method != http.MethodHead {
		w.Write(page.Bytes())
	}
}

// deviceName is the name of the cookie by which a browser is known to have signed in
// before.
func deviceName(secure bool) string {
	if secure {
		return "__Host-ostiarius-device"
	}
	return "ostiarius-device"
}

// CookieNames are the names of all cookies that are ours alone.
func CookieNames() []string {
	return []string{CookieName(true), CookieName(false), deviceName(true), deviceName(false)}
}

func (p *Pages) cookieName(r *http.Request) string { return CookieName(p.Front.Secure(r)) }

// CookieName is the name of the session cookie. Over HTTPS it carries the prefix that
// binds it to this host and to HTTPS (RFC 6265bis, section 4.1.3.2).
func CookieName(secure bool) string {
	if secure {
		return "__Host-ostiarius-session"
	}
	return "ostiarius-session"
}

// Token returns the token of the session cookie, or "" if the request has none. Two
// cookies of that name are none: one of them was planted.
func (p *Pages) Token(r *http.Request) string { return cookieOf(r, p.cookieName(r)) }

// cookieOf returns the value of a cookie that is sent once, else "". It is asked for with
// each request, so it makes no list of all cookies first. The values of our own cookies
// have no quotes.
func cookieOf(r *http.Request, name string) (value string) {
	found := false
	for _, line := range r.Header["Cookie"] {
		for line != "" {
			var pair string
			pair, line, _ = strings.Cut(line, ";")
			key, text, ok := strings.Cut(pair, "=")
			if !ok || strings.TrimLeft(key, " \t") != name {
				continue
			}
			if found {
				return ""
			}
			value, found = strings.TrimRight(text, " \t"), true
		}
	}
	return value
}

func (p *Pages) setCookie(h http.Header, r *http.Request, token string, maxAge int) {
	p.cookie(h, r, p.cookieName(r), token, maxAge)
}

func (p *Pages) cookie(h http.Header, r *http.Request, name, value string, maxAge int) {
	c := http.Cookie{
		Name: name, Value: value, Path: "/", MaxAge: maxAge,
		HttpOnly: true, Secure: p.Front.Secure(r), SameSite: http.SameSiteLaxMode,
	}
	h.Add("Set-Cookie", c.String())
}

// Renew adds the fresh token of a session to the header of an answer.
func (p *Pages) Renew(h http.Header, r *http.Request, fresh *people.Renewal) {
	p.setCookie(h, r, fresh.Token, maxAge(fresh.Remembered, fresh.Lasts))
}

// maxAge returns how long, in seconds, a browser is to keep the cookie of a session; 0 is
// until it is closed.
func maxAge(remembered bool, lasts time.Duration) int {
	switch {
	case !remembered:
		return 0
	case lasts == 0 || lasts.Seconds() > longestCookie:
		return longestCookie
	}
	return int(lasts.Seconds())
}

// The longest that browsers keep a cookie (RFC 6265bis, section 5.5), in seconds.
const longestCookie = 400 * 24 * 3600

// Device returns the mark by which a browser is known to have signed in before, "" for none.
func (p *Pages) Device(r *http.Request) string {
	return cookieOf(r, deviceName(p.Front.Secure(r)))
}

// from tells from where somebody brings a password.
func (p *Pages) from(r *http.Request) people.Origin {
	return people.Origin{Network: origin(guard.TurnOf(r)), Agent: r.UserAgent(), Device: p.Device(r)}
}

// origin returns the client's address, "" if it is not known.
func origin(t *guard.Turn) string {
	if !t.Visitor.From.IsValid() {
		return ""
	}
	return t.Visitor.From.String()
}

// unlock tells people who are led here that the site asks for something it cannot take.
// `check` warns of such doors; they stay closed.
func (p *Pages) unlock(w http.ResponseWriter, r *http.Request) {
	t := guard.TurnOf(r)
	p.render(w, r, http.StatusNotImplemented, "notice.html", view{
		Site: t.Book.Site, Prefix: t.Book.Prefix, Title: "Closed for now",
		Lead: "The page that you asked for wants a shared password or a pass, and this site cannot take one yet.",
		Hint: "Please tell the people who run this site.",
	})
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

func writeJSON(w http.ResponseWriter, status int, contentType string, value any) {
	w.Header().Set("Content-Type", contentType)
	w.Header().Set("Cache-Control", "private, no-store")
	w.Header().Set("X-Content-Type-Options", "nosniff")
	w.WriteHeader(status)
	json.NewEncoder(w).Encode(value)
}

// problem answers a program with what is wrong (RFC 9457).
func problem(w http.ResponseWriter, status int, detail string) {
	writeJSON(w, status, "application/problem+json", map[string]any{
		"type": "about:blank", "title": http.StatusText(status), "status": status, "detail": detail,
	})
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
