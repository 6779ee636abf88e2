package read

import (
	"strings"

	"github.com/goccy/go-yaml/ast"

	"ostiarius/core/document"
	"ostiarius/core/policy"
)

var expectationKeys = []string{"as", "method", "path", "outcome"}

var outcomes = []string{string(policy.Admit), string(policy.Challenge), string(policy.Refuse), string(policy.Hide), string(policy.Reject)}

// ParseExpectations reads a table of expectations: a YAML list whose entries say who
// (as, in the notation for visitors), what (method, GET unless it is said; path, a path or
// a whole address) and what comes of it (outcome). The keys as and path take one value or
// a list; then each visitor is expected to get that outcome at each address. The name is
// used in findings only. If there is a finding, there are no expectations.
func ParseExpectations(name string, text []byte) ([]policy.Expectation, []document.Finding) {
	p := &reader{policy.NewPartReader(name, nil)}
	body, ok := p.Document(text, "a table of expectations")
	switch {
	case !ok:
		return nil, p.Findings
	case body == nil:
		p.Fault(document.Position{Line: 1, Column: 1}, 1, "missing-key",
			"the table is empty; write entries such as - { as: anonymous, path: /office/, outcome: "+
				"challenge }")
		return nil, p.Findings
	}
	list, ok := body.(*ast.SequenceNode)
	if !ok {
		p.At(body, "bad-value", "a table of expectations is a list, but this is %s", document.KindOf(body))
		return nil, p.Findings
	}
	var all []policy.Expectation
	for _, entry := range list.Values {
		if p.PlainYAML(entry) {
			all = append(all, p.expectation(entry)...)
		}
	}
	if len(p.Findings) > 0 {
		document.SortFindings(p.Findings)
		return nil, p.Findings
	}
	return all, nil
}

func (p *reader) expectation(entry ast.Node) []policy.Expectation {
	before := len(p.Findings)
	fields := p.Fields(entry, "an expectation", expectationKeys)
	if !document.IsMapping(entry) {
		return nil
	}
	e := policy.Expectation{Position: document.PositionOf(document.Start(entry)), Method: "GET"}
	var visitors []policy.Visitor
	var addresses []string
	var nodes []ast.Node
	for _, f := range fields {
		switch f.Name {
		case "as":
			elements := []ast.Node{f.Value}
			if _, many := f.Value.(*ast.SequenceNode); many {
				elements = p.List(f.Value, "as")
			}
			for _, n := range elements {
				text, ok := joined(n)
				if !ok {
					text, ok = p.Text(n, "as")
				}
				if !ok {
					continue
				}
				v, err := policy.ParseVisitor(text)
				if err != nil {
					p.At(n, "bad-value", "%v", err)
					continue
				}
				visitors = append(visitors, v)
			}
		case "method":
			if text, ok := p.Text(f.Value, "method"); ok {
				e.Method = strings.ToUpper(text)
			}
		case "path":
			addresses, nodes = p.Texts(f.Value, "path")
		case "outcome":
			e.Outcome = policy.Outcome(p.Word(f.Value, "outcome", outcomes...))
		}
	}
	if len(p.Findings) > before {
		return nil
	}
	if visitors == nil || addresses == nil || e.Outcome == "" {
		p.At(entry, "missing-key", "an expectation has as, path and outcome")
		return nil
	}
	var all []policy.Expectation
	for i, address := range addresses {
		r, _, err := policy.ReadRequest(e.Method, address)
		if err != nil {
			p.At(nodes[i], "bad-value", "%v", err)
			continue
		}
		for _, v := range visitors {
			one := e
			one.Who, one.Address, one.Request = v, address, r
			all = append(all, one)
		}
	}
	return all
}

// joined returns the text of what the YAML package reads as a mapping although no space
// follows the colon, as in [role:keeper]: in YAML that is plain text (section 7.3.3).
func joined(n ast.Node) (string, bool) {
	if m, one := n.(*ast.MappingNode); one && len(m.Values) == 1 {
		n = m.Values[0]
	}
	pair, ok := n.(*ast.MappingValueNode)
	if !ok {
		return "", false
	}
	key, ok := pair.Key.(ast.Node).(*ast.StringNode)
	if !ok || pair.Value == nil {
		return "", false
	}
	at, value := document.PositionOf(key), pair.Value.GetToken()
	if value == nil || value.Position.Line != at.Line || value.Position.Column != at.Column+len(key.Value)+1 {
		return "", false
	}
	return key.Value + ":" + value.Value, true
}
