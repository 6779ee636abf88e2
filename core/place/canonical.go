// Package place knows the places of a web site: how a request's address is read
// as one canonical place, how a policy names sets of places, how such sets relate
// to each other, and which sets cover a place.
//
// Nothing here touches HTTP, files or a clock.
package place

import (
	"fmt"
	"strings"
	"unicode"
	"unicode/utf8"

	"golang.org/x/text/unicode/norm"
)

// A Place is what a request is judged by: a host, a canonical path and a method.
//
// The path is decoded, starts with a slash and does not end with one (but for the
// root). Slash tells whether the address ended with a slash: that makes no other
// place, but the source behind receives the address as it was asked for.
type Place struct {
	Host   string // lower case, without port; "" when the request named none
	Path   string // canonical: "/rota", never "/rota/"
	Method string // upper case, as in RFC 9110, section 9
	Slash  bool   // the address ended with a slash
}

// String is how a place is told: its method, host and path.
func (p Place) String() string { return p.Method + " " + p.Host + p.Path }

// Address returns the canonical path as the source behind receives it: Path, with
// the trailing slash if the request had one. It is not percent-encoded.
func (p Place) Address() string {
	if p.Slash && p.Path != "/" {
		return p.Path + "/"
	}
	return p.Path
}

// Rules are the few things in which sites differ when an address is read.
type Rules struct {
	FoldCase   bool // the site does not distinguish letter case in paths
	Semicolons bool // a ';' may stand in a path
}

// MaxPath is the longest path, in bytes as sent, that is read.
const MaxPath = 8192

// An Unreadable error says why an address is malformed or ambiguous. Such a request
// is rejected and never guessed at.
type Unreadable struct {
	What   string // "path", "host" or "method"
	Value  string // as received
	Offset int    // byte offset of the fault in Value
	Reason string // what is wrong, in words
}

func (e *Unreadable) Error() string {
	return fmt.Sprintf("%s %q at byte %d: %s", e.What, shorten(e.Value), e.Offset, e.Reason)
}

func shorten(s string) string {
	if len(s) > 120 {
		return s[:120] + "..."
	}
	return s
}

// Read returns the place that a request is judged by. Method and host are as in the
// request; path is the path of the request target as sent, still percent-encoded and
// without the query. The error, if any, is an *Unreadable.
func Read(method, host, path string, rules Rules) (Place, error) {
	if err := checkMethod(method); err != nil {
		return Place{}, err
	}
	h, err := readHost(host)
	if err != nil {
		return Place{}, err
	}
	p, slash, err := Canonical(path, rules)
	if err != nil {
		return Place{}, err
	}
	return Place{Host: h, Path: p, Method: method, Slash: slash}, nil
}

// What a byte of a path is, as bits: a slash; a slash or a dot; something that has to be
// looked at before the path can be taken as it stands; an upper-case letter.
const (
	isSlash = 1 << iota
	isSlashOrDot
	isSpecial
	isUpper
)

var classes = func() (t [256]uint8) {
	for c := range t {
		t[c] = isSpecial
	}
	for _, c := range "abcdefghijklmnopqrstuvwxyz0123456789-_~!$&'()*+,=:@" {
		t[c] = 0
	}
	for c := 'A'; c <= 'Z'; c++ {
		t[c] = isUpper
	}
	t['/'] = isSlash | isSlashOrDot
	t['.'] = isSlashOrDot
	return t
}()

// asItStands reports whether a path has nothing to decode and nothing to remove: no
// special bytes, and behind no slash another one or a dot. (A segment may well begin with
// a dot; it is then taken apart to see.)
func asItStands(raw string, rules Rules) bool {
	var all, afterSlash, slash uint8
	for i := 0; i < len(raw); i++ {
		class := classes[raw[i]]
		all |= class
		afterSlash |= slash & (class >> 1)
		slash = class & isSlash
	}
	return all&isSpecial == 0 && afterSlash&1 == 0 && !(rules.FoldCase && all&isUpper != 0)
}

// Canonical reads a path as it stands in a request target (percent-encoded, without
// the query) and returns its one canonical form, decoded, and whether it ended with a
// slash.
//
// Percent-encoding is decoded once (RFC 3986, section 2.1), empty segments and dot
// segments are removed (section 5.2.4); letters are composed (Unicode NFC). Everything that one program could read in one
// way and the next in another is an error: an encoded slash or backslash, a raw
// backslash, control characters, malformed percent-encoding or UTF-8, a percent sign
// that could be decoded a second time, and a semicolon unless the rules allow it.
//
// A path that is canonical already is returned without an allocation.
func Canonical(raw string, rules Rules) (path string, slash bool, err error) {
	if raw == "" || raw[0] != '/' {
		return "", false, unreadable(raw, 0, "a path starts with /")
	}
	if len(raw) > MaxPath {
		return "", false, unreadable(raw, MaxPath, fmt.Sprintf("a path is at most %d bytes long", MaxPath))
	}
	if asItStands(raw, rules) {
		if len(raw) > 1 && raw[len(raw)-1] == '/' {
			return raw[:len(raw)-1], true, nil
		}
		return raw, raw == "/", nil
	}
	decoded, err := decode(raw, rules)
	if err != nil {
		return "", false, err
	}
	path, slash = removeDots(decoded)
	path = compose(path)
	if rules.FoldCase {
		path = compose(fold(path))
	}
	if !rules.Semicolons && strings.Contains(path, ";") {
		return "", false, unreadable(raw, 0, "a character that is another way to write a semicolon")
	}
	return path, slash, nil
}

