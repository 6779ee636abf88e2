package service

import (
	"compress/gzip"
	"crypto/sha256"
	"fmt"
	"html"
	"io"
	"net/http"
	"net/http/httptest"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"testing"
)

// What applications say of something missing, each in its own way. All of them say its name.
var missingPages = map[string]func(w http.ResponseWriter, r *http.Request){
	"a page": func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Content-Type", "text/html")
		w.WriteHeader(404)
		fmt.Fprintf(w, "<p>No <b>%s</b> here, %s", html.EscapeString(r.URL.Path), html.EscapeString(r.RequestURI))
	},
	"a page of another escaping": func(w http.ResponseWriter, r *http.Request) {
		w.WriteHeader(404)
		io.WriteString(w, strings.NewReplacer("'", "&#x27;", "&", "&amp;", "<", "&#60;", " ", "&nbsp;").Replace(r.URL.Path))
	},
	"a problem": func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Content-Type", "application/problem+json")
		w.WriteHeader(404)
		fmt.Fprintf(w, `{"instance":%q, "was":%+q}`, r.URL.EscapedPath(), r.URL.Path)
	},
	"packed, with a mark of the text": func(w http.ResponseWriter, r *http.Request) {
		text := "there is no " + r.URL.Path
		w.Header().Set("ETag", fmt.Sprintf(`"%x"`, sha256.Sum256([]byte(text))))
		w.Header().Set("Repr-Digest", fmt.Sprintf("sha-256=:%x:", sha256.Sum256([]byte(text))))
		w.Header().Set("Vary", "Accept-Encoding")
		if r.Header.Get("Accept-Encoding") != "gzip" {
			w.WriteHeader(404)
			io.WriteString(w, text)
			return
		}
		w.Header().Set("Content-Encoding", "gzip")
		w.WriteHeader(404)
		packed := gzip.NewWriter(w)
		io.WriteString(packed, text)
		packed.Close()
	},
	"in small and in capital letters": func(w http.ResponseWriter, r *http.Request) {
		w.WriteHeader(404)
		io.WriteString(w, strings.ToLower(r.URL.Path)+strings.ToUpper(r.URL.Path))
	},
	"in pieces, with fields behind": func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Trailer", "Took")
		w.WriteHeader(404)
		for _, piece := range strings.SplitAfter(r.URL.Path, "/") {
			io.WriteString(w, piece)
			http.NewResponseController(w).Flush()
		}
		w.Header().Set("Took", "3")
	},
	"by method and body": func(w http.ResponseWriter, r *http.Request) {
		body, _ := io.ReadAll(r.Body)
		if r.Method == "PUT" {
			w.Header().Set("Allow", "GET, POST")
			w.WriteHeader(405)
		} else {
			w.WriteHeader(404)
		}
		fmt.Fprintf(w, "%s %s %s %q", r.Method, r.URL.Path, r.Header.Get("Content-Type"), body)
	},
	"elsewhere": func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Location", r.URL.EscapedPath()+"/")
		w.WriteHeader(302)
	},
	"by its ending": func(w http.ResponseWriter, r *http.Request) {
		w.WriteHeader(404)
		fmt.Fprint(w, filepath.Ext(r.URL.Path), strings.Count(r.URL.Path, "/"), strings.HasPrefix(filepath.Base(r.URL.Path), "."))
	},
	"for everybody, with 200": func(w http.ResponseWriter, r *http.Request) { fmt.Fprint(w, "the application at ", r.URL.Path) },
}

// What is hidden behind a server is answered as the same server says of the same name when it is missing, and not hidden: whatever
// the name, the method and what is accepted.
func TestHiddenIsMissing(t *testing.T) {
	behind := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		w.Header()["Date"] = nil
		missingPages[r.Header.Get("Page")](w, r)
	}))
	defer behind.Close()
	site := func(hidden string) string {
		dir := t.TempDir()
		text := "roles: { keeper: }\nsources: [{ path: /, proxy: '" + behind.URL + "' }]\nunlisted: public\ndoors:\n  - { path: '" + hidden +
			"', admit: { role: keeper }, otherwise: hide }\n"
		if err := os.WriteFile(filepath.Join(dir, "doors.yaml"), []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
		front := httptest.NewServer(openedIn(t, dir).handler)
		t.Cleanup(front.Close)
		return front.URL
	}
	names := []string{"plan.html", "a", "Office", "it's", "o'brien & sons", "é", "<b>", "2026", ".env", "a.tar.gz", "'.html", "x/y/z",
		"x/", "ab-cd_ef",
		"Storm-Petrel/nest 7.txt", "日誌"}
	hiding, other := map[string]string{}, site("/hidden-elsewhere")
	for _, name := range names {
		first, _, _ := strings.Cut(name, "/")
		if hiding[first] == "" {
			hiding[first] = site("/open/" + strings.ReplaceAll(first, "'", "''") + "/**")
		}
	}
	client := &http.Client{Transport: &http.Transport{DisableCompression: true}, CheckRedirect: func(*http.Request, []*http.Request) error {
		return http.ErrUseLastResponse
	}}
	ask := func(site, name, page, method, accepts string) string {
		var body io.Reader
		if method != "GET" && method != "HEAD" {
			body = strings.NewReader("what=1")
		}
		r, err := http.NewRequest(method, site+(&url.URL{Path: "/open/" + name}).EscapedPath()+"?q="+url.QueryEscape(name), body)
		if err != nil {
			t.Fatal(err)
		}
		r.Host = "marram.example"
		r.Header = http.Header{"Page": {page}, "Content-Type": {"text/x-note"}}
		if accepts != "" {
			r.Header.Set("Accept-Encoding", accepts)
		}
		resp, err := client.Do(r)
		if err != nil {
			t.Fatal(err)
		}
		defer resp.Body.Close()
		text, err := io.ReadAll(resp.Body)
		resp.Header.Del("Date")
		if resp.StatusCode == 200 && method != "HEAD" { // see docs/proxying.md
			resp.Header.Del("Cache-Control")
		} else if resp.StatusCode == 200 {
			return ""
		}
		return fmt.Sprintln(resp.StatusCode, resp.Header, resp.ContentLength, resp.TransferEncoding, resp.Trailer, string(text), err)
	}
	for _, name := range names {
		for page := range missingPages {
			for _, method := range []string{"GET", "HEAD", "POST", "PUT", "DELETE", "OPTIONS"} {
				for _, accepts := range []string{"", "gzip", "gzip, br, zstd"} {
					first, _, _ := strings.Cut(name, "/")
					hidden, missing := ask(hiding[first], name, page, method, accepts), ask(other, name, page, method, accepts)
					if hidden != missing {
						t.Errorf("%q, %s, %s, %q:\n%s%s", name, page, method, accepts, hidden, missing)
					}
				}
			}
		}
	}
}
