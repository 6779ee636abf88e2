package source

import (
	"net/http"
	"net/url"
	"slices"
	"strings"

	"ostiarius/core/fields"
	"ostiarius/service/guard"
)

// A request is handed on with what the server behind may believe: the fields that Ostiarius
// writes, and of the client's own those that speak for nobody else (package fields).

// setFields sets what the server behind learns of a request, and removes what strangers claim. A
// source may ask for some fields that are usually not handed on; those that name the client's
// address or the user then say what Ostiarius knows of them.
func setFields(h http.Header, in *http.Request, ownCookies, asked []string) {
	t := guard.TurnOf(in)
	from, user := "", ""
	if t != nil && t.Visitor.From.IsValid() {
		from = t.Visitor.From.String()
	}
	if t != nil && t.Visitor.SignedIn {
		// Names may have letters beyond ASCII, which fields of a header cannot carry safely.
		user = url.PathEscape(t.Visitor.Account)
	}
	for name := range h {
		if kind := fields.KindOf(name); kind != fields.Free && !(kind == fields.Override && isAsked(asked, name)) && !(kind == fields.Hop && upgrading(in, name)) {
			delete(h, name)
		}
	}
	for _, name := range asked {
		switch fields.Askable(name) {
		case "address":
			setOrNot(h, name, from)
		case "user":
			setOrNot(h, name, user)
		}
	}
	withoutCookies(h, ownCookies)
	if t == nil {
		return
	}
	if t.KeepCredentials {
		h.Del("Authorization")
	}
	scheme := "http"
	if t.Secure {
		scheme = "https"
	}
	forwarded := "proto=" + scheme
	if from != "" {
		h.Set("X-Forwarded-For", from)
		if t.Visitor.From.Is6() {
			from = `"[` + from + `]"` // RFC 7239, section 6
		}
		forwarded = "for=" + from + ";" + forwarded
	}
	if in.Host != "" && !strings.ContainsAny(in.Host, "\"\\ \t;,") {
		forwarded += `;host="` + in.Host + `"`
		h.Set("X-Forwarded-Host", in.Host)
	}
	h.Set("X-Forwarded-Proto", scheme)
	h.Set("Forwarded", forwarded)
	if user != "" {
		h.Set("Ostiarius-User", user)
		h.Set("Ostiarius-Roles", strings.Join(t.Book.RolesOf(&t.Visitor), ", "))
	}
	if t.Door != nil {
		h.Set("Ostiarius-Door", (&url.URL{Path: t.Door.Label()}).EscapedPath())
	}
}

func isAsked(asked []string, name string) bool {
	return slices.ContainsFunc(asked, func(a string) bool { return strings.EqualFold(a, name) })
}

func setOrNot(h http.Header, name, value string) {
	if value != "" {
		h.Set(name, value)
	}
}

// hasOdd reports whether a request has a field whose name other servers could take for another's.
func hasOdd(h http.Header) bool {
	for name := range h {
		if fields.KindOf(name) == fields.Odd {
			return true
		}
	}
	return false
}

// withoutCookies takes the cookies of these names out of the Cookie headers and leaves
// the others as they were spelled.
func withoutCookies(h http.Header, names []string) {
	var kept []string
	for _, line := range h.Values("Cookie") {
		for pair := range strings.SplitSeq(line, ";") {
			name, _, _ := strings.Cut(strings.TrimSpace(pair), "=")
			if pair = strings.TrimSpace(pair); pair != "" && !slices.Contains(names, strings.TrimSpace(name)) {
				kept = append(kept, pair)
			}
		}
	}
	h.Del("Cookie")
	if len(kept) > 0 {
		h.Set("Cookie", strings.Join(kept, "; "))
	}
}
