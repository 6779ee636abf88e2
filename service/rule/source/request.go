package source

import (
	"net/http"
	"slices"
	"strings"

	"ostiarius/core/accesskey"
	"ostiarius/core/fields"
	"ostiarius/service/base/guard"
)

// A request is handed on with what the server behind may believe: the fields that Ostiarius
// writes, and of the client's own those that speak for nobody else (package fields).

// newFields returns the fields that the server behind gets: of those that came, what strangers may
// claim, and what it learns of a request besides. A source may ask for some fields that are usually not
// handed on; those that name the client's address or the user then say what Ostiarius knows of them.
func newFields(from http.Header, in *http.Request, ownCookies func(name string) bool, asked []string) http.Header {
	h := make(http.Header, len(from)+mostOurs+len(asked))
	t := guard.TurnOf(in)
	client, user, roles, door := "", "", "", ""
	if t != nil && t.Visitor.From.IsValid() {
		client = t.Visitor.From.String()
	}
	if t != nil {
		user, roles, door = t.Identity()
	}
	for name, values := range from {
		if kind := fields.KindOf(name); kind == fields.Free || kind == fields.Override && isAsked(asked, name) || kind == fields.Hop &&
			upgrading(in, name) {
			h[name] = values
		}
	}
	if _, there := h["User-Agent"]; !there {
		h["User-Agent"] = noAgent // or net/http would name itself
	}
	values := make([]string, 0, mostOurs) // one piece of memory for all
	set := func(name, value string) {     // a name as net/http writes it
		values = append(values, value)
		h[name] = values[len(values)-1 : len(values) : len(values)]
	}
	for _, name := range asked {
		value := ""
		switch fields.Askable(name) {
		case "address":
			value = client
		case "user":
			value = user
		}
		if value != "" {
			set(http.CanonicalHeaderKey(name), value)
		}
	}
	withoutCookies(h, ownCookies)
	if t == nil {
		return h
	}
	if _, ours := accesskey.In(from["Authorization"]); ours || t.DropCredentials {
		delete(h, "Authorization")
	}
	scheme := "http"
	if t.Secure {
		scheme = "https"
	}
	forwarded := "proto=" + scheme
	if client != "" {
		set("X-Forwarded-For", client)
		if t.Visitor.From.Is6() {
			client = `"[` + client + `]"` // RFC 7239, section 6
		}
		forwarded = "for=" + client + ";" + forwarded
	}
	if in.Host != "" && !strings.ContainsAny(in.Host, "\"\\ \t;,") {
		forwarded += `;host="` + in.Host + `"`
		set("X-Forwarded-Host", in.Host)
	}
	set("X-Forwarded-Proto", scheme)
	set("Forwarded", forwarded)
	if user != "" {
		set("Ostiarius-User", user)
		set("Ostiarius-Roles", roles)
	}
	if door != "" {
		set("Ostiarius-Door", door)
	}
	return h
}

// The most fields that Ostiarius writes, but for those that a source asks for; with Via and User-Agent.
const mostOurs = 9

var noAgent = []string{""}

func isAsked(asked []string, name string) bool {
	return slices.ContainsFunc(asked, func(a string) bool { return strings.EqualFold(a, name) })
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

// withoutCookies takes the cookies that are ours out of the Cookie headers and leaves
// the others as they were spelled.
func withoutCookies(h http.Header, ours func(name string) bool) {
	if ours == nil {
		return
	}
	var kept []string
	for _, line := range h["Cookie"] {
		for pair := range strings.SplitSeq(line, ";") {
			name, _, _ := strings.Cut(strings.TrimSpace(pair), "=")
			if pair = strings.TrimSpace(pair); pair != "" && !ours(strings.TrimSpace(name)) {
				kept = append(kept, pair)
			}
		}
	}
	if len(kept) == 0 {
		delete(h, "Cookie")
		return
	}
	h["Cookie"] = []string{strings.Join(kept, "; ")}
}
