package read

import (
	"strings"
	"unicode/utf8"

	"github.com/goccy/go-yaml/ast"

	"ostiarius/core/document"
	"ostiarius/core/place"
	"ostiarius/core/policy"
)

func (p *reader) host(n ast.Node, text string) place.Host {
	h, err := place.ParseHost(text)
	if err != nil {
		p.At(n, "bad-pattern", "%v", err)
	}
	return h
}

func (p *reader) methods(n ast.Node) place.Methods {
	names, at := p.Texts(n, "methods")
	for i, name := range names {
		if _, err := place.ParseMethods(name); err != nil {
			p.At(at[i], "bad-value", "%v", err)
		}
	}
	methods, _ := place.ParseMethods(names...)
	return methods
}

var doorKeys = []string{"path", "host", "methods", "admit", "ask", "realm", "forward-credentials", "otherwise"}

func (p *reader) door(entry ast.Node) { p.doorWith(entry, "a door", doorKeys) }

// doorWith reads a door, or what has some of the keys of one.
func (p *reader) doorWith(entry ast.Node, what string, keys []string) {
	door := policy.Door{Entry: document.PositionOf(entry).Line}
	var paths []string
	var nodes []ast.Node
	hasPath, hasAdmit := false, false
	before := len(p.Findings)
	var realm ast.Node
	fields := p.Fields(entry, what, keys)
	keysKnown := len(p.Findings) == before // else a key that is missing may be a misspelt one
	for _, f := range fields {
		switch f.Name {
		case "path":
			hasPath = true
			paths, nodes = p.Texts(f.Value, "path")
		case "host":
			if text, ok := p.Text(f.Value, "host"); ok {
				door.Host = p.host(f.Value, text)
			}
		case "methods":
			door.Methods = p.methods(f.Value)
		case "admit":
			hasAdmit = true
			door.Admit = p.Demand(f.Value, 0)
		case "ask":
			door.Basic = p.Word(f.Value, "ask", "form", "basic") == "basic"
		case "realm":
			realm = f.Key
			if s, ok := p.Text(f.Value, "realm"); ok {
				door.Realm = s
			}
		case "forward-credentials":
			door.ForwardCredentials = p.Boolean(f.Value, f.Name)
		case "otherwise":
			door.Otherwise = p.Otherwise(f.Value)
		}
	}
	if !document.IsMapping(entry) {
		return
	}
	if !hasPath && keysKnown {
		p.At(entry, "missing-key", "%s needs a path", what)
	}
	if !hasAdmit && keysKnown {
		p.At(entry, "missing-key", "%s needs admit: public, signed-in, nobody, { role: NAME }, ...", what)
	}
	if realm != nil && !door.Basic {
		p.At(realm, "bad-value", "realm needs ask: basic")
	}
	if door.Basic && door.Realm == "" {
		door.Realm = p.Book.Site
	}
	if err := door.Admit.Entangled(); err != nil {
		p.At(entry, "too-entangled", "%v", err)
	}
	whole := len(p.Findings) == before
	if door.AsksFactorByBasic() {
		p.Warn(document.PositionOf(entry), 1, "factor-by-basic",
			"ask: basic only takes a name and password, so nobody could use the factor; remove "+
				"ask: basic")
	}
	for i, text := range paths {
		pattern, err := place.ParsePattern(text, p.Book.Rules)
		if err != nil {
			p.At(nodes[i], "bad-pattern", "path %q: %v", text, err)
			continue
		}
		one := door
		one.Path, one.Written, one.Position = pattern, text, document.PositionOf(nodes[i])
		if own, err := place.ParsePattern(p.Book.Prefix+"/**", p.Book.Rules); err == nil &&
			(place.Set{Path: pattern}).Within(place.Set{Path: own}) {
			p.At(nodes[i], "own-pages", "%s is where Ostiarius's own pages live; they have built-in doors (prefix: moves them)", text)
			continue
		}
		if strings.Contains(text, ";") && !p.Book.Rules.Semicolons {
			p.Warn(one.Position, utf8.RuneCountInString(text), "semicolon",
				"addresses with semicolons are rejected unless the policy has semicolons: allowed; this door covers nothing")
		}
		if whole {
			p.Book.Doors = append(p.Book.Doors, one)
		}
	}
}
