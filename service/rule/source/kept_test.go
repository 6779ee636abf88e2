package source

import (
	"fmt"
	"math/rand/v2"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"runtime"
	"strings"
	"testing"
	"time"

	"ostiarius/core/policy"
	"ostiarius/core/policy/read"
	"ostiarius/service/base/guard"
)

// guardedFiles serves a directory behind doors, for the visitor whose name is in a field of the request; by a clock that is a minute
// ahead, so that files have settled.
func guardedFiles(t *testing.T, dir, doors string, of *policy.Source) (*Files, http.Handler) {
	t.Helper()
	book, findings := read.Parse("doors.yaml", []byte("roles: {keeper: }\n"+doors))
	if book == nil {
		t.Fatal(findings)
	}
	files, err := NewFiles(dir, of, false, http.NotFoundHandler(), nil)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { files.Close() })
	ahead := time.Minute
	files.now = func() time.Time {
		ahead += looked // and what was looked at is looked at again
		return time.Now().Add(ahead)
	}
	house := &guard.House{Book: book, Site: files}
	return files, &guard.Guard{
		House: func() *guard.House { return house },
		Who: func(_ http.Header, r *http.Request) (policy.Visitor, error) {
			return policy.ParseVisitor(r.Header.Get("Visitor"))
		},
		Turned: func(w http.ResponseWriter, r *http.Request, t *guard.TurnedAway) { w.WriteHeader(t.Answer.Status) },
	}
}

func ask(h http.Handler, path string, headers ...string) *httptest.ResponseRecorder {
	w, r := httptest.NewRecorder(), httptest.NewRequest("GET", path, nil)
	r.Header.Set("Visitor", "anonymous")
	for i := 0; i+1 < len(headers); i += 2 {
		r.Header.Set(headers[i], headers[i+1])
	}
	h.ServeHTTP(w, r)
	return w
}

// Whatever happens to the files of a directory, what is kept in memory answers as the directory itself does.
func TestKeptFilesAreAsTheyAre(t *testing.T) {
	t.Parallel()
	dir, outside := t.TempDir(), t.TempDir()
	keeps, kept := guardedFiles(t, dir, "doors: [{path: /**, admit: public}]", &policy.Source{Path: "/"})
	plain, bare := guardedFiles(t, dir, "doors: [{path: /**, admit: public}]", &policy.Source{Path: "/"})
	plain.kept = nil
	random := rand.New(rand.NewPCG(10, 19))
	names := []string{"a.html", "b.txt", "d/index.html", "d/e.css", "index.html", "d", "a.html.gz", "d/e.css.br"}
	addresses := []string{"/a.html", "/b.txt", "/d/", "/d", "/d/index.html", "/d/e.css", "/", "/index.html", "/a.html/", "/a.html.gz"}
	size, fromMemory := 0, 0
	fresh := func() []byte { size++; return []byte(strings.Repeat("x", size)) } // no two are of one length
	if err := os.WriteFile(filepath.Join(outside, "secret.html"), []byte("outside"), 0o644); err != nil {
		t.Fatal(err)
	}
	for range 400 {
		name := filepath.Join(dir, names[random.IntN(len(names))])
		other := filepath.Join(dir, names[random.IntN(len(names))])
		os.MkdirAll(filepath.Dir(name), 0o755)
		what := random.IntN(9)
		switch what { // some of these fail, as they may
		case 0, 1, 2:
			os.WriteFile(name, fresh(), 0o644)
		case 3:
			os.WriteFile(name+"~", fresh(), 0o644)
			os.Rename(name+"~", name)
		case 4:
			os.Rename(name, other)
		case 5:
			os.RemoveAll(name)
		case 6:
			os.RemoveAll(name)
			os.Symlink(other, name)
		case 7: // moved out of the directory, and a way to it left behind
			to := filepath.Join(outside, fmt.Sprint(size))
			if os.Rename(name, to) == nil {
				os.Symlink(to, name)
			}
		case 8:
			os.RemoveAll(name)
			os.Link(filepath.Join(outside, "secret.html"), name)
		}
		for range 3 {
			for _, address := range addresses {
				headers := []string{"Accept-Encoding", []string{"", "gzip", "br, gzip"}[random.IntN(3)]}
				got, want := ask(kept, address, headers...), ask(bare, address, headers...)
				if got.Code != want.Code || got.Body.String() != want.Body.String() {
					t.Fatalf("after %d of %s: %s answers %d with %d bytes, want %d with %d", what, name, address, got.Code, got.Body.Len(),
						want.Code, want.Body.Len())
				}
				for _, field := range []string{"Etag", "Content-Type", "Content-Length", "Last-Modified", "Content-Encoding", "Vary",
					"Accept-Ranges", "Location"} {
					if got.Header().Get(field) != want.Header().Get(field) {
						t.Fatalf("%s: %s is %q, want %q", address, field, got.Header().Values(field), want.Header().Values(field))
					}
				}
			}
		}
		fromMemory = max(fromMemory, len(keeps.kept.files))
	}
	if runtime.GOOS == "linux" && fromMemory < 3 {
		t.Errorf("at most %d files were kept", fromMemory)
	}
}

