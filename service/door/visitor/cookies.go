package visitor

import (
	"net/http"
	"slices"
	"strings"
	"time"

	"ostiarius/core/words"
	"ostiarius/service/base/guard"
	"ostiarius/service/who/sessions"
	"ostiarius/service/who/signin"
)

// SessionCookie is the name of the session cookie. Over HTTPS it carries the prefix that
// binds it to this host and to HTTPS (RFC 6265bis, section 4.1.3.2).
func SessionCookie(secure bool) string { return cookieName("ostiarius-session", secure) }

// deviceCookie is the name of the cookie by which a browser is known to have signed in before.
func deviceCookie(secure bool) string { return cookieName("ostiarius-device", secure) }

// languageCookie is the name of the cookie that has the language in which somebody wants to see our pages.
func languageCookie(secure bool) string { return cookieName("ostiarius-language", secure) }

// otherNameCookie is the name of the cookie of a browser that is to ask for other credentials, in place of those it brings.
func otherNameCookie(secure bool) string { return cookieName("ostiarius-other-name", secure) }

// OtherName has a browser ask for other credentials of HTTP Basic, where those that it brings open nothing any more. It
// holds for a minute, which is enough to be asked.
func (f *Finder) OtherName(h http.Header, r *http.Request) {
	f.set(h, r, otherNameCookie(f.o.Front.Secure(r)), "yes", 60)
}

func (f *Finder) otherName(r *http.Request) bool {
	return cookieOf(r, otherNameCookie(f.o.Front.Secure(r))) != ""
}

// knownCookie is the name of the cookie of a browser that is not asked for a second factor.
func knownCookie(secure bool) string { return cookieName("ostiarius-known", secure) }

// A Carrying is something of which a browser carries the token for a while, until it is brought to an end.
type Carrying string

// What there is to carry.
const (
	Half  Carrying = "ostiarius-half"      // a sign-in, between the password and a second factor
	Way   Carrying = "ostiarius-elsewhere" // somebody on their way to a provider and back
	First Carrying = "ostiarius-first"     // who they are elsewhere, where no account here is known yet
)

var carryings = []Carrying{Half, Way, First}

// Carried returns the token that a browser carries; "" for none.
func Carried(f *Finder, r *http.Request, what Carrying) string {
	return cookieOf(r, cookieName(string(what), f.o.Front.Secure(r)))
}

// Carry gives a browser a token to carry; "" takes it away.
func Carry(f *Finder, h http.Header, r *http.Request, what Carrying, token string) {
	maxAge := 0
	if token == "" {
		maxAge = -1
	}
	f.set(h, r, cookieName(string(what), f.o.Front.Secure(r)), token, maxAge)
}

// WalkCookie is the name of the cookie of a walk through the site as somebody else.
func WalkCookie(secure bool) string { return cookieName("ostiarius-walk", secure) }

func cookieName(name string, secure bool) string {
	if secure {
		return "__Host-" + name
	}
	return name
}

// OwnCookie reports whether a name is that of a cookie which is ours alone.
func OwnCookie(name string) bool {
	for _, secure := range []bool{true, false} {
		switch {
		case name == SessionCookie(secure), name == deviceCookie(secure), name == languageCookie(secure), name == bringCookie(secure),
			name == otherNameCookie(secure), name == WalkCookie(secure), name == knownCookie(secure),
			slices.Contains(carryings, Carrying(strings.TrimPrefix(name, "__Host-"))) && strings.HasPrefix(name, "__Host-") == secure,
			strings.HasPrefix(name, cookieName(unlockCookie, secure)), strings.HasPrefix(name, cookieName(passCookie, secure)):
			return true
		}
	}
	return false
}

// Token returns the token of the session cookie, or "" if the request has none. Two
// cookies of that name are none: one of them was planted.
func (f *Finder) Token(r *http.Request) string {
	return cookieOf(r, SessionCookie(f.o.Front.Secure(r)))
}

// Language returns the language in which somebody is answered: the one they chose for our pages, or what their browser
// wants.
func (f *Finder) Language(r *http.Request) words.Language {
	return words.Choose(r.Header.Get("Accept-Language"), f.chosen(r))
}

// chosen is the language that somebody has chosen, "" if they have not.
func (f *Finder) chosen(r *http.Request) string {
	return cookieOf(r, languageCookie(f.o.Front.Secure(r)))
}

// SetLanguage has the browser bring a language from now on.
func (f *Finder) SetLanguage(h http.Header, r *http.Request, in words.Language) {
	f.set(h, r, languageCookie(f.o.Front.Secure(r)), string(in), longestCookie)
}

// Origin tells from where somebody brings a proof, in a request that a guard has handed on.
func (f *Finder) Origin(r *http.Request) sessions.Origin {
	o := sessions.Origin{
		Agent: r.UserAgent(), Language: f.Language(r), Device: cookieOf(r, deviceCookie(f.o.Front.Secure(r))),
		Known: cookieOf(r, knownCookie(f.o.Front.Secure(r))),
	}
	if from := guard.TurnOf(r).Visitor.From; from.IsValid() {
		o.Network = from.String()
	}
	return o
}

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

// Welcome gives the browser the token of a session that has begun, and the mark by which it is known
// from now on; and the language that its owner has chosen elsewhere, unless they have chosen one here.
func (f *Finder) Welcome(h http.Header, r *http.Request, in signin.SignedIn) {
	f.giveToken(h, r, in.Token, in.Cookie)
	f.set(h, r, deviceCookie(f.o.Front.Secure(r)), in.Device, longestCookie)
	if in.Known != "" {
		f.set(h, r, knownCookie(f.o.Front.Secure(r)), in.Known, min(longestCookie, int(in.KnownFor.Seconds())))
	}
	if in.Language != "" && f.chosen(r) == "" {
		f.SetLanguage(h, r, in.Language)
	}
}

// Know gives the browser another mark by which it is known from now on, see signin.Entrance.Mark.
func Know(f *Finder, h http.Header, r *http.Request, mark string) {
	f.set(h, r, deviceCookie(f.o.Front.Secure(r)), mark, longestCookie)
}

// Renew gives the browser the fresh token of its session.
func (f *Finder) Renew(h http.Header, r *http.Request, fresh *sessions.Renewal) {
	f.giveToken(h, r, fresh.Token, fresh.Cookie)
}

// Farewell takes the token from a browser whose session has ended.
func (f *Finder) Farewell(h http.Header, r *http.Request) {
	f.set(h, r, SessionCookie(f.o.Front.Secure(r)), "", -1)
}

func (f *Finder) giveToken(h http.Header, r *http.Request, token string, c sessions.Cookie) {
	f.set(h, r, SessionCookie(f.o.Front.Secure(r)), token, maxAge(c))
}

func (f *Finder) set(h http.Header, r *http.Request, name, value string, maxAge int) {
	c := http.Cookie{
		Name: name, Value: value, Path: "/", MaxAge: maxAge,
		HttpOnly: true, Secure: f.o.Front.Secure(r), SameSite: http.SameSiteLaxMode,
	}
	h.Add("Set-Cookie", c.String())
}

// maxAge returns how long, in seconds, a browser is to keep the cookie of a session; 0 is
// until it is closed.
func maxAge(c sessions.Cookie) int {
	switch {
	case !c.Remembered:
		return 0
	case c.Lasts == 0 || c.Lasts > longestCookie*time.Second:
		return longestCookie
	}
	return int(c.Lasts.Seconds())
}

// The longest that browsers keep a cookie (RFC 6265bis, section 5.5), in seconds.
const longestCookie = 400 * 24 * 3600
