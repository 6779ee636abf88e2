package place

import (
	"math/rand/v2"
	"regexp"
	"strings"
	"testing"
)

// generated makes a pattern of few letters, so that it meets what is asked for.
func generated(random *rand.Rand) string {
	parts := []string{"a", "ab", "*", "a*", "*b", "a*b", "**", "a.b", "(a)"}
	var b strings.Builder
	for range 1 + random.IntN(4) {
		b.WriteString("/" + parts[random.IntN(len(parts))])
	}
	return b.String()
}

// asked makes a target that Plain matches.
func asked(random *rand.Rand) string {
	parts := []string{"a", "ab", "b", "aab", "a.b", "(a)", "axb", "aXb"}
	var b strings.Builder
	for range random.IntN(4) {
		b.WriteString("/" + parts[random.IntN(len(parts))])
	}
	if b.Len() == 0 || random.IntN(3) == 0 {
		b.WriteString("/")
	}
	return b.String() + []string{"", "?a", "?/ab/b"}[random.IntN(3)]
}

// Of what Plain matches, an Expression matches the places of its Set and no others; an Enclosing matches those, and perhaps more, and
// no matcher has to try it in many ways.
func TestExpression(t *testing.T) {
	random := rand.New(rand.NewPCG(7, 7))
	hosts := []string{"", "marram.example", "*.marram.example"}
	plain := regexp.MustCompile(Plain)
	in, out, more := 0, 0, 0
	for range 1500 {
		set := mustSet(t, hosts[random.IntN(len(hosts))], generated(random), "")
		e, ok := set.Expression()
		around, okAround := set.Enclosing()
		if !ok || !okAround {
			t.Fatalf("%s has no expression", set.Path)
		}
		exact, enclosing := regexp.MustCompile(e.String()), regexp.MustCompile(around.String())
		for range 40 {
			host := []string{"marram.example", "west.marram.example", "a.b.marram.example", "marrams.example", "xmarram.example"}[random.IntN(5)]
			target := asked(random)
			path, _, _ := strings.Cut(target, "?")
			place, err := Read("GET", host, path, Rules{})
			if line := host + "|" + target; err != nil || !plain.MatchString(line) {
				t.Fatalf("%s: %v", line, err)
			} else if got := exact.MatchString(line); got != set.Covers(place) {
				t.Fatalf("%s of %s%s: %s is matched %v, and covered %v", e, set.Host, set.Path, line, got, set.Covers(place))
			} else if wide := enclosing.MatchString(line); got && !wide {
				t.Fatalf("%s, for %s%s, leaves out %s", around, set.Host, set.Path, line)
			} else if got {
				in++
			} else if out++; wide {
				more++
			}
		}
	}
	if in < 1000 || out < 1000 || more < 30 {
		t.Errorf("%d are matched, %d are not, and %d more are enclosed", in, out, more)
	}
}

// What Plain matches is read alike everywhere: nothing percent-encoded, no dots that lead somewhere, no host that holds a target.
func TestPlain(t *testing.T) {
	plain := regexp.MustCompile(Plain)
	for line, want := range map[string]bool{
		"marram.example|/":               true,
		"marram.example|/rota/week.html": true,
		"marram.example|/rota/":          true,
		"marram.example|/rota?week=2":    true,
		"marram.example|/rota?next=/a//": true,
		"localhost|/-rota":               true,
		"marram.example.|/":              false,
		"marram.example:443|/":           false,
		"Marram.example|/":               false,
		"|/":                             false,
		"marram.example|":                false,
		"marram.example|rota":            false,
		"marram.example|/rota//week":     false,
		"marram.example|//rota":          false,
		"marram.example|/.git":           false,
		"marram.example|/rota/../x":      false,
		"marram.example|/r%6fta":         false,
		"marram.example|/rota;x":         false,
		"marram.example|/rota#x":         false,
		"marram.example|/rota\\x":        false,
		"marram.example|/röta":           false,
		"marram.example|/a|/b":           false,
		"marram.example|/a?b|/c":         false,
		"a|/b|/":                         false,
	} {
		if got := plain.MatchString(line); got != want {
			t.Errorf("%s: %v", line, got)
		}
	}
	for _, text := range []string{"/ä", "/a b", "/a;b", "/a'b", "/a$b/**"} {
		pattern, err := ParsePattern(text, Rules{})
		if err != nil {
			t.Fatal(err)
		}
		if e, ok := (Set{Path: pattern}).Expression(); ok {
			t.Errorf("%s, which Plain matches nothing of, has %s", text, e)
		}
	}
}

// A pattern with several gaps is enclosed by what stands before the first; one gap, and ** at the end, are left as they are.
func TestEnclosing(t *testing.T) {
	for pattern, want := range map[string]string{
		"/a/*/b":     "/a/*/b",
		"/a/*b*/c":   "/a/**",
		"/a/**/b":    "/a/**/b",
		"/a/**/b/**": "/a/**/b/**",
		"/**/b/**/c": "/**",
		"/a/**":      "/a/**",
		"/a/*/*/*":   "/a/*/*/*",
	} {
		got, _ := mustSet(t, "", pattern, "").Enclosing()
		if exact, _ := mustSet(t, "", want, "").Expression(); got != exact {
			t.Errorf("%s is enclosed by %s, want %s", pattern, got, exact)
		}
	}
}
