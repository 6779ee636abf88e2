package place

import (
	"fmt"
	"net/netip"
	"strings"
	"unicode/utf8"

	"golang.org/x/net/idna"
)

// A Host names a set of hosts: one name ("files.marram.example"), every name below a
// name ("*.marram.example"), or any host at all (the zero Host).
type Host struct {
	name  string // lower case; "" for any host
	below bool   // the names below name, not name itself
}

// ParseHost reads a host as it stands in a policy: a name or an IPv4 address without
// port, or a name with a leading "*.". The empty string is any host.
func ParseHost(s string) (Host, error) {
	if s == "" {
		return Host{}, nil
	}
	name, below := strings.CutPrefix(s, "*.")
	if name == "" {
		return Host{}, fmt.Errorf("host %q: a name is missing behind the star", s)
	}
	if strings.Contains(name, "*") {
		return Host{}, fmt.Errorf("host %q: * may only stand in front, as in *.%s", s, strings.Trim(strings.ReplaceAll(name, "*", ""), "."))
	}
	if ascii, err := idna.Lookup.ToASCII(name); err == nil && ascii != strings.ToLower(name) {
		return Host{}, fmt.Errorf("host %q: browsers send it as %s%s; write that", s, s[:len(s)-len(name)], ascii)
	}
	canonical, err := readHost(name)
	if err != nil {
		return Host{}, fmt.Errorf("host %q: %s", s, err.(*Unreadable).Reason)
	}
	if canonical != strings.ToLower(name) || canonical[0] == '[' || len(name) > 253 {
		return Host{}, fmt.Errorf("host %q: a name without a port or a dot at its end is expected, of at most 253 characters", s)
	}
	return Host{name: canonical, below: below}, nil
}

func (h Host) String() string {
	if h.below {
		return "*." + h.name
	}
	return h.name
}

// Any reports whether h is every host.
func (h Host) Any() bool { return h.name == "" }

// Covers reports whether the canonical host name is one of h.
func (h Host) Covers(name string) bool {
	switch {
	case h.name == "":
		return true
	case h.below:
		rest, ok := strings.CutSuffix(name, h.name)
		return ok && len(rest) > 1 && rest[len(rest)-1] == '.'
	default:
		return name == h.name
	}
}

// within reports whether every host of h is one of g.
func (h Host) within(g Host) bool {
	switch {
	case g.name == "":
		return true
	case h.name == "":
		return false
	case h.below:
		return g.below && (h.name == g.name || g.Covers(h.name))
	default:
		return g.Covers(h.name)
	}
}

// meet returns a host that is in both, if there is one. Two hosts never cross: they
// are apart or one is within the other.
func (h Host) meet(g Host) (string, bool) {
	switch {
	case h.within(g):
		return h.Example(), true
	case g.within(h):
		return g.Example(), true
	}
	return "", false
}

// Example returns a host name that is one of h: the name itself, a name below it, or
// "" for any host.
func (h Host) Example() string {
	if h.below {
		return "any." + h.name
	}
	return h.name
}

// readHost returns the canonical form of the host of a request: lower case, without
// port and without the final dot of a fully qualified name (RFC 3986, section 3.2.2).
func readHost(host string) (string, error) {
	if host == "" {
		return "", nil
	}
	if name, ok := plainHost(host); ok {
		return name, nil
	}
	bad := func(at int, reason string) (string, error) {
		return "", &Unreadable{What: "host", Value: host, Offset: at, Reason: reason}
	}
	if len(host) > 255+6 {
		return bad(255, "a host name is at most 255 bytes long")
	}
	name := host
	if host[0] == '[' {
		end := strings.IndexByte(host, ']')
		if end < 0 {
			return bad(0, "an address in brackets has no closing bracket")
		}
		name = host[1:end]
		if rest := host[end+1:]; rest != "" && !isPort(rest) {
			return bad(end+1, "after the address only :PORT may follow")
		}
		address, err := netip.ParseAddr(name)
		if err != nil || !address.Is6() || address.Zone() != "" {
			return bad(1, "not an IPv6 address")
		}
		return "[" + address.String() + "]", nil
	}
	if colon := strings.IndexByte(name, ':'); colon >= 0 {
		if !isPort(name[colon:]) {
			return bad(colon, "after the name only :PORT may follow")
		}
		name = name[:colon]
	}
	name = strings.TrimSuffix(name, ".")
	lower := true
	start := 0
	for i := 0; i <= len(name); i++ {
		if i == len(name) || name[i] == '.' {
			if i == start {
				return bad(i, "an empty label in a host name")
			}
			start = i + 1
			continue
		}
		c := name[i]
		switch {
		case 'a' <= c && c <= 'z', '0' <= c && c <= '9', c == '-', c == '_':
		case 'A' <= c && c <= 'Z':
			lower = false
		default:
			r, _ := utf8.DecodeRuneInString(name[i:])
			return bad(i, fmt.Sprintf("%q does not belong in a host name", r))
		}
	}
	if !lower {
		name = strings.ToLower(name)
	}
	return name, nil
}

// plainHost returns a host without its port if it is as most are: letters in lower case, no
// address in brackets, no dot at the end. Others are read with more care.
func plainHost(host string) (name string, ok bool) {
	if len(host) > 255 {
		return "", false
	}
	dot := true
	for i := 0; i < len(host); i++ {
		c := host[i]
		switch {
		case 'a' <= c && c <= 'z', '0' <= c && c <= '9', c == '-', c == '_':
			dot = false
		case c == '.' && !dot:
			dot = true
		case c == ':' && !dot:
			return host[:i], isPort(host[i:])
		default:
			return "", false
		}
	}
	return host, !dot
}

func isPort(s string) bool { // ":8460", or ":" alone (RFC 3986 allows an empty port)
	for i := 1; i < len(s); i++ {
		if c := s[i]; c < '0' || c > '9' {
			return false
		}
	}
	return s[0] == ':' && len(s) <= 6
}
