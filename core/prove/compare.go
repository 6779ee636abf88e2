package prove

import (
	"errors"
	"fmt"
	"slices"
	"strings"

	"ostiarius/core/document"
	"ostiarius/core/place"
	"ostiarius/core/policy"
)

// A Difference is a set of places where two policies decide differently for some
// visitors, with the smallest request that shows it.
type Difference struct {
	// Effect is that somebody gets in who didn't before (opened), or doesn't any more (closed).
	Effect      string           `json:"effect" enum:"opened|closed|other"`
	Witness     document.Witness `json:"witness"`
	Before      string           `json:"before"` // the outcome, and where to if that matters
	After       string           `json:"after"`
	BeforeDoors []policy.DoorRef `json:"beforeDoors"`
	AfterDoors  []policy.DoorRef `json:"afterDoors"`
}

// The most steps that dividing the places of two policies may take.
const maxSteps = 8_000_000

// Compare returns where two policies decide differently, for all places and all visitors:
// one Difference for each effect that some entries of the old policy and some of the new
// one have together. Policies that are written differently and decide the same have none.
//
// The error is ErrTooEntangled, or says that the policies read addresses differently, so
// that there are no common places to compare.
func Compare(before, after *policy.Book) ([]Difference, error) {
	if before.Rules != after.Rules {
		return nil, errors.New("the policies read addresses differently (case or semicolons), so their places cannot be compared")
	}
	sets := append(setsOf(before), setsOf(after)...)
	matcher, _ := place.NewMatcher(sets)
	parts, err := matcher.Parts(maxSteps)
	if err != nil {
		first := len(sets) - len(setsOf(after))
		return nil, blame(err, func(set int) string {
			if set >= first {
				return nameAmong(after, set-first) + " after"
			}
			return nameAmong(before, set) + " before"
		})
	}
	differences := []Difference{}
	lines := map[string]int{} // effect and entries -> index of the Difference
	known := map[string]bool{}
	for _, part := range parts {
		was, is := before.Deciding(part.Example), after.Deciding(part.Example)
		var pair strings.Builder
		for _, d := range was {
			fmt.Fprintf(&pair, "%p ", d)
		}
		pair.WriteString("/ ")
		for _, d := range is {
			fmt.Fprintf(&pair, "%p ", d)
		}
		if known[pair.String()] {
			continue // the same doors decide, so the same is decided
		}
		known[pair.String()] = true
		found, err := compareAt(before, after, part.Example, was, is)
		if err != nil {
			return nil, err
		}
		from, to := responsible(was, is)
		for _, d := range found {
			key := d.Effect + entries(from) + "/" + entries(to)
			i, ok := lines[key]
			if !ok {
				i = len(differences)
				lines[key] = i
				differences = append(differences, d)
			}
			differences[i].BeforeDoors = with(differences[i].BeforeDoors, from)
			differences[i].AfterDoors = with(differences[i].AfterDoors, to)
		}
	}
	return differences, nil
}

// responsible returns the doors that make two policies decide differently at a place: those
// that decide, but for the ones that stand unchanged in both, unless nothing else is left.
func responsible(was, is []*policy.Door) (from, to []*policy.Door) {
	unchanged := func(d *policy.Door, in []*policy.Door) bool {
		return slices.ContainsFunc(in, func(other *policy.Door) bool {
			return d.Set.Relate(other.Set) == place.Equal && saying([]*policy.Door{d}) == saying([]*policy.Door{other})
		})
	}
	from = slices.DeleteFunc(slices.Clone(was), func(d *policy.Door) bool { return unchanged(d, is) })
	to = slices.DeleteFunc(slices.Clone(is), func(d *policy.Door) bool { return unchanged(d, was) })
	if len(from) == 0 || len(to) == 0 {
		return was, is
	}
	return from, to
}

// entries names the entries of the policy in which doors are written.
func entries(doors []*policy.Door) string {
	var lines []string
	for _, d := range doors {
		lines = append(lines, fmt.Sprintf("%d %s", d.Entry, saying([]*policy.Door{d})))
	}
	slices.Sort(lines)
	return fmt.Sprint(slices.Compact(lines))
}

// with adds doors to those that are known.
func with(known []policy.DoorRef, doors []*policy.Door) []policy.DoorRef {
	for _, d := range doors {
		if ref := policy.Refer(d); !slices.Contains(known, ref) {
			known = append(known, ref)
		}
	}
	return known
}

// compareAt compares what two policies decide at one place, for every kind of visitor. It
// returns at most one Difference for each effect, with the first visitor that shows it.
func compareAt(before, after *policy.Book, p place.Place, was, is []*policy.Door) ([]Difference, error) {
	all, err := visitors(append(demands(was), demands(is)...), before, after)
	if err != nil {
		return nil, err
	}
	request := policy.RequestFor(p)
	byEffect := map[string]bool{}
	var found []Difference
	for i := range all {
		v := &all[i]
		one, other := before.Decide(request, v), after.Decide(request, v)
		then, now := shown(one), shown(other)
		if then == now {
			continue
		}
		d := Difference{Effect: "other", Before: then, After: now}
		switch {
		case one.Outcome != policy.Admit && other.Outcome == policy.Admit:
			d.Effect = "opened"
		case one.Outcome == policy.Admit && other.Outcome != policy.Admit:
			d.Effect = "closed"
		}
		if byEffect[d.Effect] {
			continue
		}
		byEffect[d.Effect] = true
		d.Witness.Method, d.Witness.Host, d.Witness.Path, d.Witness.Visitor = p.Method, p.Host, p.Path, v.String()
		found = append(found, d)
	}
	return found, nil
}

func demands(doors []*policy.Door) []policy.Demand {
	all := make([]policy.Demand, len(doors))
	for i, d := range doors {
		all[i] = d.Admit
	}
	return all
}

// shown is all of a decision that a visitor gets to see.
func shown(d policy.Decision) string {
	text := string(d.Outcome)
	if d.Outcome == policy.Challenge && d.Instead.String() == "" {
		text += " (" + strings.TrimSpace(string(d.Proof.Kind)+" "+d.Proof.Name)
		if d.Proof.Basic {
			text += fmt.Sprintf(", HTTP Basic, realm %q", d.Proof.Realm)
		}
		text += ")"
	}
	if instead := d.Instead.String(); instead != "" && d.Outcome != policy.Hide {
		text += " (" + instead + ")"
	}
	return text
}

func refer(doors []*policy.Door) []policy.DoorRef {
	refs := make([]policy.DoorRef, len(doors))
	for i, d := range doors {
		refs[i] = policy.Refer(d)
	}
	return refs
}
