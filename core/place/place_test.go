package place

import (
	"errors"
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
)

func TestCanonical(t *testing.T) {
	for _, test := range []struct {
		raw, path string
		slash     bool
	}{
		{"/", "/", true},
		{"/rota", "/rota", false},
		{"/rota/", "/rota", true},
		{"//rota//", "/rota", true},
		{"/./rota/.", "/rota", true},
		{"/visit/../office", "/office", false},
		{"/visit/%2e%2e/office/", "/office", true},
		{"/visit/.%2E/office", "/office", false},
		{"/../../office", "/office", false},
		{"/office/..", "/", true},
		{"/%6fffice", "/office", false},
		{"/a%20b", "/a b", false},
		{"/caf%C3%A9", "/café", false},
		{"/100%25", "/100%", false},
		{"/100%25z", "/100%z", false},
		{"/.well-known/x", "/.well-known/x", false},
		{"/...", "/...", false},
		{"/Rota", "/Rota", false},
		{"/a:b@c!$&'()*+,=~", "/a:b@c!$&'()*+,=~", false},
	} {
		path, slash, err := Canonical(test.raw, Rules{})
		if err != nil || path != test.path || slash != test.slash {
			t.Errorf("Canonical(%q) = %q, %v, %v; want %q, %v", test.raw, path, slash, err, test.path, test.slash)
		}
	}
}

func TestCanonicalRejects(t *testing.T) {
	for _, test := range []struct {
		raw string
		at  int
	}{
		{"", 0}, {"rota", 0}, {"*", 0},
		{"/a%2fb", 2}, {"/a%2Fb", 2}, {"/a%5cb", 2}, {`/a\b`, 2},
		{"/a%00", 2}, {"/a\x00", 2}, {"/a%0d%0a", 2}, {"/a\x7f", 2}, {"/a%C2%85", 2},
		{"/a%", 2}, {"/a%2", 2}, {"/a%zz", 2}, {"/a%u002f", 2},
		{"/%c0%ae%c0%ae/office", 1}, {"/%ff", 1}, {"/\xff", 1}, {"/%ed%a0%80", 1},
		{"/%252e%252e/office", 1}, {"/%25%32%66", 1}, {"/a%2525", 2}, {"/%256f", 1},
		{"/a;b", 2}, {"/a%3Bb", 2}, {"/a?b", 2}, {"/a#b", 2},
		{"/" + strings.Repeat("a", MaxPath), MaxPath},
	} {
		path, _, err := Canonical(test.raw, Rules{})
		var fault *Unreadable
		if !errors.As(err, &fault) {
			t.Errorf("Canonical(%q) = %q, %v; want an Unreadable error", test.raw, path, err)
		} else if fault.Offset != test.at {
			t.Errorf("Canonical(%q): fault at %d, want %d: %v", test.raw, fault.Offset, test.at, err)
		}
	}
}

func TestRules(t *testing.T) {
	if p, _, err := Canonical("/a;v=1/b", Rules{Semicolons: true}); err != nil || p != "/a;v=1/b" {
		t.Errorf("semicolons allowed: %q, %v", p, err)
	}
	for _, spelling := range []string{"/office/KEYS", "/OFFICE/keys", "/office/%4Beys", "/office/\u212Aeys"} {
		if p, _, err := Canonical(spelling, Rules{FoldCase: true}); err != nil || p != "/office/keys" {
			t.Errorf("folded %q: %q, %v", spelling, p, err)
		}
	}
}

func FuzzCanonical(f *testing.F) {
	for _, s := range []string{"/", "//a/../b/", "/%2e%2e/a", "/%c3%a9", "/a;b", "/A%41", "/\u017f"} {
		f.Add(s, false, false)
		f.Add(s, true, true)
	}
	f.Fuzz(func(t *testing.T, raw string, foldCase, semicolons bool) {
		rules := Rules{foldCase, semicolons}
		path, _, err := Canonical(raw, rules)
		if err != nil {
			return
		}
		if path[0] != '/' || path != "/" && path[len(path)-1] == '/' {
			t.Fatalf("%q -> %q: not canonical", raw, path)
		}
		for _, segment := range split(path) {
			if segment == "" || segment == "." || segment == ".." || strings.ContainsAny(segment, "\\\x00\r\n") {
				t.Fatalf("%q -> %q: segment %q", raw, path, segment)
			}
		}
		// Reading it again, as it is written on the way to a source, changes nothing.
		again, _, err := Canonical(strings.NewReplacer("%", "%25", "?", "%3F", "#", "%23").Replace(path), rules)
		if err != nil || again != path {
			t.Fatalf("%q -> %q -> %q, %v", raw, path, again, err)
		}
	})
}

