package policy

import (
	"slices"

	"ostiarius/core/place"
)

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
