package policy

import (
	"slices"

	"github.com/goccy/go-yaml/ast"

	"ostiarius/core/place"
)

// A check is what a program asks in its own handlers, beside the doors. It stands in the policy so that what is explained, shown and proven
// about a place is all that is asked there: each check that covers a place must admit too, however specific the doors there are. It opens
// nothing.

// checkKeys are the keys of a check. What is done with who is turned away is the business of the doors.
var checkKeys = []string{"path", "host", "methods", "admit"}

// The most checks of a policy.
const maxChecks = 1000

func (p *reader) checks(n ast.Node) {
	for _, f := range p.fields(n, "checks", nil) {
		if !p.name(f.key, "check", f.name) {
			continue
		}
		doors := p.book.Doors
		p.book.Doors = nil
		p.doorWith(f.value, "a check", checkKeys)
		for _, d := range p.book.Doors {
			d.Check = f.name
			p.book.Checks = append(p.book.Checks, d)
		}
		p.book.Doors = doors
		if len(p.book.Checks) > maxChecks {
			p.at(f.key, "too-large", "more than %d checks", maxChecks)
			return
		}
	}
}

// ChecksNamed returns the checks of a name: one for each of its paths.
func ChecksNamed(b *Book, name string) (all []*Door) {
	for i := range b.Checks {
		if b.Checks[i].Check == name {
			all = append(all, &b.Checks[i])
		}
	}
	return all
}

// checksAt returns the checks that cover a place, in file order.
func (b *Book) checksAt(p *place.Place) []*Door {
	if len(b.Checks) == 0 || b.IsOwn(*p) {
		return nil
	}
	var buffer [8]int32
	covering := b.checkMatch.Covering(buffer[:0], p)
	slices.Sort(covering)
	all := make([]*Door, len(covering))
	for i, id := range covering {
		all[i] = &b.Checks[id]
	}
	return all
}