func TestHost(t *testing.T) {
	for _, test := range []struct{ raw, want string }{
		{"marram.example", "marram.example"}, {"Marram.Example:8460", "marram.example"}, {"marram.example.", "marram.example"},
		{"127.0.0.1:80", "127.0.0.1"}, {"[::1]:80", "[::1]"}, {"[0:0::1]", "[::1]"}, {"", ""}, {"a:", "a"},
	} {
		if got, err := readHost(test.raw); err != nil || got != test.want {
			t.Errorf("host %q = %q, %v; want %q", test.raw, got, err, test.want)
		}
	}
	for _, bad := range []string{"a b", "a/b", "a@b", "a..b", ".a", "[::1", "[::1]x", "[1.2.3.4]", "[fe80::1%eth0]", "a:b", "a:123456", "a,b", "é", "a\x00", strings.Repeat("a", 300)} {
		if got, err := readHost(bad); err == nil {
			t.Errorf("host %q was read as %q", bad, got)
		}
	}
}

func TestReadRefusesMethods(t *testing.T) {
	for _, bad := range []string{"", "get", "Get", "GET /", "G\x00"} {
		if _, err := Read(bad, "", "/", Rules{}); err == nil {
			t.Errorf("method %q was accepted", bad)
		}
	}
}

func TestParsePatternErrors(t *testing.T) {
	for _, bad := range []string{"", "rota", "/a//b", "/a/../b", "/./a", "/a**", "/**a/b", "//", "/a%20b", "/100%", "/a\\b", "/a?b", "/a#", "/a\x00", "/\xff", "/" + strings.Repeat("a/", 61)} {
		if p, err := ParsePattern(bad, Rules{}); err == nil {
			t.Errorf("pattern %q was read as %s", bad, p)
		}
	}
}

func TestPatternCovers(t *testing.T) {
	for _, test := range []struct {
		pattern  string
		yes, not string
	}{
		{"/", "/", "/a"},
		{"/rota", "/rota", "/rota/a /rot /"},
		{"/rota/", "/rota", "/rota/a"},
		{"/rota/**", "/rota /rota/a /rota/a/b", "/rotas /"},
		{"/*", "/a /b", "/ /a/b"},
		{"/reports/*.pdf", "/reports/a.pdf /reports/.pdf", "/reports/a.pdf/b /reports/pdf /reports"},
		{"/archive/2026-*/**", "/archive/2026-1 /archive/2026-1/x", "/archive/2025-1 /archive"},
		{"/**/drafts/**", "/drafts /a/drafts /a/b/drafts/c/d", "/ /a/draft"},
		{"/**/*.map", "/a.map /a/b.map", "/a.map/b /map"},
		{"/a*b*c", "/abc /axxbyyc /abbc", "/ab /abcd"},
		{"/**", "/ /a /a/b", ""},
	} {
		p, err := ParsePattern(test.pattern, Rules{})
		if err != nil {
			t.Fatal(err)
		}
		for _, path := range strings.Fields(test.yes) {
			if !p.Covers(path) {
				t.Errorf("%s does not cover %s", p, path)
			}
		}
		for _, path := range strings.Fields(test.not) {
			if p.Covers(path) {
				t.Errorf("%s covers %s", p, path)
			}
		}
	}
}

func TestRelate(t *testing.T) {
	set := func(s string) Set { // [METHODS ]/path[ @host]
		t.Helper()
		s, host, _ := strings.Cut(s, " @")
		methods, path, ok := strings.Cut(s, " ")
		if !ok {
			methods, path = "", s
		}
		return mustSet(t, host, path, methods)
	}
	for _, test := range []struct {
		s, t string
		want Relation
	}{
		{"/a", "/a/", Equal},
		{"/a", "/b", Apart},
		{"/a", "/a/**", Inside},
		{"/a/**", "/a/*", Around},
		{"/*/**", "/**/*", Equal},
		{"/**/a/**", "/a/**", Around},
		{"/**/a/**", "/b/**", Crossing},
		{"/**/*.map", "/assets/**", Crossing},
		{"/**/*.map", "/assets/x.map", Around},
		{"/a*", "/*b", Crossing},
		{"/a*b", "/*b", Inside},
		{"/*a*", "/*a*a*", Around},
		{"/**/a/**/b", "/**/b", Inside},
		{"/**/*/**", "/*/**", Equal},
		{"/**/*/*/**", "/*/**", Inside},
		{"/**/a/**/a/**", "/**/a/**", Inside},
		{"GET /a", "/a", Inside},
		{"GET /a", "HEAD /a", Around},
		{"GET /a", "POST /a", Apart},
		{"GET,POST /a", "POST,PUT /a", Crossing},
		{"GET /a/**", "/a/b", Crossing},
		{"/a @x.example", "/a", Inside},
		{"/a @x.example", "/a @*.example", Inside},
		{"/a @*.example", "/a @*.x.example", Around},
		{"/a @x.example", "/a @*.x.example", Apart},
		{"/a/** @x.example", "/a/b", Crossing},
	} {
		if got := set(test.s).Relate(set(test.t)); got != test.want {
			t.Errorf("%s to %s: %s, want %s", test.s, test.t, got, test.want)
		}
		mirror := map[Relation]Relation{Apart: Apart, Equal: Equal, Inside: Around, Around: Inside, Crossing: Crossing}
		if got := set(test.t).Relate(set(test.s)); got != mirror[test.want] {
			t.Errorf("%s to %s: %s, want %s", test.t, test.s, got, mirror[test.want])
		}
	}
}

