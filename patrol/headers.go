package patrol

import (
	"context"
	"encoding/base64"
	"fmt"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"time"

	"ostiarius/core/document"
	"ostiarius/core/pattern"
)

// A setCookie is a cookie that an answer sets.
type setCookie struct {
	*http.Cookie
	visitor int
	at      *url.URL
}

var (
	proves   = pattern.New(`(?i)sess|(^|[_-])sid($|[_-])|^sid|sid$|auth|token|login|logged|jwt|remember|account|credential|identity`)
	harmless = pattern.New(`(?i)csrf|xsrf|consent|hint|nonce|state|flow|theme|lang|locale|analytics|count`)
	saysWho  = pattern.New(`(?i)^(is_?-?)?(role|roles|admin|logged_?-?in|login|loggedin|authenticated|auth|authorized|user|username|` +
		`user_?-?(name|type|role|id|level)|level|member|membership|paid|premium|access|group|account)$`)
	guessed = pattern.New(`(?i)^(0|1|true|false|yes|no|on|off|guest|user|admin|anonymous|none|free|public|member|visitor|basic|standard|` +
		`editor|[0-9]{1,9})$`)
	inQuery = pattern.New(`(?i)^(php|asp|j|cf)?_?sess(ion)?_?(id|key|token)?$|^sid$`)
	inPath  = pattern.New(`(?i);j?sessionid=[\w.-]{8,}`)
)

// cookies finds faults of cookies that prove who somebody is.
func (w *walk) cookies(ctx context.Context) {
	for _, s := range append([]setCookie(nil), w.set...) {
		gone := s.MaxAge < 0 || s.Value == "" || !s.Expires.IsZero() && s.Expires.Before(time.Now())
		if gone || harmless.MatchString(s.Name) || w.told["cookie "+s.Name] {
			continue
		}
		var faults []string
		severity := document.SeverityWarning
		session := proves.MatchString(s.Name)
		if passwordField.MatchString(s.Name) {
			faults, severity = append(faults, "it has a password"), document.SeverityError
		}
		if saysWho.MatchString(s.Name) && (guessed.MatchString(s.Value) || decoded.MatchString(inClear(s.Value))) ||
			decodedWho.MatchString(inClear(s.Value)) && session {
			faults, severity = append(faults, "it says who somebody is or what they may, in words that anybody can write"), document.SeverityError
		} else if session && w.countable(ctx, &s) {
			faults, severity = append(faults, "its value can be guessed: it is a number that counts up"), document.SeverityError
		}
		if session {
			if !s.HttpOnly {
				faults = append(faults, "HttpOnly is missing, so scripts read it")
			}
			if s.at.Scheme == "https" && !s.Secure {
				faults = append(faults, "Secure is missing, so it is sent in the clear")
			}
			if s.SameSite == http.SameSiteDefaultMode || s.SameSite == 0 {
				faults = append(faults, "SameSite is missing")
			}
		}
		if s.SameSite == http.SameSiteNoneMode && !s.Secure {
			faults = append(faults, "SameSite=None without Secure, which browsers refuse")
		}
		if len(faults) == 0 {
			continue
		}
		w.told["cookie "+s.Name] = true
		w.tell(Finding{Rule: "cookie", Severity: severity, Path: s.at.EscapedPath(), As: w.o.Visitors[s.visitor].Who,
			Message: "the cookie " + s.Name + ": " + strings.Join(faults, "; "),
			Requests: []Shown{{
				As: w.o.Visitors[s.visitor].Who, Method: "GET", URL: s.at.String(), Status: 200,
				Fields: "Set-Cookie: " + s.Name + "=" + hideMost(s.Value) + attributesOf(s.Cookie),
			}}})
	}
	w.each(func(a *address) {
		for _, got := range a.answers {
			if got == nil || got.page == nil {
				continue
			}
			for _, l := range got.page.links {
				u := resolve(a.url, l.text)
				if u == nil || l.way == guess || !w.hosts[hostOf(u)] {
					continue
				}
				bad := inPath.MatchString(u.Path)
				for name, values := range u.Query() {
					bad = bad || inQuery.MatchString(name) && len(values[0]) >= 8
				}
				if bad {
					w.tell(Finding{Rule: "cookie", Severity: document.SeverityError, Path: a.path(), As: w.o.Visitors[got.visitor].Who,
						Message:  "the session stands in an address, which is kept, told to other sites and passed on: " + hideMost(l.text),
						Requests: []Shown{w.shown(got)}})
				}
			}
		}
	})
}

func attributesOf(c *http.Cookie) string {
	bare := *c
	bare.Name, bare.Value = "x", "x"
	return strings.TrimPrefix(bare.String(), "x=x")
}

var (
	decoded    = pattern.New(`(?i)"?(role|admin|user|level|member)"?\s*[:=]`)
	decodedWho = pattern.New(`(?i)"?(role|is_?admin|user_?(name|id)?|member)"?\s*[:=]`)
)

