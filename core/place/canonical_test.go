package place

import (
	"errors"
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

func TestReadRefusesMethods(t *testing.T) {
	for _, bad := range []string{"", "get", "Get", "GET /", "G\x00", "TRACE", "TRACK", "CONNECT"} {
		if _, err := Read(bad, "", "/", Rules{}); err == nil {
			t.Errorf("method %q was accepted", bad)
		}
	}
}

// What looks the same is one place, and what becomes a semicolon by that is one.
func TestOneFormOfLetters(t *testing.T) {
	for raw, want := range map[string]string{"/caf%C3%A9": "/café", "/cafe%CC%81": "/café", "/CAFE%CC%81": "/CAFÉ", "/%E2%84%AA": "/K"} {
		if got, _, err := Canonical(raw, Rules{}); got != want || err != nil {
			t.Errorf("%s: %q %v, want %q", raw, got, err, want)
		}
	}
	if got, _, err := Canonical("/CAFE%CC%81", Rules{FoldCase: true}); got != "/café" || err != nil {
		t.Errorf("folded: %q %v", got, err)
	}
	if got, _, err := Canonical("/a%CD%BEb", Rules{}); err == nil {
		t.Errorf("another way to write a semicolon: %q", got)
	}
	apart, err := ParsePattern("/cafe\u0301/*", Rules{})
	if err != nil || apart.String() != "/café/*" {
		t.Errorf("a pattern: %q %v", apart, err)
	}
}
