package source

import (
	"io"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"ostiarius/core/policy"
	"ostiarius/service/guard"
)

// tree is a site in which each file holds its own path.
var tree = []string{"/index.html", "/a", "/b.html", "/visit/index.html", "/visit/Tours.html", "/office/index.html", "/office/keys", "/%", "/a b", "/é", "/...", "/x;y", "/a%41"}

// guarded puts a guard, with the office closed, in front of such a site. The returned
// function sends a raw request target and returns the place that was judged, the status
// and the body.
func guarded(t testing.TB, settings string) func(target string) (judged string, status int, body string, ok bool) {
	t.Helper()
	dir := t.TempDir()
	for _, name := range tree {
		path := filepath.Join(dir, name)
		if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(path, []byte(name), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	book, findings := policy.Parse("doors.yaml", []byte(settings+"unlisted: public\ndoors: [{path: /office/**, admit: nobody}]"))
	if book == nil {
		t.Fatal(findings)
	}
	files, err := NewFiles(dir, "/", book.Rules.FoldCase, http.NotFoundHandler())
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { files.Close() })
	judged := ""
	g := &guard.Guard{
		House: func() *guard.House {
			return &guard.House{Book: book, Site: http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
				judged = guard.TurnOf(r).Decision.Place.Path
				files.ServeHTTP(w, r)
			})}
		},
		Who:    func(http.ResponseWriter, *http.Request) (policy.Visitor, error) { return policy.Visitor{}, nil },
		Own:    http.NotFoundHandler(),
		Turned: func(w http.ResponseWriter, r *http.Request, t *guard.Turn) { w.WriteHeader(t.Answer.Status) },
	}
	return func(target string) (string, int, string, bool) {
		u, err := url.ParseRequestURI(target)
		if err != nil {
			return "", 0, "", false // net/http answers 400 itself
		}
		r := httptest.NewRequest("GET", "/", nil)
		r.URL, r.RequestURI = u, target
		w := httptest.NewRecorder()
		judged = ""
		g.ServeHTTP(w, r)
		body, _ := io.ReadAll(w.Result().Body)
		return judged, w.Code, string(body), true
	}
}

// What is served is what was judged: a file's own path, or its directory's.
func same(judged, served string, fold bool) bool {
	if fold {
		judged, served = strings.ToLower(judged), strings.ToLower(served)
	}
	return served == judged || served == strings.TrimSuffix(judged, "/")+"/index.html"
}

func TestServedIsJudged(t *testing.T) {
	ask := guarded(t, "")
	for target, want := range map[string]string{
		"/": "/index.html", "/a": "/a", "/visit/": "/visit/index.html", "/visit/Tours.html": "/visit/Tours.html", "/%61": "/a", "//a": "/a", "/visit/../a": "/a",
		"/a%20b": "/a b", "/%C3%A9": "/é", "/%25": "/%", "/.../../a": "/a",
	} {
		if judged, status, body, _ := ask(target); status != 200 || body != want || !same(judged, body, false) {
			t.Errorf("%s: %d, judged %q, served %q", target, status, judged, body)
		}
	}
	for target, want := range map[string]int{
		"/office/": 403, "/office/keys": 403, "/visit/../office/keys": 403, "/visit/tours.html": 404, "/OFFICE/keys": 404, "/a%2541": 400, "/x;y": 400, "/a/": 301, "/visit": 301, "/visit/index.html": 301, "/index.html": 301,
	} {
		if _, status, body, _ := ask(target); status != want {
			t.Errorf("%s: %d %q, want %d", target, status, body, want)
		}
	}
}

func TestServedIsJudgedWhateverTheCase(t *testing.T) {
	ask := guarded(t, "case: insensitive\n")
	for _, target := range []string{"/visit/tours.html", "/VISIT/TOURS.HTML", "/Visit/%54ours.html"} {
		if judged, status, body, _ := ask(target); status != 200 || body != "/visit/Tours.html" || judged != "/visit/tours.html" {
			t.Errorf("%s: %d, judged %q, served %q", target, status, judged, body)
		}
	}
	for _, target := range []string{"/Office/Keys", "/OFFICE/keys", "/o\u017fFICE/keys", "/office/\u212Aeys", "/%6FFFICE/KEYS"} {
		if _, status, body, _ := ask(target); status == 200 {
			t.Errorf("%s serves %q", target, body)
		}
	}
}

