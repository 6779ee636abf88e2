package policy

import (
	"github.com/goccy/go-yaml/ast"
)

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
						p.roleUses = append(p.roleUses, use{s, k.value})
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
