package policy

import (
	"strings"
	"unicode/utf8"

	"github.com/goccy/go-yaml/ast"

	"ostiarius/core/place"
)

// A Route is one of an application, with the addresses of what it shows.
type Route struct {
	Path string // as it would be sent
	Data []RequestTo
	Position
	Length int
}

// A RequestTo is a method and a path.
type RequestTo struct{ Method, Path string }

// ParseRoutes reads the routes of an application that stand in a file of their own, as YAML or JSON. The name is used in findings only; if
// one of them is an error there are no routes.
func ParseRoutes(name string, text []byte, rules place.Rules) ([]Route, []Finding) {
	p := &reader{newPartReader(name, &Book{Rules: rules})}
	body, ok := p.document(text, "a list of routes")
	var all []Route
	switch {
	case ok && body == nil:
		p.fault(Position{1, 1}, 1, "missing-key", "the list is empty; write entries such as - { path: /desk/board, data: [ /api/board ] }")
	case ok:
		all = p.routes(body)
	}
	if SortFindings(p.findings); HasErrors(p.findings) {
		return nil, p.findings
	}
	return all, p.findings
}

// routes reads a list of routes: paths, or paths with the addresses of their data.
func (p *reader) routes(n ast.Node) (all []Route) {
	for _, entry := range p.list(n, "routes") {
		r := Route{Position: position(entry), Length: width(entry)}
		for _, f := range p.fields(entry, "a route", []string{"path", "data"}) {
			switch f.name {
			case "path":
				r.Path = p.route(f.value)
				r.Position, r.Length = position(f.value), width(f.value)
			case "data":
				texts, nodes := p.texts(f.value, "data")
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
						p.at(nodes[i], "bad-value", "data is an address, such as /api/board or POST /api/board, not %q %s", text, fault)
						continue
					}
					r.Data = append(r.Data, RequestTo{method, path})
				}
			}
		}
		if r.Path == "" {
			if !HasErrors(p.findings) {
				p.at(entry, "missing-key", "a route has a path")
			}
			continue
		}
		all = append(all, r)
	}
	return all
}

func (p *reader) route(n ast.Node) string {
	path, ok := p.text(n, "path")
	if !ok {
		return ""
	}
	if fault := p.addressFault(path); fault != "" {
		p.at(n, "bad-value", "the path of a route is an address, such as /desk/board, not %q %s", path, fault)
		return ""
	}
	return path
}

func (p *reader) addressFault(path string) string {
	if !strings.HasPrefix(path, "/") || utf8.RuneCountInString(path) > place.MaxPattern {
		return "(it begins with a slash)"
	}
	if _, _, err := place.Canonical(path, p.book.Rules); err != nil {
		return "(" + err.Error() + ")"
	}
	return ""
}
