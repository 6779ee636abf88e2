// Package connect writes what a web server's configuration needs so that the server asks Ostiarius about each request and
// answers itself.
package connect

import (
	"fmt"
	"net/netip"
	"net/url"
	"slices"
	"strings"

	"ostiarius/core/place"
	"ostiarius/core/policy"
)

// A Site is what a web server serves, and where it asks.
type Site struct {
	Book *policy.Book
	To   To
	// SkipPublic leaves out the question where everybody is admitted.
	SkipPublic bool
	// Content are directives of nginx by which it gives out the files of public directories, about which it is then asked nothing at
	// all; none for asking about them too.
	Content []string
	// Identity is the audience for which it is signed who is calling; "" for nobody.
	Identity string
	// Authorizer is where Apache asks, host:port.
	Authorizer string
}

// ParseAuthorizer reads the address where Ostiarius is asked by FastCGI.
func ParseAuthorizer(s string) (string, error) {
	u, err := url.Parse("fcgi://" + s)
	if err != nil || u.Host != s || u.Port() == "" || u.Hostname() == "" || !isSafe(s) {
		return "", fmt.Errorf("%q is no address; write HOST:PORT, such as 127.0.0.1:8463", s)
	}
	return s, nil
}

// asking is the rest of a question's address.
func (s *Site) asking(how string) string {
	if s.Identity != "" {
		return how + "&identity=" + s.Identity
	}
	return how
}

// A To is where the web server reaches Ostiarius: over TCP, or at a socket.
type To struct {
	Scheme string // http or https; "" for a socket
	Host   string // with a port
	Socket string // the absolute path
}

// ParseTo reads an address such as http://127.0.0.1:8460 or unix:/run/ostiarius/front.sock.
func ParseTo(s string) (To, error) {
	if path, ok := strings.CutPrefix(s, "unix:"); ok {
		if !strings.HasPrefix(path, "/") || !isSafe(path) {
			return To{}, fmt.Errorf("%q is no socket; write its whole path, as in unix:/run/ostiarius/front.sock", s)
		}
		return To{Socket: path}, nil
	}
	u, err := url.Parse(s)
	if err != nil || u.Scheme != "http" && u.Scheme != "https" || u.Host == "" || u.Path != "" && u.Path != "/" || u.RawQuery != "" ||
		u.Fragment != "" || u.User != nil || !isSafe(u.Host) {
		return To{}, fmt.Errorf("%q is not where a service is; write http://127.0.0.1:8460, or unix:/run/ostiarius/front.sock", s)
	}
	return To{Scheme: u.Scheme, Host: u.Host}, nil
}

// isSafe reports whether a text can stand in every configuration as it is.
func isSafe(s string) bool {
	return strings.IndexFunc(s, func(r rune) bool {
		return !(r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z' || r >= '0' && r <= '9' || strings.ContainsRune("/._-:[]", r))
	}) < 0
}

// local reports whether only this machine is on the way to Ostiarius.
func (t To) local() bool {
	host := (&url.URL{Host: t.Host}).Hostname()
	a, err := netip.ParseAddr(host)
	return t.Socket != "" || host == "localhost" || err == nil && a.IsLoopback()
}

// Check says what of the policy cannot be said to a web server: each has its own characters that mean something, so our own pages
// must be at plain addresses.
func (s *Site) Check() error {
	if s.SkipPublic && len(s.Book.Checks) > 0 {
		return fmt.Errorf("the policy has checks (%s, line %d), which cannot be told to a web server, so --skip-public could open what "+
			"they close; leave it away", s.Book.Checks[0].Check, s.Book.Checks[0].Line)
	}
	for _, at := range append(s.ownPaths(), s.Book.Prefix) {
		if !isSafe(at) {
			return fmt.Errorf("the address %q of our own pages cannot be written for every web server; use letters, digits, -, _ and . in "+
				"prefix and entrance", at)
		}
	}
	return nil
}

// Warnings are what somebody should know before the configuration is used by a server.
func (s *Site) Warnings(server string) (all []string) {
	if s.To.Scheme == "http" && !s.To.local() {
		all = append(all, "passwords and sessions go to "+s.To.Host+" without encryption; use https, or a network that nobody else is on")
	}
	if s.SkipPublic && !s.open().any() {
		all = append(all, "no place is public, so there is nothing that --skip-public could leave out")
	}
	if s.SkipPublic && s.Content != nil && len(s.openDirectories()) == 0 {
		all = append(all, "no directory is public with all that is in it and at every host, so --content is used for none")
	}
	if len(s.Book.Sources) > 0 {
		all = append(all, "the sources of the policy are not used beside a web server, which serves the site itself")
	}
	return all
}

// An opening says which requests everybody may make, told by expressions of package place: of those that are GET and match place.Plain,
// the ones that match a public expression, or any if all is set, and of each closed one also what is inside it.
type opening struct {
	all    bool // what no door covers is public too
	public []place.Expression
	closed []closed
	hosts  bool // an expression is for a host
}

// A closed is a door that not everybody passes, and the doors inside it, where it does not count.
type closed struct {
	door  place.Expression
	inner []place.Expression
}

func (o *opening) any() bool { return o.all || len(o.public) > 0 }

// open finds out where everybody is admitted. Most specific wins: a door does not count where one inside it covers the place,
// and of those that count all must be public. What HEAD may do is asked, since a door can be for that alone.
func (s *Site) open() *opening {
	o := &opening{all: s.Book.Unlisted.IsPublic()}
	told := func(d *policy.Door) (place.Expression, bool) {
		if !d.Methods.Covers("GET") {
			return place.Expression{}, false
		}
		e, ok := d.Set.Expression()
		o.hosts = o.hosts || e.Host != ""
		return e, ok
	}
	// A door counts for what is public outside of it, or across its edge; of what lies within it is the outer one.
	counts := func(d *policy.Door) bool {
		return slices.ContainsFunc(s.Book.Doors, func(other policy.Door) bool {
			relation := d.Set.Relate(other.Set)
			return other.IsPublic() && relation != place.Apart && relation != place.Around
		})
	}
	for i := range s.Book.Doors {
		d := &s.Book.Doors[i]
		expression, ok := told(d)
		switch {
		case !ok:
		case d.IsPublic():
			o.public = append(o.public, expression)
		case o.all || counts(d):
			if expression, ok = d.Set.Enclosing(); !ok {
				continue // nothing plain is in it
			}
			c := closed{door: expression}
			for j := range s.Book.Doors {
				other := &s.Book.Doors[j]
				if expression, ok := told(other); ok && d.Set.Relate(other.Set) == place.Around {
					c.inner = append(c.inner, expression)
				}
			}
			o.closed = append(o.closed, c)
		}
	}
	return o
}

// ownPaths are the paths of our pages, beside those below the prefix.
func (s *Site) ownPaths() []string {
	if s.Book.Entrance != "" {
		return []string{s.Book.Entrance}
	}
	return nil
}