// A file that was written a moment ago could be written again without looking otherwise.
func TestFreshFilesAreNotKept(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	if err := os.WriteFile(filepath.Join(dir, "a.html"), []byte("one"), 0o644); err != nil {
		t.Fatal(err)
	}
	files, h := guardedFiles(t, dir, "doors: [{path: /**, admit: public}]", &policy.Source{Path: "/"})
	files.now = time.Now
	for range 5 {
		ask(h, "/a.html")
	}
	if len(files.kept.files) != 0 {
		t.Error("it is kept")
	}
}

func TestKeptFilesHaveABound(t *testing.T) {
	t.Parallel()
	k := newKept()
	for i := range 3 * mostKept / small {
		for range 2 {
			name := fmt.Sprint(i, ".html")
			k.put(name, nil, &opened{mark: mark{size: small}}, make([]byte, small), time.Now())
		}
	}
	if k.size > mostKept || k.size < mostKept/2 || len(k.files)*small != k.size {
		t.Errorf("%d bytes in %d files", k.size, len(k.files))
	}
}

// What lies beside a file in a smaller form is sent to those who take it, if it is as new, and if they may have it.
func TestFilesBeside(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	start := time.Now().Add(-time.Hour)
	for i, name := range []string{"a.css", "a.css.br", "a.css.gz", "old.css.gz", "old.css", "b.css", "b.css.gz", "closed.css",
		"closed.css.gz", "report", "report.gz", "index.html", "index.html.zst"} {
		path := filepath.Join(dir, name)
		if err := os.WriteFile(path, []byte(name), 0o644); err != nil {
			t.Fatal(err)
		}
		if err := os.Chtimes(path, start, start.Add(time.Duration(i)*time.Second)); err != nil {
			t.Fatal(err)
		}
	}
	_, h := guardedFiles(t, dir, "doors: [{path: /**, admit: public}, {path: /b.css.gz, admit: {role: keeper}}, {path: [/closed.css, "+
		"/closed.css.gz], admit: {role: keeper}}]",
		&policy.Source{Path: "/", Cache: time.Hour})
	for _, test := range []struct{ path, accepts, visitor, body, coding, cache string }{
		{"/a.css", "gzip, br", "anonymous", "a.css.br", "br", "public, max-age=3600"},
		{"/a.css", "gzip;q=0.5, br;q=0", "anonymous", "a.css.gz", "gzip", "public, max-age=3600"},
		{"/a.css", "", "anonymous", "a.css", "", "public, max-age=3600"},
		{"/a.css", "zstd, BR;Q=0.000, *", "anonymous", "a.css", "", "public, max-age=3600"},
		{"/old.css", "gzip", "anonymous", "old.css", "", "public, max-age=3600"},
		{"/b.css", "gzip", "anonymous", "b.css", "", "public, max-age=3600"},
		{"/b.css", "gzip", "role:keeper", "b.css", "", "public, max-age=3600"},
		{"/closed.css", "gzip", "role:keeper", "closed.css.gz", "gzip", "private, no-store"},
		{"/report", "gzip", "anonymous", "report", "", "public, max-age=3600"},
		{"/", "zstd", "anonymous", "index.html.zst", "zstd", "public, max-age=3600"},
	} {
		for range 4 { // from the directory, and from memory
			a := ask(h, test.path, "Accept-Encoding", test.accepts, "Visitor", test.visitor)
			if a.Code != 200 || a.Body.String() != test.body || a.Header().Get("Content-Encoding") != test.coding ||
				a.Header().Get("Cache-Control") != test.cache || a.Header().Get("Content-Length") != fmt.Sprint(len(test.body)) {
				t.Errorf("%s, %s: %d %q %v", test.path, test.accepts, a.Code, a.Body, a.Header())
			}
			if vary := strings.Join(a.Header().Values("Vary"), ", "); strings.Contains(vary, "Accept-Encoding") != (test.path != "/report") {
				t.Errorf("%s: it varies by %q", test.path, vary)
			}
		}
	}
	// A representation has a tag of its own, and parts of it are parts of it.
	plain, small := ask(h, "/a.css"), ask(h, "/a.css", "Accept-Encoding", "br")
	if plain.Header().Get("Etag") == small.Header().Get("Etag") {
		t.Error("one tag for two representations")
	}
	if a := ask(h, "/a.css", "Accept-Encoding", "br", "If-None-Match", small.Header().Get("Etag")); a.Code != 304 {
		t.Errorf("not changed: %d", a.Code)
	}
	if a := ask(h, "/a.css", "Accept-Encoding", "br", "Range", "bytes=6-"); a.Code != 206 || a.Body.String() != "br" {
		t.Errorf("a part: %d %q", a.Code, a.Body)
	}
	if a := ask(h, "/nothing.css", "Accept-Encoding", "br"); a.Code != 404 || a.Header().Get("Cache-Control") == "public, max-age=3600" {
		t.Errorf("%d %v", a.Code, a.Header())
	}
}
