package prove

import (
	"errors"
	"fmt"
	"strings"
	"sync"

	"ostiarius/core/document"
	"ostiarius/core/place"
	"ostiarius/core/policy"
)

// A Ground is a policy with all places divided by what covers them. What is proven about
// the policy is read off it.
type Ground struct {
	book    *policy.Book
	matcher *place.Matcher // of the doors, the built-in doors, and the guarantees
	doors   int            // how many of its sets are doors of the policy
	checks  int            // the first of its sets that is a check
	first   int            // the first of its sets that is a guarantee
	parts   []place.Part   // outside of Ostiarius's own pages
	once    sync.Once
	regions []region // found when they are asked for
}

// Survey divides all places by the doors and guarantees of a Book. Ostiarius's own pages,
// which built-in doors guard, are left out: they are not the policy's to open or close.
//
// The error is ErrTooEntangled with the doors that are to blame.
func Survey(b *policy.Book) (*Ground, error) {
	g := &Ground{book: b, doors: len(b.Doors)}
	sets := setsOf(b)
	g.first = len(sets)
	g.checks = g.first - len(b.Checks)
	for i := range b.Guarantees {
		sets = append(sets, b.Guarantees[i].Set)
	}
	g.matcher, _ = place.NewMatcher(sets)
	parts, err := g.matcher.Parts(maxSteps)
	if err != nil {
		return nil, blame(err, func(set int) string {
			if set >= g.first {
				return fmt.Sprintf("the guarantee in line %d", b.Guarantees[set-g.first].Line)
			}
			return nameAmong(b, set)
		})
	}
	for _, p := range parts {
		if !b.IsOwn(p.Example) {
			g.parts = append(g.parts, p)
		}
	}
	return g, nil
}

// setsOf returns the places of a Book's doors, then of its built-in doors, then of its checks.
func setsOf(b *policy.Book) []place.Set {
	var sets []place.Set
	for i := range b.Doors {
		sets = append(sets, b.Doors[i].Set)
	}
	for _, d := range b.BuiltIn() {
		sets = append(sets, d.Set)
	}
	for i := range b.Checks {
		sets = append(sets, b.Checks[i].Set)
	}
	return sets
}

func nameAmong(b *policy.Book, set int) string {
	if check := set - len(b.Doors) - len(b.BuiltIn()); check >= 0 {
		return b.Checks[check].Named()
	}
	if set >= len(b.Doors) {
		return "a built-in door"
	}
	return named([]*policy.Door{&b.Doors[set]})
}

// blame adds the names of the sets that are to blame to an error of dividing the places.
func blame(err error, name func(set int) string) error {
	var entangled *place.Entangled
	if !errors.As(err, &entangled) {
		return err
	}
	var names []string
	for _, set := range entangled.Sets {
		names = append(names, name(int(set)))
	}
	return fmt.Errorf("%w; what overlaps is %s", err, several(names, 6))
}

// several lists the first few names, and says how many more there are.
func several(names []string, few int) string {
	if len(names) > few+1 {
		return fmt.Sprintf("%s and %d more", strings.Join(names[:few], ", "), len(names)-few)
	}
	if len(names) > 1 {
		return strings.Join(names[:len(names)-1], ", ") + " and " + names[len(names)-1]
	}
	return strings.Join(names, "")
}

// covering returns the doors of the policy that cover a part.
func (g *Ground) covering(p place.Part) []int32 {
	n := 0
	for n < len(p.Covering) && int(p.Covering[n]) < g.doors {
		n++
	}
	return p.Covering[:n]
}

// checksAt returns the checks that cover a part, as its sets.
func (g *Ground) checksAt(p place.Part) (all []int32) {
	for _, id := range p.Covering {
		if int(id) >= g.checks && int(id) < g.first {
			all = append(all, id)
		}
	}
	return all
}

// deciding returns those of the covering doors that decide, in file order, or Unlisted.
func (g *Ground) deciding(covering []int32) []*policy.Door {
	if len(covering) == 0 {
		return []*policy.Door{&g.book.Unlisted}
	}
	narrowest := g.matcher.Narrowest(covering)
	doors := make([]*policy.Door, len(narrowest))
	for i, id := range narrowest {
		doors[i] = &g.book.Doors[id]
	}
	return doors
}

// witness shows a request for a place and what it comes to.
func (g *Ground) witness(p place.Place, v *policy.Visitor) *document.Witness {
	r := policy.RequestFor(p)
	return &document.Witness{Method: p.Method, Host: p.Host, Path: r.Path, Visitor: v.String(), Outcome: string(g.book.Decide(r, v).Outcome)}
}
