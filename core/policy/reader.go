package policy

import (
	"fmt"
	"slices"
	"strings"

	"github.com/goccy/go-yaml/ast"

	"ostiarius/core/account"
	"ostiarius/core/document"
	"ostiarius/core/pattern"
	"ostiarius/core/place"
)

// A PartReader reads what doors ask for and what they answer, and keeps in mind which names they use: those are looked up when all that is
// declared is known.
type PartReader struct {
	document.Reader
	Book       *Book
	RoleUses   []Use
	RingUses   []Use
	SharedUses []Use
	PassUses   []Use
}

// A Use is where a name is used that is declared elsewhere.
type Use struct {
	Name string
	At   ast.Node
}

// UseRole notes where a role is used.
func (p *PartReader) UseRole(name string, at ast.Node) {
	p.RoleUses = append(p.RoleUses, Use{name, at})
}

// NewPartReader returns a reader for a file, whose name is used in findings only.
func NewPartReader(file string, book *Book) PartReader {
	return PartReader{Reader: document.Reader{File: file}, Book: book}
}

// Demand reads a demand. How deep it is nested in others is told.
func (p *PartReader) Demand(n ast.Node, depth int) Demand {
	none := Demand{Kind: Nobody}
	if depth > 8 {
		p.At(n, "too-deep", "any and all are nested more than 8 deep")
		return none
	}
	if _, ok := n.(*ast.StringNode); ok {
		s, _ := p.Text(n, "a demand")
		switch Kind(s) {
		case Public, SignedIn, Nobody:
			return Demand{Kind: Kind(s)}
		}
		words := []string{"public", "signed-in", "nobody"}
		hint := document.DidYouMean(s, words)
		if slices.Contains(p.Book.RoleNames(), s) {
			hint = fmt.Sprintf("; did you mean { role: %s }?", s)
		}
		p.At(n, "bad-value", "%q isn't a demand%s", s, hint)
		return none
	}
	before := len(p.Findings)
	fields := p.Fields(n, "a demand", KeysOfDemands())
	var parts []Demand
	for _, f := range fields {
		d := Demand{Kind: Kind(f.Name)}
		switch d.Kind {
		case Any, All:
			for _, part := range p.List(f.Value, f.Name) {
				d.Parts = append(d.Parts, p.Demand(part, depth+1))
			}
		default:
			if !ruleOf(d.Kind).read(p, f.Value, &d) {
				continue
			}
		}
		parts = append(parts, d)
	}
	switch len(parts) {
	case 0:
		if len(p.Findings) == before {
			p.At(n, "bad-value", "the demand is empty; use public to let everyone in")
		}
		return none
	case 1:
		return parts[0]
	}
	return Demand{Kind: All, Parts: parts}
}

// The characters of an account's name, as the schema of the policy file has them too.
var userName = pattern.New(UserPattern)

// UserPattern is the pattern of names of accounts, as the schema of the policy file has it too.
const UserPattern = `^[^\s\v\x{85}\x{a0}\x{1680}\x{2000}-\x{200a}\x{2028}\x{2029}\x{202f}\x{205f}\x{3000}/\\?#%;:,+]{1,200}$`

// User returns the name of an account in the form in which names are compared.
func (p *PartReader) User(n ast.Node, name string) (string, bool) {
	if !userName.MatchString(name) {
		p.At(n, "bad-value", "user %q: names have 1 to 200 characters, no spaces and none of / \\ ? # %% ; : , +", name)
		return "", false
	}
	key, err := account.Key(name)
	if err != nil {
		p.At(n, "impossible-name", "accounts can't have this name: %v", err)
		return "", false
	}
	return key, true
}

// names reads one name or a list of names that are declared elsewhere in the policy, and notes where they are used.
func (p *PartReader) names(n ast.Node, kind Kind, uses *[]Use) (all []string) {
	names, nodes := p.Texts(n, string(kind))
	for i, name := range names {
		if p.Name(nodes[i], string(kind), name) {
			*uses = append(*uses, Use{name, nodes[i]})
			all = append(all, name)
		}
	}
	return all
}

// Otherwise reads what is answered instead of the usual.
func (p *PartReader) Otherwise(n ast.Node) Otherwise {
	if document.IsText(n) {
		hide := Instead{Hide: p.Word(n, "otherwise", "hide") == "hide", Position: document.PositionOf(n)}
		return Otherwise{Anonymous: hide, Refused: hide}
	}
	var o Otherwise
	before := len(p.Findings)
	fields := p.Fields(n, "otherwise", []string{"anonymous", "refused"})
	for _, f := range fields {
		switch f.Name {
		case "anonymous":
			o.Anonymous = p.instead(f.Value, f.Name)
		case "refused":
			o.Refused = p.instead(f.Value, f.Name)
		}
	}
	if len(fields) == 0 && len(p.Findings) == before {
		p.At(n, "bad-value", "otherwise says what happens to anonymous or to refused visitors")
	}
	return o
}

func (p *PartReader) instead(n ast.Node, what string) Instead {
	at := document.PositionOf(n)
	if document.IsText(n) {
		return Instead{Hide: p.Word(n, what, "hide") == "hide", Position: at}
	}
	var i Instead
	before := len(p.Findings)
	fields := p.Fields(n, what, []string{"go", "say"})
	for _, f := range fields {
		switch f.Name {
		case "go":
			i.Go = p.Target(f.Value)
			at = document.PositionOf(f.Value)
		case "say":
			i.Say, _ = p.Text(f.Value, "say")
		}
	}
	if len(fields) != 1 && len(p.Findings) == before {
		p.At(n, "bad-value", "%s is one of: hide, { go: PATH }, { say: TEXT }", what)
	}
	i.Position = at
	return i
}

// The query of an address that people are sent to.
var goQuery = pattern.New(`^(?:[A-Za-z0-9._~!$&'()*+,;=:@/?-]|%[0-9A-Fa-f]{2})*$`)

// target reads an address on this site that people are sent to: a path, written as
// people read it, and perhaps a query. It returns the address as it stands in a link.
func (p *PartReader) Target(n ast.Node) string {
	s, ok := p.Text(n, "go")
	if !ok {
		return ""
	}
	path, query, hasQuery := strings.Cut(s, "?")
	pattern, err := place.ParsePattern(path, p.Book.Rules)
	switch {
	case err != nil:
		p.At(n, "bad-value", "go %q: %v; it is a path on this site, such as /rota/", s, err)
		return ""
	case !pattern.Literal() || strings.Contains(path, ";"):
		p.At(n, "bad-value", "go %q: it is one path on this site, such as /rota/, without * or ;", s)
		return ""
	case !goQuery.MatchString(query):
		p.At(n, "bad-value", "go %q: the query has characters that are percent-encoded in a link", s)
		return ""
	}
	address := Escape(place.Place{Path: pattern.String(), Slash: strings.HasSuffix(path, "/")})
	if hasQuery {
		address += "?" + query
	}
	return address
}
