package read

import (
	"github.com/goccy/go-yaml/ast"

	"ostiarius/core/document"
	"ostiarius/core/factor"
	"ostiarius/core/policy"
)

func (p *reader) factors(n ast.Node) {
	f := &p.Book.Factors
	f.Position = document.PositionOf(n)
	for _, key := range p.Fields(n, "factors", []string{"sign-in", "remember", "stewards", "wanted", "reset", "no-keys"}) {
		switch key.Name {
		case "sign-in":
			f.AtDoors = p.Word(key.Value, "sign-in", "enrolled", "at-doors") == "at-doors"
		case "remember":
			f.Remember, _ = p.Duration(key.Value, key.Name)
		case "stewards":
			f.Stewards = p.Word(key.Value, key.Name, factor.Asked...)
		case "wanted":
			for _, entry := range p.List(key.Value, key.Name) {
				p.factorWanted(entry)
			}
		case "reset":
			f.Reset, _ = p.Duration(key.Value, key.Name)
		case "no-keys":
			names, nodes := p.Texts(key.Value, key.Name)
			for i, name := range names {
				p.UseRole(name, nodes[i])
			}
			f.NoKeys = names
		}
	}
}

func (p *reader) factorWanted(n ast.Node) {
	before := len(p.Findings)
	var w policy.FactorWanted
	for _, f := range p.Fields(n, "what is wanted of a role", []string{"role", "factor"}) {
		switch f.Name {
		case "role":
			if s, ok := p.Text(f.Value, "role"); ok {
				w.Role = s
				p.UseRole(s, f.Value)
			}
		case "factor":
			w.Factor = p.Word(f.Value, "factor", factor.Asked...)
		}
	}
	switch {
	case len(p.Findings) > before || !document.IsMapping(n):
	case w.Role == "" || w.Factor == "":
		p.At(n, "missing-key", "what is wanted names a role and a factor: { role: NAME, factor: two }")
	default:
		p.Book.Factors.Wanted = append(p.Book.Factors.Wanted, w)
	}
}
