// Package prove analyses policies exactly: what it says holds for all places and all
// visitors, not for samples.
package prove

import (
	"cmp"
	"net/netip"
	"slices"
	"strings"
	"time"

	"ostiarius/core/factor"
	"ostiarius/core/place"
	"ostiarius/core/policy"
)

// ErrTooEntangled says that policies could not be analysed in reasonable time; nothing
// is then claimed about them.
var ErrTooEntangled = place.ErrTooEntangled

// The most visitors that are told apart at one set of doors.
const maxVisitors = 50_000

// visitors returns visitors of every kind that the demands can tell apart, those with the
// fewest proofs first. The books say which roles there are.
//
// What is asked for is finite: some roles, accounts, shared passwords, passes, keyrings,
// networks and ages. Two visitors who show the same of these get the same decision.
func visitors(demands []policy.Demand, books ...*policy.Book) ([]policy.Visitor, error) {
	var c policy.Cases
	for _, d := range demands {
		c.Collect(d)
	}
	roles, users, shared, passes, keyrings := c.Roles, c.Users, c.Shared, c.Passes, c.Keyrings
	ages := append([]time.Duration{0}, c.Ages...)
	from := append([]netip.Addr{{}}, c.From...)
	// A granted role matters by which of the roles asked for it satisfies, in each book.
	var granted []string
	kinds := map[string]bool{"": true}
	for _, b := range books {
		for _, name := range b.RoleNames() {
			var satisfies strings.Builder
			for i, book := range books {
				for _, asked := range roles {
					if book.Satisfies(name, asked) {
						satisfies.WriteString(string(rune('0'+i)) + asked + ",")
					}
				}
			}
			if !kinds[satisfies.String()] {
				kinds[satisfies.String()] = true
				granted = append(granted, name)
			}
		}
	}
	for _, names := range []*[]string{&users, &shared, &passes, &keyrings} {
		slices.Sort(*names)
		*names = slices.Compact(*names)
	}
	slices.SortFunc(from, netip.Addr.Compare)
	from = slices.Compact(from)
	slices.Sort(ages)
	ages = slices.Compact(ages)

	shown := shownAt(ages, c.Factors)
	count := 1 << min(30, len(granted)+len(shared)+len(passes)+len(keyrings))
	if count > maxVisitors || count*len(from)*len(shown)*(1+len(users)) > maxVisitors {
		return nil, ErrTooEntangled
	}
	accounts := []policy.Visitor{{}}
	for _, proofs := range shown {
		for _, name := range append([]string{""}, users...) {
			for _, held := range subsets(granted) {
				v := policy.Visitor{SignedIn: true, Account: name, Roles: held}
				v.Showing(proofs)
				accounts = append(accounts, v)
			}
		}
	}
	var all []policy.Visitor
	for _, v := range accounts {
		for _, v.Shared = range subsets(shared) {
			for _, v.Passes = range subsets(passes) {
				for _, v.Keyrings = range subsets(keyrings) {
					for _, v.From = range from {
						all = append(all, v)
					}
				}
			}
		}
	}
	slices.SortStableFunc(all, func(a, b policy.Visitor) int { return cmp.Compare(proofs(a), proofs(b)) })
	return all, nil
}

// shownAt returns all that somebody can have shown of who they are, with all ages; of the password alone if nothing asks for more. An
// account elsewhere stands for the same as the password.
func shownAt(ages []time.Duration, factors bool) (all []factor.Shown) {
	sets := []factor.Set{factor.Of(factor.Password)}
	if factors {
		sets = append(sets, factor.Of(factor.Passkey), factor.Of(factor.Password, factor.Passkey), factor.Of(factor.Password, factor.Code),
			factor.Of(factor.Passkey, factor.Code), factor.Of(factor.Password, factor.Passkey, factor.Code))
	}
	for _, set := range sets {
		some := []factor.Shown{{}}
		for _, k := range set.Kinds() {
			var more []factor.Shown
			for _, s := range some {
				for _, age := range ages {
					more = append(more, s.With(k, age))
				}
			}
			some = more
		}
		all = append(all, some...)
	}
	return all
}

// proofs counts what a visitor has proven.
func proofs(v policy.Visitor) int {
	n := 2 * (len(v.Roles) + len(v.Shared) + len(v.Passes) + len(v.Keyrings))
	if v.SignedIn {
		n++
	}
	if v.Account != "" {
		n += 2
	}
	if v.ProofAge > 0 {
		n++
	}
	n += 2 * len(v.Factors.Kinds.Kinds())
	if v.From.IsValid() {
		n++
	}
	return n
}

func subsets(of []string) [][]string {
	all := [][]string{nil}
	for _, name := range of {
		for _, s := range all[:len(all):len(all)] {
			all = append(all, append(slices.Clone(s), name))
		}
	}
	return all
}