// compose returns a text in Unicode's form NFC (UAX 15): what looks the same, and is the same to some file systems, is one place.
func compose(s string) string {
	if isASCII(s) {
		return s
	}
	return norm.NFC.String(s)
}

func isASCII(s string) bool {
	for i := 0; i < len(s); i++ {
		if s[i] >= utf8.RuneSelf {
			return false
		}
	}
	return true
}

func unreadable(raw string, at int, reason string) error {
	return &Unreadable{What: "path", Value: raw, Offset: at, Reason: reason}
}

// decode removes percent-encoding once and refuses what is ambiguous.
func decode(raw string, rules Rules) (string, error) {
	var b strings.Builder
	b.Grow(len(raw))
	at := make([]int, 0, len(raw)) // for each decoded byte, where it stood
	for i := 0; i < len(raw); i++ {
		c := raw[i]
		encoded := false
		if c == '%' {
			if i+2 >= len(raw) || !isHex(raw[i+1]) || !isHex(raw[i+2]) {
				return "", unreadable(raw, i, "malformed percent-encoding; a % is followed by two hexadecimal digits")
			}
			c = unhex(raw[i+1])<<4 | unhex(raw[i+2])
			encoded = true
		}
		switch {
		case c == '/' && encoded:
			return "", unreadable(raw, i, "an encoded slash; some programs read it as a separator and some do not")
		case c == '\\':
			return "", unreadable(raw, i, "a backslash; some programs read it as a slash and some do not")
		case c < 0x20 || c == 0x7f:
			return "", unreadable(raw, i, fmt.Sprintf("a control character (0x%02x)", c))
		case c == ';' && !rules.Semicolons:
			return "", unreadable(raw, i, "a semicolon; some programs cut the path there (the policy can say semicolons: allowed)")
		case (c == '?' || c == '#') && !encoded:
			return "", unreadable(raw, i, fmt.Sprintf("a %q, which ends the path", c))
		}
		b.WriteByte(c)
		at = append(at, i)
		if encoded {
			i += 2
		}
	}
	s := b.String()
	for i, r := range s {
		if r == utf8.RuneError {
			if _, size := utf8.DecodeRuneInString(s[i:]); size <= 1 {
				return "", unreadable(raw, at[i], "not valid UTF-8")
			}
		}
		if unicode.Is(unicode.Cc, r) {
			return "", unreadable(raw, at[i], fmt.Sprintf("a control character (U+%04X)", r))
		}
		if r == '%' && i+2 < len(s) && isHex(s[i+1]) && isHex(s[i+2]) {
			return "", unreadable(raw, at[i], "encoded twice; a program that decodes once more would read another place")
		}
	}
	return s, nil
}

// removeDots removes empty and dot segments from a decoded path. ".." at the root
// stays at the root (RFC 3986, section 5.2.4).
func removeDots(s string) (path string, slash bool) {
	out := make([]byte, 0, len(s))
	for len(s) > 0 {
		s = s[1:] // the slash
		end := strings.IndexByte(s, '/')
		if end < 0 {
			end = len(s)
		}
		segment := s[:end]
		s = s[end:]
		slash = segment == "" || segment == "." || segment == ".."
		switch segment {
		case "", ".":
		case "..":
			for len(out) > 0 {
				last := out[len(out)-1]
				out = out[:len(out)-1]
				if last == '/' {
					break
				}
			}
		default:
			out = append(append(out, '/'), segment...)
		}
	}
	if len(out) == 0 {
		return "/", true
	}
	return string(out), slash
}

// fold maps every letter to one of its case variants, the same for all of them
// (Unicode simple case folding, as strings.EqualFold compares).
func fold(s string) string {
	return strings.Map(func(r rune) rune {
		if r < utf8.RuneSelf {
			return unicode.ToLower(r)
		}
		least := r
		for f := unicode.SimpleFold(r); f != r; f = unicode.SimpleFold(f) {
			least = min(least, f)
		}
		return unicode.ToLower(least)
	}, s)
}

func isHex(c byte) bool {
	return '0' <= c && c <= '9' || 'a' <= c && c <= 'f' || 'A' <= c && c <= 'F'
}

func unhex(c byte) byte {
	switch {
	case c <= '9':
		return c - '0'
	case c >= 'a':
		return c - 'a' + 10
	default:
		return c - 'A' + 10
	}
}

// SplitTarget takes a request target or an address apart, as sent: "/rota/?week=3" has a
// path and a query, "https://marram.example/rota/" also a host (RFC 9112, section 3.2).
// What is none of both is all path; it does not begin with a slash and cannot be read.
func SplitTarget(target string) (host, path, query string) {
	path, query, _ = strings.Cut(target, "?")
	if strings.HasPrefix(path, "/") {
		return "", path, query
	}
	scheme, rest, ok := strings.Cut(path, "://")
	if !ok || !strings.EqualFold(scheme, "http") && !strings.EqualFold(scheme, "https") {
		return "", path, query
	}
	host, path, _ = strings.Cut(rest, "/")
	return host, "/" + path, query
}
