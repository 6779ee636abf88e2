package policy

import (
	"fmt"
	"ostiarius/core/account"
	"ostiarius/core/pattern"
	"ostiarius/core/place"
	"slices"
	"strings"

	"github.com/goccy/go-yaml/ast"
)

// A partReader reads what doors ask for and what they answer, and keeps in mind which names they use: those are looked up when all that is
// declared is known.
type partReader struct {
	textReader
	book       *Book
	roleUses   []use
	ringUses   []use
	sharedUses []use
	passUses   []use
}

// A use is where a name is used that is declared elsewhere.
type use struct {
	name string
	at   ast.Node
}

func newPartReader(file string, book *Book) partReader {
	return partReader{textReader: textReader{file: file}, book: book}
}

func (p *partReader) demand(n ast.Node, depth int) Demand {
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
func (p *partReader) user(n ast.Node, name string) (string, bool) {
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

// names reads one name or a list of names that are declared elsewhere in the policy, and notes where they are used.
func (p *partReader) names(n ast.Node, kind Kind, uses *[]use) (all []string) {
	names, nodes := p.texts(n, string(kind))
	for i, name := range names {
		if p.name(nodes[i], string(kind), name) {
			*uses = append(*uses, use{name, nodes[i]})
			all = append(all, name)
		}
	}
	return all
}

func (p *partReader) otherwise(n ast.Node) Otherwise {
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

func (p *partReader) instead(n ast.Node, what string) Instead {
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
func (p *partReader) target(n ast.Node) string {
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