func mustSet(t testing.TB, host, path, methods string) Set {
	t.Helper()
	h, err := ParseHost(host)
	if err != nil {
		t.Fatal(err)
	}
	p, err := ParsePattern(path, Rules{})
	if err != nil {
		t.Fatal(err)
	}
	m, err := ParseMethods(strings.FieldsFunc(methods, func(r rune) bool { return r == ',' })...)
	if err != nil {
		t.Fatal(err)
	}
	return Set{h, p, m}
}

// Small worlds: patterns over two letters, compared with brute force over every path
// up to a depth and width that shows each difference between such patterns.

var pieces = []string{"a", "b", "*", "a*", "*b", "a*b", "*a*", "**"}

func randomPattern(r *rand.Rand) string {
	var b strings.Builder
	for range r.IntN(4) {
		b.WriteByte('/')
		b.WriteString(pieces[r.IntN(len(pieces))])
	}
	if b.Len() == 0 {
		return "/"
	}
	return b.String()
}

// world is every path of up to five segments over a few telling texts: the literals,
// what the stars can make of them, and one text that stands in no pattern.
var world = func() []string {
	texts := []string{"a", "b", "ab", "c", "ba", "aab"}
	paths := []string{"/"}
	level := []string{""}
	for range 5 {
		var next []string
		for _, p := range level {
			for _, text := range texts {
				next = append(next, p+"/"+text)
			}
		}
		paths = append(paths, next...)
		level = next
	}
	return paths
}()

func TestRelateAgainstBruteForce(t *testing.T) {
	r := rand.New(rand.NewPCG(1, 2))
	for range 600 {
		s, u := mustSet(t, "", randomPattern(r), ""), mustSet(t, "", randomPattern(r), "")
		var both, onlyS, onlyU bool
		for _, path := range world {
			inS, inU := s.Path.Covers(path), u.Path.Covers(path)
			both = both || inS && inU
			onlyS = onlyS || inS && !inU
			onlyU = onlyU || inU && !inS
		}
		want := map[[3]bool]Relation{
			{true, false, false}: Equal, {true, false, true}: Inside, {true, true, false}: Around, {true, true, true}: Crossing,
			{false, true, true}: Apart,
		}[[3]bool{both, onlyS, onlyU}]
		if got := s.Relate(u); got != want {
			t.Errorf("%s to %s: %s, want %s", s.Path, u.Path, got, want)
		}
		if p, ok := s.Meet(u); ok != both || ok && !(s.Covers(p) && u.Covers(p)) {
			t.Errorf("%s and %s meet in %q, %v; brute force says %v", s.Path, u.Path, p.Path, ok, both)
		}
	}
}

func FuzzRelate(f *testing.F) {
	f.Add("/a/**", "/*/b", "/a/b")
	f.Add("/**/x*y/**", "/x*/**/z", "/xy/z")
	f.Fuzz(func(t *testing.T, one, two, path string) {
		p, err := ParsePattern(one, Rules{})
		q, err2 := ParsePattern(two, Rules{})
		canonical, _, err3 := Canonical(path, Rules{})
		if err != nil || err2 != nil {
			return
		}
		s, u := Set{Path: p}, Set{Path: q}
		relation := s.Relate(u)
		meet, ok := s.Meet(u)
		if ok != (relation != Apart) || ok && !(p.Covers(meet.Path) && q.Covers(meet.Path)) {
			t.Fatalf("%s %s %s: meet %q %v", p, relation, q, meet.Path, ok)
		}
		if err3 != nil {
			return
		}
		inP, inQ := p.Covers(canonical), q.Covers(canonical)
		if (relation == Apart && inP && inQ) || (relation == Equal && inP != inQ) ||
			(relation == Inside && inP && !inQ) || (relation == Around && inQ && !inP) {
			t.Fatalf("%s is %s %s, but %s: %v, %v", p, relation, q, canonical, inP, inQ)
		}
	})
}

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
			p := Place{Host: []string{"", "x.example", "y.x.example", "z"}[r.IntN(4)], Path: world[r.IntN(len(world))], Method: []string{"GET", "HEAD", "POST", "PUT"}[r.IntN(4)]}
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
		sets = append(sets, mustSet(t, "", fmt.Sprintf("/p%d-*", i), ""), mustSet(t, "", fmt.Sprintf("/*-s%d", i), ""), mustSet(t, "", fmt.Sprintf("/*m%dm*", i), ""))
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

// Every combination of sets that covers some place is found, and no other.
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
