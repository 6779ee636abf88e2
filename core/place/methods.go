package place

import (
	"fmt"
	"slices"
	"strings"
)

// Methods is a set of request methods: those it names, or any method at all (the zero
// Methods). GET brings HEAD with it, since HEAD tells what GET would (RFC 9110,
// section 9.3.2).
type Methods struct {
	names []string // sorted; nil for any
}

// ParseMethods reads the methods of a door. No names mean any method.
func ParseMethods(names ...string) (Methods, error) {
	var m Methods
	for _, name := range names {
		if err := checkMethod(name); err != nil {
			return Methods{}, fmt.Errorf("method %q: %s", name, err.(*Unreadable).Reason)
		}
		m.names = append(m.names, name)
		if name == "GET" {
			m.names = append(m.names, "HEAD")
		}
	}
	slices.Sort(m.names)
	m.names = slices.Compact(m.names)
	return m, nil
}

// checkMethod accepts the tokens of RFC 9110, section 5.6.2, in upper case. Methods
// are case-sensitive; "get" is no method, and a program behind could take it for GET.
func checkMethod(m string) error {
	switch m {
	case "GET", "HEAD", "POST", "PUT", "PATCH", "DELETE", "OPTIONS":
		return nil
	}
	switch m {
	case "TRACE", "TRACK", "CONNECT":
		// What hands a request back shows the fields that others have put into it (RFC 9110, section 9.3.8); a tunnel leads past the doors.
		return &Unreadable{What: "method", Value: m, Reason: m + " is never handed on"}
	}
	if m == "" {
		return &Unreadable{What: "method", Reason: "no method"}
	}
	for i := 0; i < len(m); i++ {
		c := m[i]
		switch {
		case 'A' <= c && c <= 'Z', '0' <= c && c <= '9', strings.IndexByte("!#$%&'*+-.^_`|~", c) >= 0:
		case 'a' <= c && c <= 'z':
			return &Unreadable{What: "method", Value: m, Offset: i, Reason: "methods are written in upper case, as in " + strings.ToUpper(m)}
		default:
			return &Unreadable{What: "method", Value: m, Offset: i, Reason: fmt.Sprintf("%q does not belong in a method", c)}
		}
	}
	return nil
}

// Any reports whether m is every method.
func (m Methods) Any() bool { return m.names == nil }

// Names returns the methods of m in alphabetical order, nil for any.
func (m Methods) Names() []string { return slices.Clone(m.names) }

func (m Methods) String() string { return strings.Join(m.names, ", ") }

// Covers reports whether method is one of m.
func (m Methods) Covers(method string) bool {
	if m.names == nil {
		return true
	}
	for _, name := range m.names {
		if name == method {
			return true
		}
	}
	return false
}

// within reports whether every method of m is one of n.
func (m Methods) within(n Methods) bool {
	if n.names == nil {
		return true
	}
	return m.names != nil && !slices.ContainsFunc(m.names, func(name string) bool { return !n.Covers(name) })
}

// meet returns a method that is in both, if there is one; GET when it is.
func (m Methods) meet(n Methods) (string, bool) {
	switch {
	case m.Covers("GET") && n.Covers("GET"):
		return "GET", true
	case m.names == nil && n.names == nil:
		return "GET", true
	case m.names == nil:
		return n.names[0], true
	}
	for _, name := range m.names {
		if n.Covers(name) {
			return name, true
		}
	}
	return "", false
}
