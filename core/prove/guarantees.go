package prove

import (
	"errors"
	"fmt"
	"strings"
	"unicode/utf8"

	"ostiarius/core/place"
	"ostiarius/core/policy"
)

// Guarantees proves what a Book promises, for all places and all visitors, and returns a
// finding for each guarantee that does not hold: with the smallest request and the visitor
// with the fewest proofs that show it. The file is named in the findings.
//
// Ostiarius's own pages, which built-in doors guard, are left out. What is too entangled to be proven is an error too: nothing is promised that was not
// proven.
func Guarantees(b *policy.Book, file string) []policy.Finding {
	if len(b.Promises) == 0 {
		return nil
	}
	var sets []place.Set
	for i := range b.Doors {
		sets = append(sets, b.Doors[i].Set)
	}
	for _, d := range b.BuiltIn() {
		sets = append(sets, d.Set)
	}
	first := len(sets)
	for i := range b.Promises {
		sets = append(sets, b.Promises[i].Set)
	}
	matcher, _ := place.NewMatcher(sets)
	parts, err := matcher.Parts(maxSteps)
	broken := map[int]bool{}
	var findings []policy.Finding
	say := func(g *policy.Guarantee, rule, message string, w *policy.Witness) {
		if g.Because != "" {
			message += "; it was promised because: " + g.Because
		}
		findings = append(findings, policy.Finding{
			Severity: policy.Error, Rule: rule, Message: message, File: file,
			Line: g.Line, Column: g.Column, Length: utf8.RuneCountInString(g.Written), Witness: w,
		})
	}
	if err != nil {
		say(&b.Promises[0], "guarantee-unproven", "the guarantees could not be proven: "+err.Error(), nil)
		return findings
	}
	for _, part := range parts {
		if b.IsOwn(part.Example) {
			continue // Ostiarius's own pages are not the policy's to promise
		}
		for _, id := range part.Covering {
			i := int(id) - first
			if i < 0 || broken[i] {
				continue
			}
			g := &b.Promises[i]
			message, witness, err := breaks(b, g, part.Example)
			switch {
			case err != nil:
				broken[i] = true
				say(g, "guarantee-unproven", fmt.Sprintf("the guarantee could not be proven at %s: %v", part.Example.Path, err), nil)
			case witness != nil:
				broken[i] = true
				say(g, "guarantee-broken", message, witness)
			}
		}
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
