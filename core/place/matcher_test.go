package place

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"testing"
)

func TestMatcherAgainstEachSet(t *testing.T) {
	r := rand.New(rand.NewPCG(3, 4))
	hosts := []string{"", "", "", "x.example", "*.example", "y.x.example"}
	methods := []string{"", "", "", "GET", "POST", "GET,POST", "HEAD"}
	for round := range 60 {
		var sets []Set
		for range 3 + r.IntN(30) {
			sets = append(sets, mustSet(t, hosts[r.IntN(len(hosts))], randomPattern(r), methods[r.IntN(len(methods))]))
		}
		m, twins := NewMatcher(sets)
		for i := range sets {
			for j := i + 1; j < len(sets); j++ {
				if equal := sets[i].Relate(sets[j]) == Equal; equal != slices.Contains(twins, [2]int{i, j}) {
					t.Fatalf("round %d: twins %v, but %v and %v are equal: %v", round, twins, sets[i], sets[j], equal)
				}
			}
		}
		for range 300 {
			p := Place{
				Host: []string{"", "x.example", "y.x.example", "z"}[r.IntN(4)], Path: world[r.IntN(len(world))],
				Method: []string{"GET", "HEAD", "POST", "PUT"}[r.IntN(4)],
			}
			var covering, counting []int32
			for i := range sets {
				if sets[i].Covers(p) {
					covering = append(covering, int32(i))
				}
			}
			for _, i := range covering {
				if !slices.ContainsFunc(covering, func(j int32) bool { return sets[j].Relate(sets[i]) == Inside }) {
					counting = append(counting, i)
				}
			}
			got := m.Covering(nil, &p)
			slices.Sort(got)
			if !slices.Equal(got, covering) {
				t.Fatalf("round %d, %v: covering %v, want %v", round, p, got, covering)
			}
			got = m.MostSpecific(nil, &p)
			slices.Sort(got)
			if !slices.Equal(got, counting) {
				t.Fatalf("round %d, %v: most specific %v, want %v", round, p, got, counting)
			}
		}
	}
}

func TestMatcherIndexesManyGlobs(t *testing.T) {
	var sets []Set
	for i := range 200 {
		sets = append(sets, mustSet(t, "", fmt.Sprintf("/p%d-*", i), ""), mustSet(t, "", fmt.Sprintf("/*-s%d", i), ""),
			mustSet(t, "", fmt.Sprintf("/*m%dm*", i), ""))
	}
	m, _ := NewMatcher(sets)
	for _, path := range []string{"/p1-", "/p12-x-s7", "/q-s199", "/p-m3m-", "/none", "/p5-m5m-s5"} {
		p := Place{Path: path, Method: "GET"}
		var want []int32
		for i := range sets {
			if sets[i].Covers(p) {
				want = append(want, int32(i))
			}
		}
		got := m.Covering(nil, &p)
		slices.Sort(got)
		if !slices.Equal(got, want) {
			t.Errorf("%s: %v, want %v", path, got, want)
		}
	}
}

func TestNoAllocation(t *testing.T) {
	var sets []Set
	for i := range 1000 {
		sets = append(sets, mustSet(t, "", fmt.Sprintf("/area%d/**", i), ""), mustSet(t, "", fmt.Sprintf("/**/x%d/*.pdf", i), "GET"))
	}
	sets = append(sets, mustSet(t, "", "/**", ""))
	m, _ := NewMatcher(sets)
	buffer := make([]int32, 0, 16)
	if n := testing.AllocsPerRun(100, func() {
		p, err := Read("GET", "marram.example", "/area7/deep/x9/a.pdf", Rules{})
		if err != nil || len(m.MostSpecific(buffer, &p)) != 2 {
			t.Fatal(err, p)
		}
	}); n != 0 {
		t.Errorf("%v allocations", n)
	}
}
