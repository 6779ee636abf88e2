package policy

import (
	"strings"
	"unicode/utf8"

	"github.com/goccy/go-yaml/ast"

	"ostiarius/core/pattern"
	"ostiarius/core/place"
)

// Pages are pages of the site in the place of Ostiarius's own, to which people are sent instead; "" for none.
type Pages struct {
	SignIn, Join, Recover, TurnedAway string
	Missing                           string // is answered with, in the place of what is not there
	Position
}

// SignInAt returns the address at which people sign in.
func (b *Book) SignInAt() string {
	switch {
	case b.Pages.SignIn != "":
		return b.Pages.SignIn
	case b.Entrance != "":
		return escape(place.Place{Path: b.Entrance})
	}
	return b.Prefix + "/sign-in"
}

// To returns an address with more of a query, such as "next=%2F", behind what it has.
func To(address, query string) string {
	if query == "" {
		return address
	}
	if strings.Contains(address, "?") {
		return address + "&" + query
	}
	return address + "?" + query
}

func (p *reader) pages(n ast.Node) {
	to := &p.book.Pages
	to.Position = position(n)
	for _, f := range p.fields(n, "pages", []string{"sign-in", "join", "recover", "turned-away", "missing"}) {
		at := p.target(f.value)
		if _, path, _ := place.SplitTarget(at); at != "" && below(path, p.book.Prefix) {
			p.at(f.value, "bad-value", "%s %q is one of Ostiarius's own pages; name one of the site", f.name, at)
		}
		*map[string]*string{
			"sign-in": &to.SignIn, "join": &to.Join, "recover": &to.Recover, "turned-away": &to.TurnedAway, "missing": &to.Missing,
		}[f.name] = at
	}
}

// origins reads which other origins' scripts may ask who is here, and where they may go (RFC 6454, section 6.2).
func (p *reader) origins(n ast.Node) {
	names, nodes := p.texts(n, "origins")
	for i, name := range names {
		at := nodes[i]
		switch parts := originForm.FindStringSubmatch(name); {
		case name == "*" || name == "null":
			p.at(at, "bad-value", "origins names each origin; %q would let the scripts of any site ask who is here", name)
		case parts == nil:
			p.at(at, "bad-value", "an origin is a scheme and a host in small letters, such as https://desk.marram.example, not %q", name)
		default:
			if host := parts[2]; parts[1] == "http" && host != "localhost" && host != "127.0.0.1" && host != "[::1]" {
				p.warn(position(at), utf8.RuneCountInString(name), "origin-too-wide",
					"whoever sits between %s and a visitor can put a script there, since it is not HTTPS, and learn who is here", name)
			}
			p.book.Origins = append(p.book.Origins, name)
		}
	}
}

const originPattern = `^(https?)://([a-z0-9.-]+|\[[0-9a-f:.]+\])(:[0-9]{1,5})?$`

var originForm = pattern.New(originPattern)

// entrance reads where the sign-in page is, for those who know.
func (p *reader) entrance(n ast.Node) {
	s, ok := p.text(n, "entrance")
	if !ok {
		return
	}
	pattern, err := place.ParsePattern(s, p.book.Rules)
	switch {
	case err != nil:
		p.at(n, "bad-value", "entrance: %v", err)
	case !pattern.Literal() || pattern.String() == "/":
		p.at(n, "bad-value", "entrance is one path without *, such as /keepers-only-7f3")
	case below(pattern.String(), p.book.Prefix):
		p.at(n, "bad-value", "entrance is a path beside Ostiarius's own pages, which are at %s", p.book.Prefix)
	default:
		p.book.Entrance = pattern.String()
	}
}

// checkPages warns where the pages that people are sent to are closed to whoever comes there, and takes ours instead.
func (p *reader) checkPages() {
	to := &p.book.Pages
	for _, page := range []struct {
		to   *string
		when string
	}{{&to.SignIn, "to sign in"}, {&to.Join, "to join"}, {&to.Recover, "to recover a password"},
		{&to.Missing, "in the place of what is not there"}} {
		if *page.to == "" {
			continue
		}
		if d := p.book.arrive(*page.to, &Visitor{}); d.Outcome != Admit {
			p.turnedAway(to.Position, *page.to, page.when, Visitor{}, d)
			p.findings[len(p.findings)-1].Length = utf8.RuneCountInString("pages")
			*page.to = "" // ours is shown: nobody is led in a circle
		}
	}
	if p.book.Entrance != "" {
		for i := range p.book.Doors {
			if d := &p.book.Doors[i]; d.Path.Literal() && d.Path.String() == p.book.Entrance {
				p.warn(d.Position, utf8.RuneCountInString(d.Written), "own-pages",
					"%s is the entrance; its own door decides there, and this one never does", d.Written)
			}
		}
	}
}
