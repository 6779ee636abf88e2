package prove

import (
	"errors"
	"fmt"
	"strings"
	"unicode/utf8"

	"ostiarius/core/place"
	"ostiarius/core/policy"
)

// A Promise is a guarantee of a policy and whether it holds.
type Promise struct {
	Line    int             `json:"line"`
	Path    string          `json:"path"`
	Says    string          `json:"says"` // in the policy's words
	Because string          `json:"because,omitempty"`
	State   string          `json:"state"`             // "holds", "broken", "unproven"
	Message string          `json:"message,omitempty"` // why it does not hold, or could not be proven
	Witness *policy.Witness `json:"witness,omitempty"`
}

// Guarantees proves what a Book promises, for all places and all visitors, in file order:
// what is broken has the smallest request, and the visitor with the fewest proofs, that
// show it. What is too entangled to be proven is not promised.
func Guarantees(b *policy.Book) []Promise {
	if len(b.Promises) == 0 {
		return []Promise{}
	}
	g, err := Survey(b)
	if err != nil {
		return unproven(b, err)
	}
	return g.Guarantees()
}

func unproven(b *policy.Book, err error) []Promise {
	promises := promisesOf(b)
	for i := range promises {
		promises[i].State, promises[i].Message = "unproven", "the guarantee could not be proven: "+err.Error()
	}
	return promises
}

func promisesOf(b *policy.Book) []Promise {
	promises := make([]Promise, len(b.Promises))
	for i := range b.Promises {
		p := &b.Promises[i]
		promises[i] = Promise{Line: p.Line, Path: p.Written, Says: p.Says(), Because: p.Because, State: "holds"}
	}
	return promises
}

// Guarantees is like the function of that name.
func (g *Ground) Guarantees() []Promise {
	promises := promisesOf(g.book)
	for _, part := range g.parts {
		for _, id := range part.Covering {
			i := int(id) - g.first
			if i < 0 || promises[i].State != "holds" {
				continue
			}
			message, witness, err := breaks(g.book, &g.book.Promises[i], part.Example)
			switch {
			case err != nil:
				promises[i].State = "unproven"
				promises[i].Message = fmt.Sprintf("the guarantee could not be proven at %s: %v", part.Example.Path, err)
			case witness != nil:
				promises[i].State, promises[i].Message, promises[i].Witness = "broken", message, witness
			}
		}
	}
	return promises
}

// The rules under which guarantees that do not hold are found, by their state.
var unkeptRules = map[string]string{"broken": "guarantee-broken", "unproven": "guarantee-unproven"}

// unkept returns a finding for each guarantee that does not hold.
func unkept(b *policy.Book, promises []Promise, file string) []policy.Finding {
	var findings []policy.Finding
	for i, p := range promises {
		if p.State == "holds" {
			continue
		}
		g := &b.Promises[i]
		if g.Because != "" {
			p.Message += "; it was promised because: " + g.Because
		}
		findings = append(findings, policy.Finding{
			Severity: policy.Error, Rule: unkeptRules[p.State], Message: p.Message, File: file,
			Line: g.Line, Column: g.Column, Length: utf8.RuneCountInString(g.Written), Witness: p.Witness,
		})
	}
	return findings
}

// breaks looks for a visitor for whom a guarantee does not hold at a place. All places
// of its part are decided alike.
func breaks(b *policy.Book, g *policy.Guarantee, p place.Place) (string, *policy.Witness, error) {
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
		return message, &policy.Witness{Method: p.Method, Host: p.Host, Path: request.Path, Visitor: v.String(), Outcome: string(d.Outcome)}, nil
	}
	return "", nil, nil
}

func named(doors []*policy.Door) string {
	var names []string
	for _, d := range doors {
		if d.Line == 0 {
			names = append(names, d.Written)
			continue
		}
		names = append(names, fmt.Sprintf("line %d (%s)", d.Line, d.Written))
	}
	return strings.Join(names, " and ")
}
