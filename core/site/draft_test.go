package site

import (
	"math/rand/v2"
	"strings"
	"testing"

	"ostiarius/core/place"
	"ostiarius/core/policy"
	"ostiarius/core/policy/read"
)

func placesOf(paths ...string) (all []place.Place) {
	for _, p := range paths {
		slash := strings.HasSuffix(p, "/")
		if p != "/" {
			p = strings.TrimSuffix(p, "/")
		}
		all = append(all, place.Place{Method: "GET", Path: p, Slash: slash})
	}
	return all
}

func TestDraft(t *testing.T) {
	s := Sketch{Stance: Closed, Site: "Marram: Point", Files: "./public", From: "the files in ./public",
		Places: placesOf("/", "/news/", "/news/2026.html", "/style.css", "/about", "/admin/", "/admin/x", "/old/dump.sql",
			"/backup-2024.zip", "/a b/")}
	got := Draft(s)
	for _, want := range []string{
		"site: \"Marram: Point\"\n", "  - { path: /, files: ./public }\n", "  - { path: /**, admit: signed-in }",
		"  - { path: /backup-2024.zip, admit: nobody }", "# may be a backup\n",
		"  - { path: /old/dump.sql, admit: nobody }", "  # - { path: /, admit: public }", "  # - { path: /news/**, admit: public }",
		"# 2 pages\n", "  # - { path: /style.css, admit: public }", "# a file\n", "  # - { path: \"/a b/**\", admit: public }",
	} {
		if !strings.Contains(got, want) {
			t.Errorf("%q is missing in\n%s", want, got)
		}
	}
	if !strings.Contains(got, "  - { path: /admin/**, admit: signed-in }") || strings.Contains(got, "# - { path: /admin") {
		t.Errorf("administration is offered to everybody:\n%s", got)
	}
	// What is taken out of its comment works.
	for _, text := range []string{got, strings.ReplaceAll(got, "  # - ", "  - ")} {
		if book, findings := read.Parse("doors.yaml", []byte(text)); book == nil {
			t.Errorf("%v in\n%s", findings, text)
		}
	}
	s.Stance = Open
	book, findings := read.Parse("doors.yaml", []byte(Draft(s)))
	if book == nil {
		t.Fatal(findings)
	}
	for path, want := range map[string]policy.Outcome{
		"/": policy.Admit, "/news/2026.html": policy.Admit, "/admin/x": policy.Challenge, "/backup-2024.zip": policy.Refuse,
		"/old/dump.sql": policy.Refuse,
	} {
		if d := book.Decide(policy.Request{Method: "GET", Path: path}, &policy.Visitor{}); d.Outcome != want {
			t.Errorf("%s: %s", path, d.Outcome)
		}
	}
}

// Whatever there is, the draft has no errors, and nothing that worries is open.
func TestDraftsHaveNoErrors(t *testing.T) {
	random := rand.New(rand.NewPCG(15, 6))
	parts := []string{"a", "b c", "ü", "x*y", ".env", "backup", "id_rsa", "page.html", "#", "a: b", "\"q\"", "true", "12", "admin",
		"dump.sql", "{", "[x]", "it's", "~", "o.bak", "a,b", "%41", "a;b", "q?r", "secret%23"}
	for range 400 {
		var places []place.Place
		for range random.IntN(12) {
			path := ""
			for range 1 + random.IntN(3) {
				path += "/" + parts[random.IntN(len(parts))]
			}
			places = append(places, place.Place{Method: "GET", Path: path, Slash: random.IntN(2) == 0})
		}
		for _, stance := range []Stance{Closed, Open} {
			text := Draft(Sketch{Stance: stance, From: "a list", Places: places})
			for _, text := range []string{text, strings.ReplaceAll(text, "  # - ", "  - ")} {
				book, findings := read.Parse("doors.yaml", []byte(text))
				if book == nil {
					t.Fatalf("%v: %v in\n%s", places, findings, text)
				}
				for _, p := range places {
					d := book.Decide(policy.RequestFor(p), &policy.Visitor{})
					if d.Outcome == policy.Admit && Worry(p.Path) != "" {
						t.Fatalf("%v is open in\n%s", p, text)
					}
				}
			}
		}
	}
}

func TestReadLogLine(t *testing.T) {
	for line, want := range map[string]string{
		`192.0.2.7 - ines [25/Nov/2026:10:00:00 +0000] "GET /rota/?a=b HTTP/1.1" 200 512 "-" "Mozilla/5.0"`: "GET /rota/?a=b",
		`::1 - - [25/Nov/2026:10:00:00 +0000] "HEAD / HTTP/2.0" 304 0`:                                      "HEAD /",
		`x - - [d] "GET /a\"b\x1b HTTP/1.1" 404 0`:                                                          "GET /a\"b\x1b",
		`x - - [d] "GET /\\x41 HTTP/1.1" 200 0`:                                                             "GET /\\x41",
		`x - - [d] "GET / x y HTTP/1.1" 200 0`:                                                              "",
		`x - - [d] "\x16\x03\x01" 400 0`:                                                                    "",
		`x - - [d] "GET / HTTP/1.1 200 0`:                                                                   "",
		`x - - [d] "GET / HTTP/1.1" 99 0`:                                                                   "",
		`x - - [d] "GET / HTTP/1.1"`:                                                                        "",
		`x - - [d] "GET /\`:                                                                                 "",
		``:                                                                                                  "",
	} {
		method, target, _, ok := ReadLogLine(line)
		if got := method + " " + target; ok != (want != "") || ok && got != want {
			t.Errorf("%s: %q %v", line, got, ok)
		}
	}
}

func FuzzReadLogLine(f *testing.F) {
	f.Add(`192.0.2.7 - ines [25/Nov/2026:10:00:00 +0000] "GET /rota/ HTTP/1.1" 200 512 "-" "Mozilla/5.0"`)
	f.Add(`x - - [d] "GET /a\"b\x1b HTTP/1.1" 404 0`)
	f.Fuzz(func(t *testing.T, line string) {
		if method, target, status, ok := ReadLogLine(line); ok && (strings.Contains(method+target, " ") || status < 100 || status > 599) {
			t.Fatalf("%q: %q %q %d", line, method, target, status)
		}
	})
}
