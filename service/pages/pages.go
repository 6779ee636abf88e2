// Package pages is what people meet at the doors: the sign-in page and its sisters, and
// the pages that say why somebody was turned away. They are rendered by the service and
// work without JavaScript.
package pages

import (
	"bytes"
	"embed"
	"encoding/json"
	"errors"
	"fmt"
	"html/template"
	"io/fs"
	"log/slog"
	"net/http"
	"net/url"
	"os"
	"strings"
	"time"

	"github.com/go-chi/chi/v5"

	"ostiarius/core/policy"
	"ostiarius/service/ending"
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

func (p *Pages) signOutForm(w http.ResponseWriter, r *http.Request) {
	t := guard.TurnOf(r)
	p.render(w, r, http.StatusOK, "sign-out.html", view{Site: t.Book.Site, Prefix: t.Book.Prefix, Title: "Sign out", Account: t.Visitor.Account})
}

func (p *Pages) signOut(w http.ResponseWriter, r *http.Request) {
	t := guard.TurnOf(r)
	var unwritten *ending.Unwritten
	switch err := p.Register.SignOut(r.Context(), p.Token(r), origin(t)); {
	case errors.As(err, &unwritten):
		p.setCookie(w.Header(), r, "", -1)
		p.render(w, r, http.StatusOK, "notice.html", view{
			Site: t.Book.Site, Prefix: t.Book.Prefix, Title: "You are signed out",
			Lead: "You are signed out, here and everywhere this session was open.",
			Hint: "This could not be written down yet, and is tried again until it can be. If the site is started again before that, sign out once more.",
		})
		return
	case err != nil:
		p.Log.Error("sign-out failed", "error", err)
		http.Error(w, "Signing out does not work at the moment. Please try again.", http.StatusServiceUnavailable)
		return
	}
	p.setCookie(w.Header(), r, "", -1)
	redirect(w, t.Book.AfterSignOut(&t.Visitor))
}

// redirect sends to a page with 303, so that it is fetched with GET whatever the method
// was (RFC 9110, section 15.4.4).
func redirect(w http.ResponseWriter, to string) {
	w.Header().Set("Cache-Control", "private, no-store")
	w.Header().Set("Location", to)
	w.WriteHeader(http.StatusSeeOther)
}

// me tells a page's scripts who is signed in.
func (p *Pages) me(w http.ResponseWriter, r *http.Request) {
	v := guard.TurnOf(r).Visitor
	roles := v.Roles
	if roles == nil {
		roles = []string{}
	}
	writeJSON(w, http.StatusOK, "application/json", map[string]any{"signedIn": v.SignedIn, "name": v.Account, "roles": roles})
}

// may tells a page's scripts which of the addresses given as path the visitor may go to.
// What is hidden and what is merely closed look alike.
func (p *Pages) may(w http.ResponseWriter, r *http.Request) {
	t := guard.TurnOf(r)
	query := r.URL.Query()
	paths := query["path"]
	method := query.Get("method")
	if method == "" {
		method = http.MethodGet
	}
	if len(paths) == 0 || len(paths) > 100 {
		problem(w, http.StatusBadRequest, "The query has between 1 and 100 parameters path, such as path=/rota/.")
		return
	}
	may := map[string]bool{}
	for _, path := range paths {
		d := t.Book.Decide(policy.Request{Method: method, Host: r.Host, Path: path}, &t.Visitor)
		may[path] = d.Outcome == policy.Admit
	}
	writeJSON(w, http.StatusOK, "application/json", map[string]any{"may": may})
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

// Missing answers for a page that is not there. It is also the answer for what is
// hidden, to the last byte.
func (p *Pages) Missing(w http.ResponseWriter, r *http.Request) {
	t := guard.TurnOf(r)
	p.missing(w, r, t.Book, guard.ClientOf(r.Header))
}

func (p *Pages) missing(w http.ResponseWriter, r *http.Request, book *policy.Book, client policy.Client) {
	// What is missing behind a door has been given the fields of the site's answers already;
	// what is hidden has not.
	for _, field := range book.Headers {
		w.Header().Del(field.Name)
	}
	w.Header().Del("Vary")
	if client != policy.Browser {
		problem(w, http.StatusNotFound, "There is nothing at this address.")
		return
	}
	p.render(w, r, http.StatusNotFound, "notice.html", view{
		Site: book.Site, Prefix: book.Prefix, Title: "Not found",
		Lead: "There is nothing at this address.",
		Hint: "Perhaps the page has moved, or a letter in the address is wrong.",
	})
}

// Upstream answers a request for which the server behind has no answer. It says nothing of
// that server.
func (p *Pages) Upstream(w http.ResponseWriter, r *http.Request, status int) {
	t := guard.TurnOf(r)
	title, lead, hint := "Not now", "The server behind this page does not answer.", "Please try again in a while."
	switch status {
	case http.StatusGatewayTimeout:
		lead = "The server behind this page takes too long to answer."
	case http.StatusLoopDetected:
		lead = "This page leads back to itself: what stands behind it is this service again."
	case http.StatusRequestTimeout:
		lead = "What was sent did not arrive whole in time."
	case http.StatusBadRequest:
		title, lead, hint = "This cannot be read", "What was sent is malformed or did not arrive whole.", "Please send it again."
	}
	if guard.ClientOf(r.Header) != policy.Browser {
		problem(w, status, lead)
		return
	}
	p.render(w, r, status, "notice.html", view{
		Site: t.Book.Site, Prefix: t.Book.Prefix, Title: title, Lead: lead, Hint: hint,
	})
}

// Turned answers a request that was not admitted.
func (p *Pages) Turned(w http.ResponseWriter, r *http.Request, t *guard.TurnedAway) {
	v := view{Site: t.Book.Site, Prefix: t.Book.Prefix, Account: t.Visitor.Account}
	switch a := t.Answer; {
	case a.Status == http.StatusSeeOther:
		redirect(w, p.backToForm(r, t.Turn, a.Location))
		return
	case a.Status == http.StatusNotFound:
		p.missing(w, r, t.Book, t.Client)
		return
	case a.Status == http.StatusBadRequest:
		if t.Client != policy.Browser {
			problem(w, a.Status, fmt.Sprintf("The request cannot be read without guessing: %v.", t.Decision.Fault))
			return
		}
		v.Title, v.Lead = "This address cannot be read", "The address is malformed, or it could be read in more than one way."
		v.Hint = "What was found: " + t.Decision.Fault.Error() + "."
	case a.Status == http.StatusUnauthorized:
		if t.Client != policy.Browser {
			problem(w, a.Status, "This asks for "+t.Door.Ask()+". "+remedy(t))
			return
		}
		v.Title, v.Lead = "Credentials are needed", "This page asks for a name and a password."
		v.Hint = "Load the page again and type them when the browser asks."
	default:
		if t.Client != policy.Browser {
			detail := "This asks for " + t.Door.Ask() + "."
			if a.Say != "" {
				detail = a.Say
			}
			writeJSON(w, a.Status, "application/problem+json", map[string]any{
				"type": "about:blank", "title": http.StatusText(a.Status), "status": a.Status, "detail": detail, "reference": t.Reference,
			})
			return
		}
		v.Reference = t.Reference
		v.Title, v.Lead = "Not for you", "You may not see this page."
		if a.Say != "" {
			v.Lead = a.Say
		} else {
			v.Asks = t.Door.Ask()
		}
		v.Other = t.Book.Prefix + "/sign-in?other&next=" + url.QueryEscape(t.Address)
		if t.Visitor.SignedIn {
			v.Roles = strings.Join(t.Visitor.Roles, ", ")
		}
	}
	p.render(w, r, t.Answer.Status, "notice.html", v)
}

// remedy says what a program, or a page's background request, can do about a challenge.
func remedy(t *guard.TurnedAway) string {
	switch proof := t.Decision.Proof; {
	case proof.Basic && t.Client == policy.Script:
		return "Open a page there first, so that the browser asks for them."
	case proof.Basic:
		return "Send a name and a password with HTTP Basic, for \"" + proof.Realm + "\"."
	case proof.Kind == policy.ProveAgain:
		return "Type your password again at " + t.Book.Prefix + "/prove-again first."
	case proof.Kind == policy.ProveSignIn:
		return "Sign in at " + t.Book.Prefix + "/sign-in first."
	default:
		return "Open it at " + t.Book.Prefix + "/unlock first."
	}
}
