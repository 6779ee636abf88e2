package policy

import (
	"strings"
	"unicode/utf8"

	"github.com/goccy/go-yaml/ast"

	"ostiarius/core/place"
)

func (p *reader) host(n ast.Node, text string) place.Host {
	h, err := place.ParseHost(text)
	if err != nil {
		p.at(n, "bad-pattern", "%v", err)
	}
	return h
}

func (p *reader) methods(n ast.Node) place.Methods {
	names, at := p.texts(n, "methods")
	for i, name := range names {
		if _, err := place.ParseMethods(name); err != nil {
			p.at(at[i], "bad-value", "%v", err)
		}
	}
	methods, _ := place.ParseMethods(names...)
	return methods
}

var doorKeys = []string{"path", "host", "methods", "admit", "ask", "realm", "forward-credentials", "otherwise"}

func (p *reader) door(entry ast.Node) { p.doorWith(entry, "a door", doorKeys) }

// doorWith reads a door, or what has some of the keys of one.
func (p *reader) doorWith(entry ast.Node, what string, keys []string) {
	door := Door{Entry: position(entry).Line}
	var paths []string
	var nodes []ast.Node
	hasPath, hasAdmit := false, false
	before := len(p.findings)
	var realm ast.Node
	fields := p.fields(entry, what, keys)
	keysKnown := len(p.findings) == before // else a key that is missing may be a misspelt one
	for _, f := range fields {
		switch f.name {
		case "path":
			hasPath = true
			paths, nodes = p.texts(f.value, "path")
		case "host":
			if text, ok := p.text(f.value, "host"); ok {
				door.Host = p.host(f.value, text)
			}
		case "methods":
			door.Methods = p.methods(f.value)
		case "admit":
			hasAdmit = true
			door.Admit = p.demand(f.value, 0)
		case "ask":
			door.Basic = p.word(f.value, "ask", "form", "basic") == "basic"
		case "realm":
			realm = f.key
			if s, ok := p.text(f.value, "realm"); ok {
				door.Realm = s
			}
		case "forward-credentials":
			door.ForwardCredentials = p.boolean(f.value, f.name)
		case "otherwise":
			door.Otherwise = p.otherwise(f.value)
		}
	}
	if !isMapping(entry) {
		return
	}
	if !hasPath && keysKnown {
		p.at(entry, "missing-key", "%s has a path", what)
	}
	if !hasAdmit && keysKnown {
		p.at(entry, "missing-key", "%s says whom to admit: public, signed-in, nobody, { role: NAME }, ...", what)
	}
	if realm != nil && !door.Basic {
		p.at(realm, "bad-value", "realm goes with ask: basic")
	}
	if door.Basic && door.Realm == "" {
		door.Realm = p.book.Site
	}
	if err := door.Admit.Entangled(); err != nil {
		p.at(entry, "too-entangled", "%v", err)
	}
	whole := len(p.findings) == before
	if door.AsksFactorByBasic() {
		p.warn(position(entry), 1, "factor-by-basic", "ask: basic shows a name and a password alone, so nobody could show the factor; leave "+
			"ask: basic away")
	}
	for i, text := range paths {
		pattern, err := place.ParsePattern(text, p.book.Rules)
		if err != nil {
			p.at(nodes[i], "bad-pattern", "path %q: %v", text, err)
			continue
		}
		one := door
		one.Path, one.Written, one.Position = pattern, text, position(nodes[i])
		if own, err := place.ParsePattern(p.book.Prefix+"/**", p.book.Rules); err == nil &&
			(place.Set{Path: pattern}).Within(place.Set{Path: own}) {
			p.at(nodes[i], "own-pages", "%s is where Ostiarius's own pages live; they have built-in doors (prefix: moves them)", text)
			continue
		}
		if strings.Contains(text, ";") && !p.book.Rules.Semicolons {
			p.warn(one.Position, utf8.RuneCountInString(text), "semicolon",
				"no place has a semicolon unless the policy says semicolons: allowed; this door covers nothing")
		}
		if whole {
			p.book.Doors = append(p.book.Doors, one)
		}
	}
}
