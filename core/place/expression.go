package place

import (
	"regexp"
	"strings"
)

// A web server can be told by regular expressions, as Perl and Go have them, which requests are in a Set. They are held against the
// host in lower case and without a port, a vertical bar, and the target as it was received: "marram.example|/rota/?week=2".

// Plain matches the requests whose targets every web server reads alike: a path with nothing percent-encoded, no empty segment
// and none that begins with a dot, with a query or without. What it does not match may be a place all the same. There is one vertical bar in what
// it matches, so that nobody can send a host that looks like a host and a target.
const Plain = `^(?:[a-z0-9_-]+\.)*[a-z0-9_-]*\|(?:/|(?:/[` + plainByte + `-][` + plainByte + `.-]*)+/?)(?:\?[^|]*)?$`

const plainByte = `A-Za-z0-9_~!&()*+,=:@`

// Expression returns an expression that matches, of the requests that Plain matches, those whose host and path are in s, and nothing
// of a path that Plain does not match; ok is false if there are none. It matches letters as they stand, so it has to be told
// to ignore their case where the site does.
func (s Set) Expression() (expression string, ok bool) {
	var b strings.Builder
	b.WriteString(`^` + s.Host.expression() + `\|`)
	for i := range s.Path.segments {
		segment := &s.Path.segments[i]
		if !isPlain(segment.text) {
			return "", false
		}
		switch {
		case segment.many:
			b.WriteString(`(?:/[^/?]+)*`)
			continue
		case segment.text == "*":
			b.WriteString(`/[^/?]+`)
			continue
		}
		b.WriteByte('/')
		for i, part := range strings.Split(segment.text, "*") {
			if i > 0 {
				b.WriteString(`[^/?]*`)
			}
			b.WriteString(regexp.QuoteMeta(part))
		}
	}
	b.WriteString(`/?(?:\?.*)?$`)
	return b.String(), true
}

// isPlain reports whether a segment of a pattern has only what can stand in a target that Plain matches.
func isPlain(text string) bool {
	return strings.IndexFunc(text, func(r rune) bool {
		return !(r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z' || r >= '0' && r <= '9' || strings.ContainsRune("_~!&()*+,=:@-.", r))
	}) < 0
}

func (h Host) expression() string {
	switch {
	case h.name == "":
		return `[^|]*`
	case h.below:
		return `[^|]+\.` + regexp.QuoteMeta(h.name)
	}
	return regexp.QuoteMeta(h.name)
}
