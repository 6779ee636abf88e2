package place

import (
	"math/rand/v2"
	"strings"
	"testing"
)

func TestParsePatternErrors(t *testing.T) {
	for _, bad := range []string{"", "rota", "/a//b", "/a/../b", "/./a", "/a**", "/**a/b", "//", "/a%20b", "/100%", "/a\\b", "/a?b",
		"/a#", "/a\x00", "/\xff", "/" + strings.Repeat("a/", 61)} {
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

// Every combination of sets that covers some place is found, and no other.