// inClear decodes what is only packed, not sealed.
func inClear(value string) string {
	if text, err := url.QueryUnescape(value); err == nil {
		value = text
	}
	if strings.Count(value, ".") == 2 {
		return "" // signed, as far as can be told
	}
	for _, e := range []*base64.Encoding{base64.StdEncoding, base64.RawStdEncoding, base64.URLEncoding, base64.RawURLEncoding} {
		if text, err := e.DecodeString(value); err == nil && len(text) > 4 && text[0] == '{' {
			return string(text)
		}
	}
	return value
}

// countable reports whether the value of a cookie is a number that is near to the next ones.
func (w *walk) countable(ctx context.Context, s *setCookie) bool {
	n, err := strconv.ParseUint(s.Value, 10, 64)
	if err != nil {
		return false
	}
	if len(s.Value) <= 6 {
		return true
	}
	got := w.ask(ctx, s.visitor, question{url: s.at})
	for _, c := range (&http.Response{Header: got.header}).Cookies() {
		if next, err := strconv.ParseUint(c.Value, 10, 64); c.Name == s.Name && err == nil {
			return max(next, n)-min(next, n) < 10_000
		}
	}
	return false
}

// fields finds faults of header fields: answers that other origins may read with a visitor's cookies, challenges that are none, and
// sign-in pages that other sites may frame.
func (w *walk) fields(ctx context.Context) {
	framed := func(h http.Header) bool {
		return h.Get("X-Frame-Options") == "" && !strings.Contains(strings.Join(h.Values("Content-Security-Policy"), ","), "frame-ancestors")
	}
	somewhere := false
	w.each(func(a *address) {
		for _, got := range a.answers {
			somewhere = somewhere || got != nil && got.page != nil && got.page.html && !framed(got.header)
		}
	})
	var shared []*address
	w.each(func(a *address) {
		got := a.answers[w.stranger]
		if got == nil {
			return
		}
		if got.status == http.StatusUnauthorized && got.header.Get("Www-Authenticate") == "" && !strings.HasSuffix(got.mime, "json") {
			w.tell(Finding{
				Rule: "header", Severity: document.SeverityWarning, Path: a.path(), As: w.o.Visitors[w.stranger].Who,
				Message: "401 without WWW-Authenticate: nobody is told how to sign in (RFC 9110, section 15.5.2)", Requests: []Shown{w.shown(got)},
			})
		}
		if got.status == http.StatusOK && got.page != nil && got.page.signsIn() && framed(got.header) && somewhere {
			w.tell(Finding{
				Rule: "header", Severity: document.SeverityWarning, Path: a.path(), As: w.o.Visitors[w.stranger].Who, Message: "other sites may " +
					"show this form for a password within their own pages: X-Frame-Options and frame-ancestors are missing, which other pages here " +
					"have", Requests: []Shown{w.shown(got)},
			})
		}
		for _, other := range a.answers {
			if other != nil && other.header.Get("Referrer-Policy") == "unsafe-url" {
				w.tell(Finding{
					Rule: "header", Severity: document.SeverityWarning, Path: a.path(), As: w.o.Visitors[other.visitor].Who,
					Message:  "Referrer-Policy: unsafe-url tells every site that is linked to the whole address of this page",
					Requests: []Shown{w.shown(other)},
				})
			}
		}
		if strings.HasSuffix(got.mime, "json") || strings.Contains(a.path(), "/api/") ||
			got.header.Get("Access-Control-Allow-Origin") != "" || w.state(got) == asks {
			shared = append(shared, a)
		}
	})
	for _, a := range sample(shared, 100) {
		for _, visitor := range w.byNeed()[:min(2, len(w.o.Visitors))] {
			for _, origin := range []string{"https://" + elsewhere, "null", a.url.Scheme + "://" + a.url.Hostname() + "." + elsewhere} {
				got := w.ask(ctx, visitor,
					question{url: a.url, fields: [][2]string{{"Origin", origin}, {"Sec-Fetch-Mode", "cors"}, {"Sec-Fetch-Site", "cross-site"}}})
				if got.header.Get("Access-Control-Allow-Origin") == "*" &&
					strings.EqualFold(got.header.Get("Access-Control-Allow-Credentials"), "true") {
					w.tell(Finding{
						Rule: "header", Severity: document.SeverityWarning, Path: a.path(), As: w.o.Visitors[visitor].Who,
						Message:  "every origin is allowed, with credentials: browsers refuse that, and what is meant cannot be told",
						Requests: []Shown{w.shown(got)},
					})
				}
				if allowed := got.header.Get("Access-Control-Allow-Origin"); allowed == origin &&
					strings.EqualFold(got.header.Get("Access-Control-Allow-Credentials"), "true") {
					w.tell(Finding{Rule: "header", Severity: document.SeverityError, Path: a.path(), As: w.o.Visitors[visitor].Who,
						Message: fmt.Sprintf("scripts of any site may read this with the cookies of who visits them: the origin %s is allowed, with "+
							"credentials", origin), Requests: []Shown{w.shown(got)}})
				}
			}
		}
	}
}
