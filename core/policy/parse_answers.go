package policy

import (
	"strings"

	"github.com/goccy/go-yaml/ast"

	"ostiarius/core/pattern"
	"ostiarius/core/place"
)

func (p *reader) otherwise(n ast.Node) Otherwise {
	if isText(n) {
		hide := Instead{Hide: p.word(n, "otherwise", "hide") == "hide", Position: position(n)}
		return Otherwise{Anonymous: hide, Refused: hide}
	}
	var o Otherwise
	before := len(p.findings)
	fields := p.fields(n, "otherwise", []string{"anonymous", "refused"})
	for _, f := range fields {
		switch f.name {
		case "anonymous":
			o.Anonymous = p.instead(f.value, f.name)
		case "refused":
			o.Refused = p.instead(f.value, f.name)
		}
	}
	if len(fields) == 0 && len(p.findings) == before {
		p.at(n, "bad-value", "otherwise says what happens to anonymous or to refused visitors")
	}
	return o
}

func (p *reader) instead(n ast.Node, what string) Instead {
	at := position(n)
	if isText(n) {
		return Instead{Hide: p.word(n, what, "hide") == "hide", Position: at}
	}
	var i Instead
	before := len(p.findings)
	fields := p.fields(n, what, []string{"go", "say"})
	for _, f := range fields {
		switch f.name {
		case "go":
			i.Go = p.target(f.value)
			at = position(f.value)
		case "say":
			i.Say, _ = p.text(f.value, "say")
		}
	}
	if len(fields) != 1 && len(p.findings) == before {
		p.at(n, "bad-value", "%s is one of: hide, { go: PATH }, { say: TEXT }", what)
	}
	i.Position = at
	return i
}

// The query of an address that people are sent to.
var goQuery = pattern.New(`^(?:[A-Za-z0-9._~!$&'()*+,;=:@/?-]|%[0-9A-Fa-f]{2})*$`)

// target reads an address on this site that people are sent to: a path, written as
// people read it, and perhaps a query. It returns the address as it stands in a link.
func (p *reader) target(n ast.Node) string {
	s, ok := p.text(n, "go")
	if !ok {
		return ""
	}
	path, query, hasQuery := strings.Cut(s, "?")
	pattern, err := place.ParsePattern(path, p.book.Rules)
	switch {
	case err != nil:
		p.at(n, "bad-value", "go %q: %v; it is a path on this site, such as /rota/", s, err)
		return ""
	case !pattern.Literal() || strings.Contains(path, ";"):
		p.at(n, "bad-value", "go %q: it is one path on this site, such as /rota/, without * or ;", s)
		return ""
	case !goQuery.MatchString(query):
		p.at(n, "bad-value", "go %q: the query has characters that are percent-encoded in a link", s)
		return ""
	}
	address := escape(place.Place{Path: pattern.String(), Slash: strings.HasSuffix(path, "/")})
	if hasQuery {
		address += "?" + query
	}
	return address
}

func (p *reader) landings(n ast.Node) {
	for _, f := range p.fields(n, "landings", landingWords) {
		var lines []Landing
		for _, entry := range p.list(f.value, f.name) {
			l := Landing{Position: position(entry)}
			before := len(p.findings)
			for _, k := range p.fields(entry, "a landing", []string{"role", "user", "go"}) {
				switch k.name {
				case "role":
					if s, ok := p.text(k.value, "role"); ok {
						l.Role = s
						p.roleUses = append(p.roleUses, roleUse{s, k.value})
					}
				case "user":
					if s, ok := p.text(k.value, "user"); ok {
						l.User, _ = p.user(k.value, s)
					}
				case "go":
					l.Go = p.target(k.value)
					l.Position = position(k.value)
				}
			}
			if l.Go == "" && len(p.findings) == before {
				p.at(entry, "missing-key", "a landing says where to go")
			}
			lines = append(lines, l)
		}
		if to := p.book.Landings.on(f.name); to != nil {
			*to = lines
		}
	}
}
