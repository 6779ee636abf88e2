package place

import (
	"errors"
	"slices"
	"strings"
	"testing"
)

// An address is taken apart if it is one of the web; what is none stays whole, so that it is refused.
func TestSplitTarget(t *testing.T) {
	for target, want := range map[string][3]string{
		"/rota/?week=3":                  {"", "/rota/", "week=3"},
		"http://marram.example/rota?a?b": {"marram.example", "/rota", "a?b"},
		"HTTPS://marram.example":         {"marram.example", "/", ""},
		"ftp://marram.example/rota":      {"", "ftp://marram.example/rota", ""},
		"marram.example/rota":            {"", "marram.example/rota", ""},
	} {
		if host, path, query := SplitTarget(target); [3]string{host, path, query} != want {
			t.Errorf("%s: %q %q %q", target, host, path, query)
		}
	}
}

// The limits of names and patterns hold to the letter.
func TestLimits(t *testing.T) {
	long := strings.Repeat("A.", 127) + "B" // 255 bytes, read with care for its capitals
	for _, host := range []string{long, long + ":65535"} {
		if name, err := readHost(host); err != nil || name != strings.ToLower(long) {
			t.Errorf("%d bytes: %v", len(host), err)
		}
	}
	for _, host := range []string{long + "B:65535", "A..b", "A.b..c", "A.", ".A"} {
		if name, err := readHost(host); (err != nil) != (host != "A.") {
			t.Errorf("%q is read as %q (%v)", host, name, err)
		}
	}
	var wrong *Unreadable
	if _, err := readHost("[::1]x"); !errors.As(err, &wrong) || wrong.Offset != 5 {
		t.Errorf("%+v", err)
	}
	name := strings.Repeat("a.", 126) + "b" // 253
	if _, err := ParseHost(name); err != nil {
		t.Error(err)
	}
	if _, err := ParseHost("a" + name); err == nil {
		t.Error("a host of a policy may have 254 characters")
	}
	if _, err := ParsePattern("/"+strings.Repeat("ä", MaxPattern-1), Rules{}); err != nil {
		t.Error(err)
	}
	if _, err := ParsePattern("/"+strings.Repeat("ä", MaxPattern), Rules{}); err == nil {
		t.Errorf("a pattern may have more than %d characters", MaxPattern)
	}
}

// Methods are compared letter by letter, so they are written in one way.
func TestMethodsAreTokens(t *testing.T) {
	for method, fits := range map[string]bool{
		"PROPFIND": true, "M-SEARCH": true, "X9": true, "gET": false, "GeT": false, "GE T": false, "GET\x00": false, "G(T": false,
		"": false, "Ä": false,
	} {
		if _, err := Read(method, "marram.example", "/", Rules{}); (err == nil) != fits {
			t.Errorf("%q: %v", method, err)
		}
	}
}

// A segment that any server can be asked for needs no care.
func TestPlainSegments(t *testing.T) {
	for text, plain := range map[string]bool{"azAZ09": true, "_~!&()*+,=:@-.": true, "a b": false, "ä": false, "a;b": false, "a'b": false} {
		if isPlain(text) != plain {
			t.Errorf("%q: %v", text, !plain)
		}
	}
}

// Segments may be longer than a word of 64 positions, and all that they come to is found.
func TestPartsOfLongSegments(t *testing.T) {
	for n := 60; n < 70; n++ {
		for _, before := range []string{"", strings.Repeat("b", 64)} {
			texts := []string{"/" + strings.Repeat("a", n) + "*", "/" + strings.Repeat("a", n-1) + "*c", "/" + before + "*"}
			var sets []Set
			for _, text := range texts {
				sets = append(sets, mustSet(t, "", text, ""))
			}
			m, _ := NewMatcher(sets)
			parts, err := m.Parts(1_000_000)
			if err != nil {
				t.Fatal(err)
			}
			for i := range texts {
				if !slices.ContainsFunc(parts, func(p Part) bool { return slices.Contains(p.Covering, int32(i)) }) {
					t.Errorf("%d letters, %d before: no part is in %s", n, len(before), texts[i])
				}
			}
		}
	}
}

// An example of a pattern is in it, however deep it is.
func TestExamples(t *testing.T) {
	for _, text := range []string{"/", "/a", "/a/b/c", "/a/*/c", "/**", "/a/**/b*c/d"} {
		p, err := ParsePattern(text, Rules{})
		if err != nil {
			t.Fatal(err)
		}
		if example := p.Example(); !p.Covers(example) {
			t.Errorf("%s: %q is no example", text, example)
		}
	}
}
