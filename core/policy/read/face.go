package read

import (
	"unicode/utf8"

	"github.com/goccy/go-yaml/ast"

	"ostiarius/core/document"
	"ostiarius/core/pattern"
	"ostiarius/core/place"
	"ostiarius/core/policy"
)

func (p *reader) pages(n ast.Node) {
	to := &p.Book.Pages
	to.Position = document.PositionOf(n)
	for _, f := range p.Fields(n, "pages", []string{"sign-in", "join", "recover", "turned-away", "missing"}) {
		at := p.Target(f.Value)
		if _, path, _ := place.SplitTarget(at); at != "" && policy.Below(path, p.Book.Prefix) {
			p.At(f.Value, "bad-value", "%s %q is one of Ostiarius's own pages; name one of the site", f.Name, at)
		}
		*map[string]*string{
			"sign-in": &to.SignIn, "join": &to.Join, "recover": &to.Recover, "turned-away": &to.TurnedAway, "missing": &to.Missing,
		}[f.Name] = at
	}
}

// origins reads which other origins' scripts may ask who is here, and where they may go (RFC 6454, section 6.2).
func (p *reader) origins(n ast.Node) {
	names, nodes := p.Texts(n, "origins")
	for i, name := range names {
		at := nodes[i]
		switch parts := originForm.FindStringSubmatch(name); {
		case name == "*" || name == "null":
			p.At(at, "bad-value", "origins names each origin; %q would let the scripts of any site ask who is here", name)
		case parts == nil:
			p.At(at, "bad-value", "an origin is a scheme and a host in small letters, such as https://desk.marram.example, not %q", name)
		default:
			if host := parts[2]; parts[1] == "http" && host != "localhost" && host != "127.0.0.1" && host != "[::1]" {
				p.Warn(document.PositionOf(at), utf8.RuneCountInString(name), "origin-too-wide",
					"whoever sits between %s and a visitor can put a script there, since it is not HTTPS, and learn who is here", name)
			}
			p.Book.Origins = append(p.Book.Origins, name)
		}
	}
}

const originPattern = `^(https?)://([a-z0-9.-]+|\[[0-9a-f:.]+\])(:[0-9]{1,5})?$`

var originForm = pattern.New(originPattern)

// entrance reads where the sign-in page is, for those who know.
func (p *reader) entrance(n ast.Node) {
	s, ok := p.Text(n, "entrance")
	if !ok {
		return
	}
	pattern, err := place.ParsePattern(s, p.Book.Rules)
	switch {
	case err != nil:
		p.At(n, "bad-value", "entrance: %v", err)
	case !pattern.Literal() || pattern.String() == "/":
		p.At(n, "bad-value", "entrance is one path without *, such as /keepers-only-7f3")
	case policy.Below(pattern.String(), p.Book.Prefix):
		p.At(n, "bad-value", "entrance is a path beside Ostiarius's own pages, which are at %s", p.Book.Prefix)
	default:
		p.Book.Entrance = pattern.String()
	}
}

// checkPages warns where the pages that people are sent to are closed to whoever comes there, and takes ours instead.
func (p *reader) checkPages() {
	to := &p.Book.Pages
	for _, page := range []struct {
		to   *string
		when string
	}{{&to.SignIn, "to sign in"}, {&to.Join, "to join"}, {&to.Recover, "to recover a password"},
		{&to.Missing, "in the place of what is not there"}} {
		if *page.to == "" {
			continue
		}
		if d := arrive(p.Book, *page.to, &policy.Visitor{}); d.Outcome != policy.Admit {
			p.turnedAway(to.Position, *page.to, page.when, policy.Visitor{}, d)
			p.Findings[len(p.Findings)-1].Length = utf8.RuneCountInString("pages")
			*page.to = "" // ours is shown: nobody is led in a circle
		}
	}
	if p.Book.Entrance != "" {
		for i := range p.Book.Doors {
			if d := &p.Book.Doors[i]; d.Path.Literal() && d.Path.String() == p.Book.Entrance {
				p.Warn(d.Position, utf8.RuneCountInString(d.Written), "own-pages",
					"%s is the entrance; its own door decides there, and this one never does", d.Written)
			}
		}
	}
}
