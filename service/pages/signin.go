package pages

import (
	"encoding/json"
	"errors"
	"fmt"
	"mime"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"time"

	"ostiarius/core/policy"
	"ostiarius/core/throttle"
	"ostiarius/service/guard"
	"ostiarius/service/hashing"
	"ostiarius/service/mistake"
	"ostiarius/service/people"
)

func (p *Pages) signInForm(w http.ResponseWriter, r *http.Request) {
	t := guard.TurnOf(r)
	query := r.URL.Query()
	next := guard.OwnPath(t.Book, query.Get("next"))
	if t.Visitor.SignedIn && !query.Has("other") {
		if next == "" || !p.admitted(t, next) {
			next = t.Book.AfterSignIn(&t.Visitor)
		}
		redirect(w, next)
		return
	}
	v := view{Next: next, Unsent: query.Has("unsent")}
	if query.Has("set") {
		v.Done = "Your password is set. Please sign in with it."
	}
	p.showSignIn(w, r, http.StatusOK, v)
}

// admitted reports whether the visitor of t may go to an address of this site.
func (p *Pages) admitted(t *guard.Turn, address string) bool {
	path, _, _ := strings.Cut(address, "?")
	return t.Book.Decide(policy.Request{Method: http.MethodGet, Host: t.Place.Host, Path: path}, &t.Visitor).Outcome == policy.Admit
}

func (p *Pages) showSignIn(w http.ResponseWriter, r *http.Request, status int, v view) {
	t := guard.TurnOf(r)
	v.Site, v.Prefix, v.Title, v.Account = t.Book.Site, t.Book.Prefix, "Sign in", t.Visitor.Account
	p.render(w, r, status, "sign-in.html", v)
}

// A trouble is why a proof was not taken: a code for programs and for a site's own form,
// the status, and a sentence for the person.
type trouble struct {
	Code   string
	Status int
	Text   string
	Wait   time.Duration // before it makes sense to try again
}

// troubleOf makes an error of the register into what people are told.
func (p *Pages) troubleOf(err error, wrong string) trouble {
	var slow *throttle.Slow
	var refused *mistake.Error
	switch {
	case errors.As(err, &slow):
		wait := slow.Wait.Truncate(time.Second) + time.Second
		return trouble{"too-many", http.StatusTooManyRequests, "There were too many tries. You can try again in " + inWords(wait) + ".", wait}
	case errors.Is(err, hashing.ErrBusy):
		return trouble{"busy", http.StatusServiceUnavailable, "Too many people sign in at the moment. Please try again in a few seconds.", 5 * time.Second}
	case errors.Is(err, people.ErrDisabled):
		return trouble{"disabled", http.StatusForbidden, "Your account is switched off. Please ask the people who run this site.", 0}
	case errors.As(err, &refused):
		return trouble{"refused", http.StatusUnprocessableEntity, capital(refused.Text) + ".", 0}
	case errors.Is(err, people.ErrWrong):
		return trouble{"wrong", http.StatusUnprocessableEntity, wrong, 0}
	}
	p.Log.Error("a proof could not be looked at", "error", err)
	return trouble{"failed", http.StatusServiceUnavailable, "That does not work at the moment. Please try again in a while.", 0}
}

func capital(s string) string {
	if s == "" {
		return s
	}
	return strings.ToUpper(s[:1]) + s[1:]
}

func inWords(d time.Duration) string {
	if d < 2*time.Second {
		return "a second"
	}
	if d < 2*time.Minute {
		return fmt.Sprintf("%d seconds", int(d.Seconds()))
	}
	return fmt.Sprintf("%d minutes", int((d + time.Minute - 1).Minutes()))
}

func (t trouble) header(w http.ResponseWriter) {
	if t.Wait > 0 {
		w.Header().Set("Retry-After", strconv.Itoa(int(t.Wait.Seconds())))
	}
}

// What somebody sends to sign in.
type signInRequest struct {
	Username string `json:"username"`
	Password string `json:"password"`
	Remember bool   `json:"remember"`
	Next     string `json:"next"`
	form     string // the page of the site that has the form; "" for ours
	json     bool
}

func readSignIn(w http.ResponseWriter, r *http.Request) (s signInRequest, err error) {
	kind, _, _ := mime.ParseMediaType(r.Header.Get("Content-Type"))
	if kind == "application/json" {
		decoder := json.NewDecoder(http.MaxBytesReader(w, r.Body, 64<<10))
		decoder.DisallowUnknownFields()
		err := decoder.Decode(&s)
		s.json = true
		return s, err
	}
	if err := readForm(w, r); err != nil {
		return s, err
	}
	f := r.PostForm
	return signInRequest{f.Get("username"), f.Get("password"), f.Get("remember") != "", f.Get("next"), f.Get("form"), false}, nil
}

// signIn takes name and password: from our own form; from a form of the site's own, which
// names its page in the field form and is sent back there with a code if something is
// wrong; or as JSON from a script.
func (p *Pages) signIn(w http.ResponseWriter, r *http.Request) {
	t := guard.TurnOf(r)
	s, err := readSignIn(w, r)
	v := view{Next: guard.OwnPath(t.Book, s.Next), Username: strings.TrimSpace(s.Username)}
	form := guard.OwnPath(t.Book, s.form)
	var in people.SignedIn
	var wrong trouble
	switch {
	case err != nil:
		wrong = trouble{"malformed", unread(err), "The form could not be read. Please fill it in again.", 0}
	case v.Username == "" || s.Password == "":
		wrong = trouble{"missing", http.StatusUnprocessableEntity, "Please type your name and your password.", 0}
	default:
		from := p.from(r)
		from.Before = p.Token(r)
		if in, err = p.Register.SignIn(r.Context(), v.Username, s.Password, from, s.Remember); err != nil {
			wrong = p.troubleOf(err, "That name and password do not belong together. Please try again.")
		}
	}
	if wrong.Code != "" {
		wrong.header(w)
		switch {
		case s.json:
			writeJSON(w, wrong.Status, "application/problem+json", map[string]any{
				"type": "about:blank", "title": http.StatusText(wrong.Status), "status": wrong.Status, "detail": wrong.Text, "code": wrong.Code,
			})
		case form != "":
			page, query, _ := strings.Cut(form, "?")
			values, err := url.ParseQuery(query)
			if err != nil {
				values = url.Values{}
			}
			values.Set("error", wrong.Code)
			if wrong.Wait > 0 {
				values.Set("wait", strconv.Itoa(int(wrong.Wait.Seconds())))
			}
			if v.Next != "" {
				values.Set("next", v.Next)
			}
			redirect(w, page+"?"+values.Encode())
		default:
			v.Problem = wrong.Text
			p.showSignIn(w, r, wrong.Status, v)
		}
		return
	}
	p.giveCookies(w, r, in)
	if v.Next == "" {
		v.Next = t.Book.AfterSignIn(&in.Visitor)
	}
	if s.json {
		roles := in.Visitor.Roles
		if roles == nil {
			roles = []string{}
		}
		writeJSON(w, http.StatusOK, "application/json", map[string]any{"signedIn": true, "name": in.Visitor.Account, "roles": roles, "next": v.Next})
		return
	}
	redirect(w, v.Next)
}

// giveCookies gives the browser the token of its session, and the mark by which it is known
// from now on.
func (p *Pages) giveCookies(w http.ResponseWriter, r *http.Request, in people.SignedIn) {
	p.setCookie(w.Header(), r, in.Token, maxAge(in.Remembered, in.Lasts))
	p.cookie(w.Header(), r, deviceName(p.Front.Secure(r)), in.Device, longestCookie)
}
