package pages

import (
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
)

var sayKey = regexp.MustCompile(`(?:Say|Strong|linked) "([a-z.-]+)"`)

// No page that people meet says anything that has no key. The one of a walk is for stewards alone, as the console is.
func TestTemplatesSayNothingByThemselves(t *testing.T) {
	names, err := filepath.Glob("templates/*.html")
	if err != nil || len(names) < 10 {
		t.Fatalf("%d templates, %v", len(names), err)
	}
	tags, actions := regexp.MustCompile(`<[^>]*>`), regexp.MustCompile(`(?s)\{\{.*?\}\}`)
	said := 0
	for _, name := range names {
		if filepath.Base(name) == "walk.html" {
			continue
		}
		text, err := os.ReadFile(name)
		if err != nil {
			t.Fatal(err)
		}
		said += len(sayKey.FindAllString(string(text), -1))
		left := tags.ReplaceAllString(actions.ReplaceAllString(string(text), ""), "")
		for line := range strings.Lines(left) {
			if line = strings.Trim(line, " \n·,()"); line != "" {
				t.Errorf("%s says %q in one language only", name, line)
			}
		}
	}
	if said < 60 {
		t.Errorf("only %d sentences", said)
	}
}

// Nothing is given out as looks but what the policy names, and as what cannot do anything.
func TestLooksFiles(t *testing.T) {
	dir := t.TempDir()
	for name, text := range map[string]string{
		"mark.svg": "<svg xmlns='http://www.w3.org/2000/svg'><script>alert(1)</script></svg>", "own.css": "h1 { color: red }",
		"doors.key": "secret",
	} {
		if err := os.WriteFile(filepath.Join(dir, name), []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	s := serve(t, "looks: { accent: \"#7a1f3d\", logo: ./mark.svg, style: ./own.css, favicon: ./nowhere.png }\nwords: { en: { "+
		"sign-in.title: \"Keepers' <b>entrance</b>\" } }\n", func(name string) string { return filepath.Join(dir, name) })
	ask := func(path string) *http.Response {
		w := httptest.NewRecorder()
		r := httptest.NewRequest("GET", path, nil)
		r.Header.Set("Sec-Fetch-Mode", "navigate")
		r.Header.Set("Sec-Fetch-Dest", "document")
		s.ServeHTTP(w, r)
		return w.Result()
	}
	for path, want := range map[string]struct {
		status int
		kind   string
	}{
		"/door/assets/looks/logo": {200, "image/svg+xml"}, "/door/assets/looks/style": {200, "text/css"},
		"/door/assets/looks.css":     {200, "text/css"},
		"/door/assets/looks/favicon": {404, "text/html"}, "/door/assets/looks/doors.key": {404, "text/html"},
		"/door/assets/looks/..%2fdoors.key": {400, "text/html"}, "/door/assets/looks/": {404, "text/html"},
	} {
		answer := ask(path)
		if answer.StatusCode != want.status || !strings.HasPrefix(answer.Header.Get("Content-Type"), want.kind) {
			t.Errorf("%s: %d %s", path, answer.StatusCode, answer.Header.Get("Content-Type"))
		}
		if want.kind == "image/svg+xml" && !strings.Contains(answer.Header.Get("Content-Security-Policy"), "sandbox") {
			t.Errorf("%s can run scripts: %v", path, answer.Header)
		}
	}
	w := httptest.NewRecorder()
	s.ServeHTTP(w, httptest.NewRequest("GET", "/door/sign-in", nil))
	page := w.Body.String()
	for _, want := range []string{`<h1>Keepers&#39; &lt;b&gt;entrance&lt;/b&gt;</h1>`, `href="/door/assets/looks.css?v=`,
		`href="/door/assets/looks/style?v=`, `src="/door/assets/looks/logo?v=`} {
		if !strings.Contains(page, want) {
			t.Errorf("no %s in\n%s", want, page)
		}
	}
}
