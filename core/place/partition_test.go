package place

import (
	"fmt"
	"math/rand/v2"
	"testing"
)

func TestPartsAgainstBruteForce(t *testing.T) {
	r := rand.New(rand.NewPCG(9, 10))
	hosts := []string{"", "", "", "x.example", "*.example", "*.x.example"}
	methods := []string{"", "", "", "GET", "POST", "HEAD"}
	paths := world[:1+6+36+216] // up to three segments
	for round := range 120 {
		var sets []Set
		for range 1 + r.IntN(5) {
			sets = append(sets, mustSet(t, hosts[r.IntN(len(hosts))], randomPattern(r), methods[r.IntN(len(methods))]))
		}
		m, _ := NewMatcher(sets)
		parts, err := m.Parts(1_000_000)
		if err != nil {
			t.Fatal(err)
		}
		cover := func(p Place) string {
			var ids []int32
			for i := range sets {
				if sets[i].Covers(p) {
					ids = append(ids, int32(i))
				}
			}
			return fmt.Sprint(ids)
		}
		claimed := map[string]bool{}
		for _, part := range parts {
			claimed[fmt.Sprint(part.Covering)] = true
			if got := cover(part.Example); got != fmt.Sprint(part.Covering) {
				t.Fatalf("round %d: the example %+v is covered by %s, not %v", round, part.Example, got, part.Covering)
			}
			if canonical, _, err := Canonical(part.Example.Path, Rules{}); err != nil || canonical != part.Example.Path {
				t.Fatalf("the example %q is not canonical", part.Example.Path)
			}
		}
		for _, path := range paths {
			for _, host := range []string{"", "x.example", "y.example", "y.x.example", "z"} {
				for _, method := range []string{"GET", "HEAD", "POST", "PUT"} {
					if p := (Place{Host: host, Path: path, Method: method}); !claimed[cover(p)] {
						var all []string
						for _, s := range sets {
							all = append(all, fmt.Sprint(s.Methods, " ", s.Host, s.Path))
						}
						t.Fatalf("round %d: %q: %+v is covered by %s, which is no part of %v", round, all, p, cover(p), parts)
					}
				}
			}
		}
	}
}
