package policy

import (
	"github.com/goccy/go-yaml/ast"

	"ostiarius/core/place"
)

var guaranteeKeys = []string{"path", "host", "methods", "only", "always", "never", "because"}

func (p *reader) guarantee(entry ast.Node) {
	g := Guarantee{Position: position(entry)}
	var paths []string
	var nodes []ast.Node
	hasPath, kinds := false, 0
	before := len(p.findings)
	fields := p.fields(entry, "a guarantee", guaranteeKeys)
	keysKnown := len(p.findings) == before
	for _, f := range fields {
		switch f.name {
		case "path":
			hasPath = true
			paths, nodes = p.texts(f.value, "path")
		case "host":
			if text, ok := p.text(f.value, "host"); ok {
				g.Host = p.host(f.value, text)
			}
		case "methods":
			g.Methods = p.methods(f.value)
		case "only", "always":
			kinds++
			g.Only, g.Always = f.name == "only", f.name == "always"
			g.Asking.Admit = p.demand(f.value, 0)
		case "never":
			kinds++
			g.Never = p.word(f.value, "never", "public") == "public"
		case "because":
			g.Because, _ = p.text(f.value, "because")
		}
	}
	if !isMapping(entry) {
		return
	}
	if !hasPath && keysKnown {
		p.at(entry, "missing-key", "a guarantee has a path")
	}
	if kinds != 1 && keysKnown {
		p.at(entry, "missing-key", "a guarantee says one of: only: DEMAND, always: DEMAND, never: public")
	}
	if err := g.Asking.Admit.Entangled(); err != nil {
		p.at(entry, "too-entangled", "%v", err)
	}
	whole := len(p.findings) == before
	for i, text := range paths {
		pattern, err := place.ParsePattern(text, p.book.Rules)
		if err != nil {
			p.at(nodes[i], "bad-pattern", "path %q: %v", text, err)
			continue
		}
		if whole {
			one := g
			one.Path, one.Written, one.Position = pattern, text, position(nodes[i])
			p.book.Guarantees = append(p.book.Guarantees, one)
		}
	}
}
