package policy

import (
	"net/url"
	"strings"

	"ostiarius/core/document"
	"ostiarius/core/place"
)

// A Client is the kind of program that asks. Each gets the answer it can use.
type Client string

const (
	Browser Client = "browser" // a browser that asks for a page
	Script  Client = "script"  // a script, image or other background request of a page
	API     Client = "api"     // a program that is no browser
)

// An Answer is what is sent for a decision, short of the page's looks.
type Answer struct {
	Status       int    // RFC 9110, section 15
	Location     string // of a redirect: a path on this site
	Authenticate string // the WWW-Authenticate header (RFC 9110, section 11.6.1)
	Say          string // the policy's own text for the page
	// Shell says that the page of an application is sent, which has its code and nothing of its data.
	Shell bool
}

// Answer returns the answer to a decision. The query is that of the request, without
// the question mark; it is part of the page a person is led back to.
//
// A browser is led to the page where the missing thing can be proven; scripts and other
// programs, which could not use such a page, are told by status. Admitted requests are
// answered by the source behind; 200 stands for that.
func (b *Book) Answer(d Decision, client Client, query string) Answer {
	switch d.Outcome {
	case Admit:
		return Answer{Status: 200}
	case Reject:
		return Answer{Status: 400}
	}
	if client == Browser && b.sendsShell(d.Place) {
		return Answer{Status: 200, Shell: true}
	}
	return Usual(b, d, client, query)
}

// Usual is the answer to whoever is not admitted where no application answers in the place of the door.
func Usual(b *Book, d Decision, client Client, query string) Answer {
	if d.Outcome == Hide {
		return Answer{Status: 404}
	}
	if client == Browser && d.Instead.Go != "" {
		return Answer{Status: 303, Location: b.instead(d, query)}
	}
	if d.Outcome == Refuse || d.Instead.Say != "" {
		return Answer{Status: 403, Say: d.Instead.Say}
	}
	switch {
	case d.Proof.Basic && client != Script:
		// A browser shows its dialogue also for a page's background requests; those get
		// the other challenge, which it does not know.
		return Answer{Status: 401, Authenticate: "Basic realm=" + quote(d.Proof.Realm) + `, charset="UTF-8"`}
	case d.Pass != "" && client == API:
		title := d.Pass
		if kind := PassNamed(b, d.Pass); kind != nil {
			title = kind.Title
		}
		return Answer{Status: 401, Authenticate: "Basic realm=" + quote(title) + `, charset="UTF-8"`}
	case client != Browser || d.Proof.Basic:
		return Answer{Status: 401, Authenticate: "Session realm=" + quote(b.Site)}
	}
	location := b.SignInAt()
	if path, _, _ := strings.Cut(location, "?"); path == Escape(d.Place) || path == Escape(place.Place{Path: d.Place.Path}) {
		location = b.Prefix + "/sign-in" // the page where one signs in asks for that itself, at this host
	}
	switch d.Proof.Kind {
	case ProveSignIn:
	case ProveFactor:
		location = b.Prefix + "/prove-again?factor=" + url.QueryEscape(d.Proof.Name)
		if d.Proof.Within > 0 {
			location += "&within=" + document.FormatDuration(d.Proof.Within)
		}
	default:
		location = b.Prefix + map[ProofKind]string{ProveAgain: "/prove-again", ProveShared: "/unlock", ProvePass: "/unlock"}[d.Proof.Kind]
	}
	if next := b.goOn(d.Place, query); next != "" {
		location = To(location, "next="+url.QueryEscape(next))
	}
	if method := d.Place.Method; method != "GET" && method != "HEAD" {
		// What was sent is gone: a redirect fetches with GET. The page says so.
		location = To(location, "unsent")
	}
	return Answer{Status: 303, Location: location}
}

// IsRoute reports whether a path can be a route of an application, and not one of its files: its last segment has no
// ending.
func IsRoute(path string) bool {
	return !strings.Contains(path[strings.LastIndexByte(path, '/')+1:], ".")
}

// sendsShell reports whether everybody gets the page of an application at a place, which then looks where it is and asks for
// what is missing. What is hidden there looks like every other route.
func (b *Book) sendsShell(p place.Place) bool {
	if p.Method != "GET" && p.Method != "HEAD" || !IsRoute(p.Path) || b.IsOwn(p) {
		return false
	}
	s := b.SourceOf(p)
	return s != nil && s.Shell
}

// instead is where a decision leads in place of the usual answer; with where to go on to, for a page on which one signs in.
func (b *Book) instead(d Decision, query string) string {
	next := b.goOn(d.Place, query)
	if _, has, _ := strings.Cut(d.Instead.Go, "?"); d.Outcome != Challenge || next == "" || strings.Contains("&"+has, "&next=") {
		return d.Instead.Go
	}
	return To(d.Instead.Go, "next="+url.QueryEscape(next))
}

// goOn returns where somebody goes on to who has proven what was missing: where they wanted to go.
// Own pages that only take what a form sends, or ask for another proof, are none to come back to; "" is
// for wherever people land.
func (b *Book) goOn(p place.Place, query string) string {
	switch {
	case Below(p.Path, b.Prefix+"/account"):
		return b.Prefix + "/account"
	case p.Path == b.Prefix+"/prove-again":
		values, err := url.ParseQuery(query)
		if next := values.Get("next"); err == nil && strings.HasPrefix(next, "/") {
			return next
		}
		return ""
	}
	next := Escape(p)
	if query != "" {
		next += "?" + query
	}
	return next
}

// Escape returns the address of a place, percent-encoded as in a link.
func Escape(p place.Place) string {
	return (&url.URL{Path: p.Address()}).EscapedPath()
}

// Quote writes a text as a header has it in quotes.
func Quote(s string) string { return quote(s) }

// quote writes a quoted-string (RFC 9110, section 5.6.4). Control characters, which no
// header may carry, become spaces.
func quote(s string) string {
	var q strings.Builder
	q.WriteByte('"')
	for _, r := range s {
		switch {
		case r < 0x20 || r == 0x7f:
			r = ' '
		case r == '"' || r == '\\':
			q.WriteByte('\\')
		}
		q.WriteRune(r)
	}
	q.WriteByte('"')
	return q.String()
}