func FuzzServedIsJudged(f *testing.F) {
	for _, target := range slices.Concat(tree, []string{"/visit/%2e%2e/office/keys", "//office/keys", "/office%2fkeys", "/OFFICE/keys", "http://x/office/keys", "/a?b", "/x%3By"}) {
		f.Add(target)
	}
	plain, folded, semicolons := guarded(f, ""), guarded(f, "case: insensitive\n"), guarded(f, "semicolons: allowed\n")
	f.Fuzz(func(t *testing.T, target string) {
		for i, ask := range []func(string) (string, int, string, bool){plain, folded, semicolons} {
			judged, status, body, ok := ask(target)
			if !ok || status != 200 {
				continue
			}
			if !same(judged, body, i == 1) || strings.HasPrefix(body, "/office") {
				t.Fatalf("%q was judged as %q and served %q", target, judged, body)
			}
		}
	})
}

func TestCookiesOfOursStayHere(t *testing.T) {
	h := http.Header{"Cookie": {"a=1; ours=secret; b=2", " ours=other;c=3;;", "ours=x"}}
	withoutCookies(h, []string{"ours", "__Host-ours"})
	if got := h.Values("Cookie"); !slices.Equal(got, []string{"a=1; b=2; c=3"}) {
		t.Errorf("%q", got)
	}
}

func TestCheckFindsMissingDirectories(t *testing.T) {
	dir := t.TempDir()
	os.WriteFile(filepath.Join(dir, "file"), nil, 0o644)
	os.Mkdir(filepath.Join(dir, "site"), 0o755)
	text := "sources:\n  - { path: /, files: site }\n  - { path: /a, files: nowhere }\n  - { path: /b, files: file }\n  - { path: /c, proxy: 'http://127.0.0.1:1' }\ndoors: [{path: /, admit: public}]"
	book, findings := policy.Parse("doors.yaml", []byte(text))
	if book == nil {
		t.Fatal(findings)
	}
	found := Check(book, filepath.Join(dir, "doors.yaml"))
	if len(found) != 2 || found[0].Line != 3 || !strings.Contains(found[0].Message, "no directory") || found[1].Line != 4 || !strings.Contains(found[1].Message, "is a file") {
		t.Errorf("%+v", found)
	}
}

func TestProxyKeepsOursToItself(t *testing.T) {
	behind := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Cache-Control", "public, max-age=3600")
		for name, values := range r.Header {
			for _, v := range values {
				w.Header().Add("Got", name+": "+v)
			}
		}
	}))
	defer behind.Close()
	proxy, err := NewProxy(behind.URL, slog.New(slog.DiscardHandler), "ours")
	if err != nil {
		t.Fatal(err)
	}
	r := httptest.NewRequest("GET", "/x", nil)
	r.RemoteAddr = "192.0.2.7:99"
	r.Header = http.Header{
		"Cookie": {"ours=secret; theirs=1"}, "Ostiarius-User": {"agnes"}, "Ostiarius_roles": {"steward"}, "OSTIARIUS-Door": {"x"},
		"X-Forwarded-For": {"203.0.113.1"}, "Forwarded": {"for=203.0.113.1"}, "X-Forwarded-Proto": {"https"},
	}
	w := httptest.NewRecorder()
	proxy.ServeHTTP(w, r)
	got := strings.Join(w.Result().Header.Values("Got"), "\n")
	for _, never := range []string{"secret", "agnes", "steward", "203.0.113.1", "https", "Door"} {
		if strings.Contains(got, never) {
			t.Errorf("the server behind received %q:\n%s", never, got)
		}
	}
	for _, want := range []string{"Cookie: theirs=1", "X-Forwarded-For: 192.0.2.7"} {
		if !strings.Contains(got, want) {
			t.Errorf("the server behind did not receive %q:\n%s", want, got)
		}
	}
	if w.Header().Get("Cache-Control") != "" {
		t.Errorf("caches may keep a guarded answer: %q", w.Header().Get("Cache-Control"))
	}
	behind.Close()
	w = httptest.NewRecorder()
	proxy.ServeHTTP(w, httptest.NewRequest("GET", "/x", nil))
	if w.Code != http.StatusBadGateway || strings.Contains(w.Body.String(), "127.0.0.1") {
		t.Errorf("a server that is gone: %d %s", w.Code, w.Body)
	}
}
