package place

import (
	"regexp"
	"strings"
)

// A web server can be told by regular expressions, as Perl and Go have them, which requests are in a Set. They are held against the
// host in lower case and without a port, a vertical bar, and the target as it was received: "marram.example|/rota/?week=2".

// Plain matches the requests whose hosts and targets every web server reads alike: a name without a dot at its end, and
// a path with nothing percent-encoded, no empty segment and none that begins with a dot, with a query or without. What
// it does not match may be a place all the same. There is one vertical bar in what it matches, so that nobody can send
// a host that looks like a host and a target.
const Plain = `^` + PlainHost + `\|` + PlainTarget

// What Plain matches, for the host and for the target alone, without what begins it.
const (
	PlainHost   = `(?:[a-z0-9_-]+\.)*[a-z0-9_-]+`
	PlainTarget = `(?:/|(?:/[` + plainByte + `-][` + plainByte + `.-]*)+/?)(?:\?[^|]*)?$`
)

const plainByte = `A-Za-z0-9_~!&()*+,=:@`

// An Expression matches, of the requests that Plain matches, those of one set; of others it may match any. It matches letters as they
// stand, so a server has to be told to ignore their case where the site does.
type Expression struct {
	Host string // for the host; "" for any
	Path string // for the target, from its first byte
}

func (e Expression) String() string {
	if e.Host == "" {
		return `^[^|]*\|` + e.Path
	}
	return `^` + e.Host + `\|` + e.Path
}

// Expression returns the one whose requests have a host and a path in s; ok is false if Plain matches none of them.
func (s Set) Expression() (e Expression, ok bool) {
	var b strings.Builder
	last := len(s.Path.segments) - 1
	for i := range s.Path.segments {
		segment := &s.Path.segments[i]
		if !isPlain(segment.text) {
			return Expression{}, false
		}
		switch {
		case segment.many && i == last: // whatever comes, Plain sees to
			b.WriteString(`(?:[/? ]|$)`)
			return Expression{s.Host.expression(), b.String()}, true
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
	b.WriteString(`/?(?:[? ]|$)`) // a space, for servers that hold it against the first line of a request
	return Expression{s.Host.expression(), b.String()}, true
}

// Enclosing is Expression for a closed door. A matcher that goes back and tries again gives up on a long path where a
// pattern has several gaps, and then says that nothing matches, so that what is closed would seem to be open. For such
// a pattern the expression is that of everything below what stands before its first gap. It matches what the pattern
// does, and more.
func (s Set) Enclosing() (e Expression, ok bool) {
	if s.Path.gaps() < 2 {
		return s.Expression()
	}
	around := s
	around.Path.segments = nil
	for i := range s.Path.segments {
		if strings.Contains(s.Path.segments[i].text, "*") {
			break
		}
		around.Path.segments = append(around.Path.segments, s.Path.segments[i])
	}
	around.Path.segments = append(around.Path.segments, segment{glob: glob{text: "**"}, many: true})
	return around.Expression()
}

// gaps counts the places of a pattern that a matcher may try in many ways, one within the other: each ** that isn't the last segment, and
// each * of a segment that has several. A single * ends with its segment.
func (p *Pattern) gaps() (n int) {
	for i := range p.segments {
		switch s := &p.segments[i]; {
		case s.many && i == len(p.segments)-1:
		case s.many:
			n++
		case strings.Count(s.text, "*") > 1:
			n += strings.Count(s.text, "*")
		}
	}
	return n
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
		return ""
	case h.below:
		return `[^|]+\.` + regexp.QuoteMeta(h.name)
	}
	return regexp.QuoteMeta(h.name)
}
