package read

import (
	"github.com/goccy/go-yaml/ast"

	"ostiarius/core/document"
	"ostiarius/core/policy"
)

func (p *reader) landings(n ast.Node) {
	for _, f := range p.Fields(n, "landings", policy.LandingWords) {
		var lines []policy.Landing
		for _, entry := range p.List(f.Value, f.Name) {
			l := policy.Landing{Position: document.PositionOf(entry)}
			before := len(p.Findings)
			for _, k := range p.Fields(entry, "a landing", []string{"role", "user", "go"}) {
				switch k.Name {
				case "role":
					if s, ok := p.Text(k.Value, "role"); ok {
						l.Role = s
						p.UseRole(s, k.Value)
					}
				case "user":
					if s, ok := p.Text(k.Value, "user"); ok {
						l.User, _ = p.User(k.Value, s)
					}
				case "go":
					l.Go = p.Target(k.Value)
					l.Position = document.PositionOf(k.Value)
				}
			}
			if l.Go == "" && len(p.Findings) == before {
				p.At(entry, "missing-key", "a landing needs go")
			}
			lines = append(lines, l)
		}
		if to := p.Book.Landings.On(f.Name); to != nil {
			*to = lines
		}
	}
}
