package prove

import (
	"fmt"

	"ostiarius/core/policy"
)

// An Answered is an expectation and what really comes of it.
type Answered struct {
	Line    int              `json:"line"`
	As      string           `json:"as"`
	Method  string           `json:"method"`
	Path    string           `json:"path"` // the address as it is written
	Expects policy.Outcome   `json:"expected"`
	Outcome policy.Outcome   `json:"outcome"`
	OK      bool             `json:"ok"`
	Doors   []policy.DoorRef `json:"doors"`          // that decided
	Note    string           `json:"note,omitempty"` // why it may be another question than was meant
}

// Expect decides each request of a table.
func Expect(b *policy.Book, table []policy.Expectation) []Answered {
	answers := make([]Answered, len(table))
	for i := range table {
		e := &table[i]
		d := b.Decide(e.Request, &e.Who)
		a := Answered{Line: e.Line, As: e.Who.String(), Method: e.Method, Path: e.Address, Expects: e.Outcome,
			Outcome: d.Outcome, OK: d.Outcome == e.Outcome, Doors: []policy.DoorRef{}}
		if d.Outcome == policy.Reject {
			a.Note = d.Fault.Error()
		} else {
			a.Doors = refer(b.Deciding(d.Place))
		}
		for _, role := range e.Who.Roles {
			if !b.KnownRole(role) {
				a.OK, a.Note = false, fmt.Sprintf("the policy has no role %q", role)
			}
		}
		answers[i] = a
	}
	return answers
}
