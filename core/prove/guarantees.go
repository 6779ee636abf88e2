package prove

import (
	"errors"
	"fmt"
	"strings"
	"unicode/utf8"

	"ostiarius/core/document"
	"ostiarius/core/place"
	"ostiarius/core/policy"
)

// A Guarantee is one of a policy, and whether it holds.
type Guarantee struct {
	Line    int               `json:"line"`
	Path    string            `json:"path"`
	Says    string            `json:"says"` // in the policy's words
	Because string            `json:"because,omitempty"`
	State   string            `json:"state" enum:"holds|broken|unproven"`
	Message string            `json:"message,omitempty"` // why it does not hold, or could not be proven
	Witness *document.Witness `json:"witness,omitempty"`
}

// Guarantees proves what a Book promises, for all places and all visitors, in file order:
// what is broken has the smallest request, and the visitor with the fewest proofs, that
// show it. What is too entangled to be proven is not promised.
func Guarantees(b *policy.Book) []Guarantee {
	if len(b.Guarantees) == 0 {
		return []Guarantee{}
	}
	g, err := Survey(b)
	if err != nil {
		return unproven(b, err)
	}
	return g.Guarantees()
}

func unproven(b *policy.Book, err error) []Guarantee {
	all := guaranteesOf(b)
	for i := range all {
		all[i].State, all[i].Message = "unproven", "the guarantee could not be proven: "+err.Error()
	}
	return all
}

func guaranteesOf(b *policy.Book) []Guarantee {
	all := make([]Guarantee, len(b.Guarantees))
	for i := range b.Guarantees {
		p := &b.Guarantees[i]
		all[i] = Guarantee{Line: p.Line, Path: p.Written, Says: p.Says(), Because: p.Because, State: "holds"}
	}
	return all
}

// Guarantees is like the function of that name.
func (g *Ground) Guarantees() []Guarantee {
	all := guaranteesOf(g.book)
	for _, part := range g.parts {
		for _, id := range part.Covering {
			i := int(id) - g.first
			if i < 0 || all[i].State != "holds" {
				continue
			}
			message, witness, err := breaks(g.book, &g.book.Guarantees[i], part.Example)
			switch {
			case err != nil:
				all[i].State = "unproven"
				all[i].Message = fmt.Sprintf("the guarantee could not be proven at %s: %v", part.Example.Path, err)
			case witness != nil:
				all[i].State, all[i].Message, all[i].Witness = "broken", message, witness
			}
		}
	}
	return all
}

// The rules under which guarantees that do not hold are found, by their state.
var unkeptRules = map[string]string{"broken": "guarantee-broken", "unproven": "guarantee-unproven"}

// unkept returns a finding for each guarantee that does not hold.
func unkept(b *policy.Book, all []Guarantee, file string) []document.Finding {
	var findings []document.Finding
	for i, p := range all {
		if p.State == "holds" {
			continue
		}
		g := &b.Guarantees[i]
		if g.Because != "" {
			p.Message += "; it was promised because: " + g.Because
		}
		findings = append(findings, document.Finding{
			Severity: document.SeverityError, Rule: unkeptRules[p.State], Message: p.Message, File: file,
			Line: g.Line, Column: g.Column, Length: utf8.RuneCountInString(g.Written), Witness: p.Witness,
		})
	}
	return findings
}

// breaks looks for a visitor for whom a guarantee does not hold at a place. All places
// of its part are decided alike.
func breaks(b *policy.Book, g *policy.Guarantee, p place.Place) (string, *document.Witness, error) {
	deciding := b.Deciding(p)
	asked := demands(deciding)
	if !g.Never {
		asked = append(asked, g.Demand())
	}
	all, err := visitors(asked, b)
	if errors.Is(err, ErrTooEntangled) {
		return "", nil, fmt.Errorf("%s ask for too many things at once", named(deciding))
	}
	if err != nil {
		return "", nil, err
	}
	request := policy.RequestFor(p)
	for i := range all {
		v := &all[i]
		d := b.Decide(request, v)
		admitted := d.Outcome == policy.Admit
		var message string
		switch {
		case g.Only && admitted && !b.Meets(g, v):
			message = fmt.Sprintf("not only those get in who show %s: %s does at %s, by %s", g.Asks(), v, p.Path, named(deciding))
		case g.Always && !admitted && b.Meets(g, v):
			message = fmt.Sprintf("not everybody gets in who shows %s: %s does not at %s, by %s", g.Asks(), v, p.Path, named(deciding))
		case g.Never && d.Public:
			message = fmt.Sprintf("%s is open to everybody, by %s", p.Path, named(deciding))
		default:
			continue
		}
		return message, &document.Witness{
			Method: p.Method, Host: p.Host, Path: request.Path, Visitor: v.String(), Outcome: string(d.Outcome),
		}, nil
	}
	return "", nil, nil
}

func named(doors []*policy.Door) string {
	var names []string
	for _, d := range doors {
		names = append(names, d.Named())
	}
	return strings.Join(names, " and ")
}
