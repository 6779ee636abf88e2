package policy

import (
	"strings"

	"github.com/goccy/go-yaml/ast"
)

// An Expectation is a line of a table that says what a visitor is expected to get at an
// address.
type Expectation struct {
	Position         // of the line
	Who      Visitor // the visitor
	Method   string
	Address  string // as it is written
	Request  Request
	Outcome  Outcome
}

var expectationKeys = []string{"as", "method", "path", "outcome"}

var outcomes = []string{string(Admit), string(Challenge), string(Refuse), string(Hide), string(Reject)}

// ParseExpectations reads a table of expectations: a YAML list whose entries say who
// (as, in the notation for visitors), what (method, GET unless it is said; path, a path or
// a whole address) and what comes of it (outcome). The keys as and path take one value or
// a list; then each visitor is expected to get that outcome at each address. The name is
// used in findings only. If there is a finding, there are no expectations.
func ParseExpectations(name string, text []byte) ([]Expectation, []Finding) {
	p := &reader{newPartReader(name, nil)}
	body, ok := p.document(text, "a table of expectations")
	switch {
	case !ok:
		return nil, p.findings
	case body == nil:
		p.fault(Position{1, 1}, 1, "missing-key", "the table is empty; write entries such as - { as: anonymous, path: /office/, outcome: "+
			"challenge }")
		return nil, p.findings
	}
	list, ok := body.(*ast.SequenceNode)
	if !ok {
		p.at(body, "bad-value", "a table of expectations is a list, but this is %s", kindOf(body))
		return nil, p.findings
	}
	var all []Expectation
	for _, entry := range list.Values {
		if p.plainYAML(entry) {
			all = append(all, p.expectation(entry)...)
		}
	}
	if len(p.findings) > 0 {
		SortFindings(p.findings)
		return nil, p.findings
	}
	return all, nil
}

func (p *reader) expectation(entry ast.Node) []Expectation {
	before := len(p.findings)
	fields := p.fields(entry, "an expectation", expectationKeys)
	if !isMapping(entry) {
		return nil
	}
	e := Expectation{Position: position(start(entry)), Method: "GET"}
	var visitors []Visitor
	var addresses []string
	var nodes []ast.Node
	for _, f := range fields {
		switch f.name {
		case "as":
			elements := []ast.Node{f.value}
			if _, many := f.value.(*ast.SequenceNode); many {
				elements = p.list(f.value, "as")
			}
			for _, n := range elements {
				text, ok := joined(n)
				if !ok {
					text, ok = p.text(n, "as")
				}
				if !ok {
					continue
				}
				v, err := ParseVisitor(text)
				if err != nil {
					p.at(n, "bad-value", "%v", err)
					continue
				}
				visitors = append(visitors, v)
			}
		case "method":
			if text, ok := p.text(f.value, "method"); ok {
				e.Method = strings.ToUpper(text)
			}
		case "path":
			addresses, nodes = p.texts(f.value, "path")
		case "outcome":
			e.Outcome = Outcome(p.word(f.value, "outcome", outcomes...))
		}
	}
	if len(p.findings) > before {
		return nil
	}
	if visitors == nil || addresses == nil || e.Outcome == "" {
		p.at(entry, "missing-key", "an expectation has as, path and outcome")
		return nil
	}
	var all []Expectation
	for i, address := range addresses {
		r, _, err := ReadRequest(e.Method, address)
		if err != nil {
			p.at(nodes[i], "bad-value", "%v", err)
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
	at, value := position(key), pair.Value.GetToken()
	if value == nil || value.Position.Line != at.Line || value.Position.Column != at.Column+len(key.Value)+1 {
		return "", false
	}
	return key.Value + ":" + value.Value, true
}
