package read

import (
	"github.com/goccy/go-yaml/ast"

	"ostiarius/core/document"
	"ostiarius/core/place"
	"ostiarius/core/policy"
)

var guaranteeKeys = []string{"path", "host", "methods", "only", "always", "never", "because"}

func (p *reader) guarantee(entry ast.Node) {
	g := policy.Guarantee{Position: document.PositionOf(entry)}
	var paths []string
	var nodes []ast.Node
	hasPath, kinds := false, 0
	before := len(p.Findings)
	fields := p.Fields(entry, "a guarantee", guaranteeKeys)
	keysKnown := len(p.Findings) == before
	for _, f := range fields {
		switch f.Name {
		case "path":
			hasPath = true
			paths, nodes = p.Texts(f.Value, "path")
		case "host":
			if text, ok := p.Text(f.Value, "host"); ok {
				g.Host = p.host(f.Value, text)
			}
		case "methods":
			g.Methods = p.methods(f.Value)
		case "only", "always":
			kinds++
			g.Only, g.Always = f.Name == "only", f.Name == "always"
			g.Asking.Admit = p.Demand(f.Value, 0)
		case "never":
			kinds++
			g.Never = p.Word(f.Value, "never", "public") == "public"
		case "because":
			g.Because, _ = p.Text(f.Value, "because")
		}
	}
	if !document.IsMapping(entry) {
		return
	}
	if !hasPath && keysKnown {
		p.At(entry, "missing-key", "a guarantee needs a path")
	}
	if kinds != 1 && keysKnown {
		p.At(entry, "missing-key", "a guarantee needs one of: only: DEMAND, always: DEMAND, never: public")
	}
	if err := g.Asking.Admit.Entangled(); err != nil {
		p.At(entry, "too-entangled", "%v", err)
	}
	whole := len(p.Findings) == before
	for i, text := range paths {
		pattern, err := place.ParsePattern(text, p.Book.Rules)
		if err != nil {
			p.At(nodes[i], "bad-pattern", "path %q: %v", text, err)
			continue
		}
		if whole {
			one := g
			one.Path, one.Written, one.Position = pattern, text, document.PositionOf(nodes[i])
			p.Book.Guarantees = append(p.Book.Guarantees, one)
		}
	}
}
