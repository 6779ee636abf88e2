package policy

import (
	"cmp"
	"fmt"
	"slices"
)

// A Change is a door that one version of a policy has and another has not, or has
// differently.
type Change struct {
	Kind   string `json:"kind" enum:"added|removed|changed"`
	Door   string `json:"door"` // the places: methods, path, host
	Before string `json:"before,omitempty"`
	After  string `json:"after,omitempty"`
	Line   int    `json:"line"` // in the new version; of a removed door, in the old one
}

// Changes returns how the doors of a policy differ from those before, in the order of
// the new file, then what was removed. Doors are compared by the places they cover. What
// a change of the doors opens or closes is another question.
func Changes(before, after *Book) []Change {
	changes := []Change{}
	old := map[string]*Door{}
	for i := range before.Doors {
		old[DescribeSet(&before.Doors[i])] = &before.Doors[i]
	}
	said := func(kind, door, was, is string, line int) {
		changes = append(changes, Change{kind, door, was, is, line})
	}
	if was, is := before.UnlistedWord(), after.UnlistedWord(); was != is {
		said("changed", "unlisted places", was, is, after.Unlisted.Line)
	}
	for i := range after.Doors {
		d := &after.Doors[i]
		key := DescribeSet(d)
		switch o := old[key]; {
		case o == nil:
			said("added", d.Label(), "", d.Whole(), d.Line)
		case o.Whole() != d.Whole():
			said("changed", d.Label(), o.Whole(), d.Whole(), d.Line)
		}
		delete(old, key)
	}
	var gone []*Door
	for _, d := range old {
		gone = append(gone, d)
	}
	slices.SortFunc(gone, func(x, y *Door) int { return cmp.Or(x.Line-y.Line, x.Column-y.Column) })
	for _, d := range gone {
		said("removed", d.Label(), d.Whole(), "", d.Line)
	}
	return changes
}

// describeSet names the places of a door in one form.
func DescribeSet(d *Door) string {
	return fmt.Sprintf("%s %s %s", d.Methods, d.Path, d.Host)
}

// Whole says all that a door does, in the policy's words.
func (d *Door) Whole() string {
	s := d.Admit.String()
	if d.Basic {
		s += fmt.Sprintf(", ask: basic, realm: %q", d.Realm)
	}
	if o := d.Otherwise; o.Anonymous.String() == o.Refused.String() && o.Refused.String() != "" {
		s += ", otherwise " + o.Refused.String()
	} else {
		if !o.Anonymous.none() {
			s += ", anonymous " + o.Anonymous.String()
		}
		if !o.Refused.none() {
			s += ", refused " + o.Refused.String()
		}
	}
	return s
}
