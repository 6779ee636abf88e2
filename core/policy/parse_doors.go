package policy

import (
	"fmt"
	"slices"
	"strings"
	"unicode/utf8"

	"github.com/goccy/go-yaml/ast"

	"ostiarius/core/account"
	"ostiarius/core/pattern"
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
	ways, err := door.Admit.ways()
	if err != nil {
		p.at(entry, "too-entangled", "%v", err)
	}
	door.ways = ways
	whole := len(p.findings) == before
	p.factorByBasic(position(entry), &door)
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

func (p *reader) demand(n ast.Node, depth int) Demand {
	none := Demand{Kind: Nobody}
	if depth > 8 {
		p.at(n, "too-deep", "any and all are nested more than 8 deep")
		return none
	}
	if _, ok := n.(*ast.StringNode); ok {
		s, _ := p.text(n, "a demand")
		switch Kind(s) {
		case Public, SignedIn, Nobody:
			return Demand{Kind: Kind(s)}
		}
		words := []string{"public", "signed-in", "nobody"}
		hint := didYouMean(s, words)
		if slices.Contains(p.book.RoleNames(), s) {
			hint = fmt.Sprintf("; did you mean { role: %s }?", s)
		}
		p.at(n, "bad-value", "%q is no demand%s", s, hint)
		return none
	}
	before := len(p.findings)
	fields := p.fields(n, "a demand", keysOfDemands())
	var parts []Demand
	for _, f := range fields {
		d := Demand{Kind: Kind(f.name)}
		switch d.Kind {
		case Any, All:
			for _, part := range p.list(f.value, f.name) {
				d.Parts = append(d.Parts, p.demand(part, depth+1))
			}
		default:
			if !ruleOf(d.Kind).read(p, f.value, &d) {
				continue
			}
		}
		parts = append(parts, d)
	}
	switch len(parts) {
	case 0:
		if len(p.findings) == before {
			p.at(n, "bad-value", "an empty demand; write public if everybody may come in")
		}
		return none
	case 1:
		return parts[0]
	}
	return Demand{Kind: All, Parts: parts}
}

// The characters of an account's name, as the schema of the policy file has them too.
var userName = pattern.New(userPattern)

const userPattern = `^[^\s\v\x{85}\x{a0}\x{1680}\x{2000}-\x{200a}\x{2028}\x{2029}\x{202f}\x{205f}\x{3000}/\\?#%;:,+]{1,200}$`

// user returns the name of an account in the form in which names are compared.
func (p *reader) user(n ast.Node, name string) (string, bool) {
	if !userName.MatchString(name) {
		p.at(n, "bad-value", "user %q: a name has 1 to 200 characters, no spaces and none of / \\ ? # %% ; : , +", name)
		return "", false
	}
	key, err := account.Key(name)
	if err != nil {
		p.at(n, "impossible-name", "no account can have this name: %v", err)
		return "", false
	}
	return key, true
}
