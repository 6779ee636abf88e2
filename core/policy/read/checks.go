package read

import (
	"github.com/goccy/go-yaml/ast"
)

// A check is what a program asks in its own handlers, beside the doors. It stands in the policy so that what is explained, shown and proven
// about a place is all that is asked there: each check that covers a place must admit too, however specific the doors there are. It opens
// nothing.

// checkKeys are the keys of a check. What is done with who is turned away is the business of the doors.
var checkKeys = []string{"path", "host", "methods", "admit"}

// The most checks of a policy.
const maxChecks = 1000

func (p *reader) checks(n ast.Node) {
	for _, f := range p.Fields(n, "checks", nil) {
		if !p.Name(f.Key, "check", f.Name) {
			continue
		}
		doors := p.Book.Doors
		p.Book.Doors = nil
		p.doorWith(f.Value, "a check", checkKeys)
		for _, d := range p.Book.Doors {
			d.Check = f.Name
			p.Book.Checks = append(p.Book.Checks, d)
		}
		p.Book.Doors = doors
		if len(p.Book.Checks) > maxChecks {
			p.At(f.Key, "too-large", "more than %d checks", maxChecks)
			return
		}
	}
}
