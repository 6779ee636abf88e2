package read

import (
	"strings"
	"unicode/utf8"

	"github.com/goccy/go-yaml/ast"

	"ostiarius/core/document"
	"ostiarius/core/place"
	"ostiarius/core/policy"
)

// ParseRoutes reads the routes of an application that stand in a file of their own, as YAML or JSON. The name is used in findings only; if
// one of them is an error there are no routes.
func ParseRoutes(name string, text []byte, rules place.Rules) ([]policy.Route, []document.Finding) {
	p := &reader{policy.NewPartReader(name, &policy.Book{Rules: rules})}
	body, ok := p.Document(text, "a list of routes")
	var all []policy.Route
	switch {
	case ok && body == nil:
		p.Fault(document.Position{Line: 1, Column: 1}, 1, "missing-key",
			"the list is empty; write entries such as - { path: /desk/board, data: [ /api/board ] }")
	case ok:
		all = p.routes(body)
	}
	if document.SortFindings(p.Findings); document.HasErrors(p.Findings) {
		return nil, p.Findings
	}
	return all, p.Findings
}

// routes reads a list of routes: paths, or paths with the addresses of their data.
func (p *reader) routes(n ast.Node) (all []policy.Route) {
	for _, entry := range p.List(n, "routes") {
		r := policy.Route{Position: document.PositionOf(entry), Length: document.Width(entry)}
		for _, f := range p.Fields(entry, "a route", []string{"path", "data"}) {
			switch f.Name {
			case "path":
				r.Path = p.route(f.Value)
				r.Position, r.Length = document.PositionOf(f.Value), document.Width(f.Value)
			case "data":
				texts, nodes := p.Texts(f.Value, "data")
				for i, text := range texts {
					method, path, both := strings.Cut(text, " ")
					if !both {
						method, path = "GET", text
					}
					fault := p.addressFault(path)
					if _, err := place.ParseMethods(method); err != nil {
						fault = "(" + err.Error() + ")"
					}
					if fault != "" {
						p.At(nodes[i], "bad-value", "data is an address, such as /api/board or POST /api/board, not %q %s", text, fault)
						continue
					}
					r.Data = append(r.Data, policy.RequestTo{Method: method, Path: path})
				}
			}
		}
		if r.Path == "" {
			if !document.HasErrors(p.Findings) {
				p.At(entry, "missing-key", "a route has a path")
			}
			continue
		}
		all = append(all, r)
	}
	return all
}

func (p *reader) route(n ast.Node) string {
	path, ok := p.Text(n, "path")
	if !ok {
		return ""
	}
	if fault := p.addressFault(path); fault != "" {
		p.At(n, "bad-value", "the path of a route is an address, such as /desk/board, not %q %s", path, fault)
		return ""
	}
	return path
}

func (p *reader) addressFault(path string) string {
	if !strings.HasPrefix(path, "/") || utf8.RuneCountInString(path) > place.MaxPattern {
		return "(it begins with a slash)"
	}
	if _, _, err := place.Canonical(path, p.Book.Rules); err != nil {
		return "(" + err.Error() + ")"
	}
	return ""
}
