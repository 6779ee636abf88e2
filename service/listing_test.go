package service

import (
	"net/http/httptest"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"ostiarius/core/policy"
	"ostiarius/service/rule/inspect"
)

// A directory without a page of its own shows what a visitor may open there, if the policy says so; and where people are led with a
// password or a pass, something answers.
func TestListing(t *testing.T) {
	site := func(listing string) *Service {
		dir := t.TempDir()
		for name, text := range map[string]string{
			"site/index.html": "home", "site/downloads/b.txt": "b", "site/downloads/A.txt": "aa", "site/downloads/a b&<c>.txt": "c",
			"site/downloads/.secret": "d", "site/downloads/closed.txt": "e", "site/downloads/hidden.txt": "f",
			"site/downloads/más/x.bin":       strings.Repeat("x", 1_234_567),
			"site/downloads/with/index.html": "with", "site/empty/.keep": "", "site/kit/deep/first é?.pdf": "1", "site/kit/zz/last.pdf": "2",
			"outside.txt": "outside", "site/mixed/hidden/a.txt": "h",
		} {
			file := filepath.Join(dir, name)
			if err := os.MkdirAll(filepath.Dir(file), 0o755); err != nil {
				t.Fatal(err)
			}
			if err := os.WriteFile(file, []byte(text), 0o644); err != nil {
				t.Fatal(err)
			}
		}
		if err := os.Symlink("../../outside.txt", filepath.Join(dir, "site/downloads/out.txt")); err != nil {
			t.Fatal(err)
		}
		text := `roles: { keeper: }
shared: { press-kit: }
passes: { downloads: }
sources: [{ path: /, files: ./site` + listing + ` }]
unlisted: public
doors:
  - { path: /downloads/closed.txt, admit: nobody }
  - { path: /downloads/hidden.txt, admit: { role: keeper }, otherwise: hide }
  - { path: /kit/**, admit: { shared: press-kit } }
  - { path: /bought/**, admit: { pass: downloads } }
  - { path: /mixed/**, admit: { pass: downloads } }
  - { path: /mixed/hidden/**, admit: { role: keeper }, otherwise: hide }
`
		if err := os.WriteFile(filepath.Join(dir, "doors.yaml"), []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
		return openedIn(t, dir)
	}
	ask := func(s *Service, method, path string) *httptest.ResponseRecorder {
		r := httptest.NewRequest(method, path, nil)
		r.Header.Set("Sec-Fetch-Mode", "navigate")
		w := httptest.NewRecorder()
		s.handler.ServeHTTP(w, r)
		return w
	}
	found := func(s *Service, rule string) string {
		for _, f := range inspect.Check(s.policy.Book(), s.settings.Policy, inspect.Own{}) {
			if f.Rule == rule {
				return f.Message
			}
		}
		return ""
	}
	without, with := site(""), site(", listing: true")
	for _, path := range []string{"/downloads/", "/empty/"} {
		if a := ask(without, "GET", path); a.Code != 404 {
			t.Errorf("%s without listing: %d", path, a.Code)
		}
	}
	a := ask(with, "GET", "/downloads/")
	links := regexp.MustCompile(`<td><a href="([^"]+)">([^<]+)</a></td><td>([^<]+)</td>`).FindAllStringSubmatch(a.Body.String(), -1)
	var got []string
	for _, l := range links {
		got = append(got, strings.Join(l[1:], " "))
	}
	want := "./m%C3%A1s/ más/ Folder|./with/ with/ Folder|./a%20b&amp;%3Cc%3E.txt a b&amp;&lt;c&gt;.txt 1 B|./A.txt A.txt 2 B|./b.txt " +
		"b.txt 1 B"
	if shown := strings.Join(got, "|"); a.Code != 200 || shown != want {
		t.Errorf("%d\n%s\n%s", a.Code, shown, want)
	}
	if h := a.Header(); h.Get("Cache-Control") != "private, no-store" || strings.Contains(a.Body.String(), "outside") {
		t.Errorf("%v", h)
	}
	for _, l := range links { // what is listed can be had
		if a := ask(with, "GET", "/downloads/"+strings.ReplaceAll(strings.TrimPrefix(l[1], "./"), "&amp;", "&")); a.Code != 200 {
			t.Errorf("%s: %d", l[1], a.Code)
		}
	}
	for _, test := range []struct {
		method, path, says string
		status             int
	}{
		{"GET", "/downloads/m%C3%A1s/", "1.2 MB", 200}, {"GET", "/empty/", "nothing you can open", 200}, {"HEAD", "/downloads/", "", 200},
		{"POST", "/downloads/", "GET and HEAD", 405}, {"GET", "/nothing/", "Page not found", 404}, {"GET", "/downloads/with/", "with", 200},
		{"GET", "/downloads", "", 303}, {"GET", "/downloads/.secret/", "Page not found", 404},
	} {
		if a := ask(with, test.method, test.path); a.Code != test.status && !(test.status == 303 && a.Code/100 == 3) ||
			!strings.Contains(a.Body.String(), test.says) {
			t.Errorf("%s %s: %d %.300s", test.method, test.path, a.Code, a.Body)
		}
	}

	// Where people are led.
	for s, want := range map[*Service][2]string{
		without: {"/kit/deep/first%20%C3%A9%3F.pdf", "nothing answers at /kit/"}, with: {"/kit/", ""},
	} {
		if at := policy.Opened(s.policy.Book(), policy.Shared, "press-kit"); at != want[0] {
			t.Errorf("led to %s, want %s", at, want[0])
		}
		if says := found(s, "nothing-answers"); !strings.Contains(says, want[1]) || want[1] == "" && strings.Contains(says, "/kit") {
			t.Errorf("check says %q, want %q", says, want[1])
		}
	}
	for path, want := range map[string]string{
		"/kit": "/kit/deep/first%20%C3%A9%3F.pdf", "/downloads/b.txt": "/downloads/b.txt", "/nothing": "/nothing", "/mixed": "/mixed",
	} {
		if at := policy.LinkTo(without.policy.Book(), path); at != want {
			t.Errorf("a link to %s leads to %s, want %s", path, at, want)
		}
	}
	if says := found(with, "listed-to-all"); !strings.Contains(says, "/downloads/, /downloads/más/, /empty/") ||
		strings.Contains(says, "/kit") {
		t.Errorf("check says %q", says)
	}
}
