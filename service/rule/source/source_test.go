package source

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/http"
	"net/http/httptest"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"testing/iotest"
	"time"

	"ostiarius/core/basic"
	"ostiarius/core/policy"
	"ostiarius/core/policy/read"
	"ostiarius/service/base/guard"
	"ostiarius/service/rule/inspect"
)

// tree is a site in which each file holds its own path.
var tree = []string{"/index.html", "/a", "/b.html", "/visit/index.html", "/visit/Tours.html", "/office/index.html", "/office/keys",
	"/%", "/a b", "/é", "/...", "/x;y", "/a%41"}

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
	book, findings := read.Parse("doors.yaml", []byte(settings+"unlisted: public\ndoors: [{path: /office/**, admit: nobody}]"))
	if book == nil {
		t.Fatal(findings)
	}
	files, err := NewFiles(dir, &policy.Source{Path: "/"}, book.Rules.FoldCase, http.NotFoundHandler(), nil)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { files.Close() })
	judged := ""
	g := &guard.Guard{
		House: func() *guard.House {
			return &guard.House{Book: book, Site: http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
				judged = guard.TurnOf(r).Place.Path
				files.ServeHTTP(w, r)
			})}
		},
		Who:    func(http.Header, *http.Request) (policy.Visitor, error) { return policy.Visitor{}, nil },
		Own:    http.NotFoundHandler(),
		Turned: func(w http.ResponseWriter, r *http.Request, t *guard.TurnedAway) { w.WriteHeader(t.Answer.Status) },
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
		"/": "/index.html", "/a": "/a", "/visit/": "/visit/index.html", "/visit/Tours.html": "/visit/Tours.html", "/%61": "/a",
		"//a": "/a", "/visit/../a": "/a",
		"/a%20b": "/a b", "/%C3%A9": "/é", "/%25": "/%", "/.../../a": "/a",
	} {
		if judged, status, body, _ := ask(target); status != 200 || body != want || !same(judged, body, false) {
			t.Errorf("%s: %d, judged %q, served %q", target, status, judged, body)
		}
	}
	for target, want := range map[string]int{
		"/office/": 403, "/office/keys": 403, "/visit/../office/keys": 403, "/visit/tours.html": 404, "/OFFICE/keys": 404, "/a%2541": 400,
		"/x;y": 400, "/a/": 301, "/visit": 301, "/visit/index.html": 301, "/index.html": 301,
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
	for _, target := range slices.Concat(tree,
		[]string{"/visit/%2e%2e/office/keys", "//office/keys", "/office%2fkeys", "/OFFICE/keys", "http://x/office/keys", "/a?b", "/x%3By"}) {
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
	withoutCookies(h, func(name string) bool { return name == "ours" || name == "__Host-ours" })
	if got := h.Values("Cookie"); !slices.Equal(got, []string{"a=1; b=2; c=3"}) {
		t.Errorf("%q", got)
	}
}

// proxied returns what a server behind sees and answers, for a request that a guard has
// handed on for a visitor.
func proxied(t *testing.T, behind, policyText string, v policy.Visitor, r *http.Request) *httptest.ResponseRecorder {
	t.Helper()
	book, findings := read.Parse("doors.yaml", []byte(policyText))
	if book == nil {
		t.Fatal(findings)
	}
	s := book.Sources[0]
	s.Proxy = behind
	proxy, err := NewProxy(s,
		ProxyOptions{PolicyFile: "doors.yaml", Own: func(name string) bool { return name == "ours" }, Log: slog.New(slog.DiscardHandler),
			Failed: func(w http.ResponseWriter, r *http.Request, status int) { w.WriteHeader(status) }})
	if err != nil {
		t.Fatal(err)
	}
	g := &guard.Guard{
		House: func() *guard.House { return &guard.House{Book: book, Site: proxy} },
		Who:   func(http.Header, *http.Request) (policy.Visitor, error) { return v, nil },
		Present: func(_ *http.Request, headers []string, _ policy.Wanted, _ *guard.Turn) (bool, error) {
			_, ours, err := basic.Read(headers)
			return ours, err
		},
		Own:    http.NotFoundHandler(),
		Turned: func(w http.ResponseWriter, r *http.Request, t *guard.TurnedAway) { w.WriteHeader(t.Answer.Status) },
	}
	w := httptest.NewRecorder()
	r.RequestURI = r.URL.RequestURI()
	g.ServeHTTP(w, r.WithContext(context.WithValue(r.Context(), http.ServerContextKey, &http.Server{}))) // as in a real server
	return w
}

func TestProxyHandsOnWhoIsCalling(t *testing.T) {
	behind := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Cache-Control", "public, max-age=3600")
		w.Header().Set("X-Frame-Options", "DENY")
		w.Header()["Set-Cookie"] = []string{"ours=planted; Path=/", "theirs=2", " ours =planted", "ours", "= ours=planted", "Ours=theirs"}
		w.Header().Add("Got", "path: "+r.URL.Path)
		w.Header().Add("Got", "query: "+r.URL.RawQuery)
		for name, values := range r.Header {
			for _, v := range values {
				w.Header().Add("Got", name+": "+v)
			}
		}
	}))
	const text = "roles: {keeper: {includes: volunteer}, volunteer: }\nsources: [{path: /log, proxy: 'http://x', %s}]\nheaders: " +
		"{X-Content-Type-Options: , X-Own: yes indeed}\ndoors:\n  - {path: /log/**, admit: {role: volunteer}}\n  - {path: /log/basic, " +
		"admit: {role: volunteer}, ask: basic}\n  - {path: /log/on, admit: {role: volunteer}, ask: basic, forward-credentials: true}\n"
	ask := func(path, option string) string {
		r := httptest.NewRequest("GET", path, nil)
		r.RemoteAddr = "192.0.2.7:99"
		r.Header = http.Header{
			"Cookie": {"ours=secret; theirs=1"}, "Ostiarius-User": {"agnes"}, "Ostiarius_roles": {"steward"}, "OSTIARIUS-Door": {"x"},
			"ostiarius-x":     {"y"},
			"X-Forwarded-For": {"203.0.113.1"}, "X_Forwarded_For": {"203.0.113.1"}, "Forwarded": {"for=203.0.113.1"},
			"X-Forwarded-Proto": {"https"}, "X-Real-Ip": {"203.0.113.1"},
			"Authorization": {"Basic YTpi"},
		}
		v := policy.Visitor{SignedIn: true, Account: "inés", Roles: []string{"keeper"}}
		w := proxied(t, behind.URL, fmt.Sprintf(text, option), v, r)
		if w.Code != 200 {
			t.Fatalf("%s: %d", path, w.Code)
		}
		if h := w.Header(); h.Get("Cache-Control") != "private, no-store" || h.Get("X-Frame-Options") != "DENY" ||
			len(h["X-Frame-Options"]) != 1 || h.Get("X-Own") != "yes indeed" ||
			h.Get("X-Content-Type-Options") != "" || h.Get("Referrer-Policy") != "strict-origin-when-cross-origin" {
			t.Errorf("%s: %v", path, h)
		}
		if set := w.Header()["Set-Cookie"]; !slices.Equal(set, []string{"theirs=2", "Ours=theirs"}) {
			t.Errorf("%s: the server behind sets %q", path, set)
		}
		return strings.Join(w.Result().Header.Values("Got"), "\n")
	}
	got := ask("/log/a%20b?c=d;e&100%&c=f", "timeout: 5s")
	for _, never := range []string{"secret", "agnes", "steward", "203.0.113.1", "https", "Ostiarius-X"} {
		if strings.Contains(got, never) {
			t.Errorf("the server behind received %q:\n%s", never, got)
		}
	}
	for _, want := range []string{"path: /log/a b", "query: c=d;e&100%&c=f\n", "Cookie: theirs=1", "X-Forwarded-For: 192.0.2.7",
		"X-Forwarded-Proto: http", `Forwarded: for=192.0.2.7;proto=http;host="example.com"`,
		"Ostiarius-User: in%C3%A9s", "Ostiarius-Roles: keeper, volunteer", "Ostiarius-Door: /log/%2A%2A", "Authorization: Basic YTpi"} {
		if !strings.Contains(got, want) {
			t.Errorf("the server behind did not receive %q:\n%s", want, got)
		}
	}
	if got := ask("/log/basic", "strip-prefix: true"); !strings.Contains(got, "path: /basic\n") ||
		!strings.Contains(got, "X-Forwarded-Prefix: /log") || strings.Contains(got, "Authorization") {
		t.Errorf("stripped, with credentials for the door:\n%s", got)
	}
	if got := ask("/log/on", "strip-prefix: false"); !strings.Contains(got, "Authorization: Basic YTpi") {
		t.Errorf("credentials that are handed on:\n%s", got)
	}
	if got := ask("/log", "strip-prefix: true"); !strings.Contains(got, "path: /\n") {
		t.Errorf("the prefix itself:\n%s", got)
	}
}

// Servers behind that die, hang, answer garbage, or are not there: the right status, and the
// next request works.
func TestProxyFailures(t *testing.T) {
	behind := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		switch how := strings.TrimPrefix(r.URL.Path, "/"); how {
		case "die", "garbage", "half":
			conn, _, err := w.(http.Hijacker).Hijack()
			if err != nil {
				t.Error(err)
				return
			}
			conn.Write([]byte(map[string]string{
				"garbage": "what is it?\r\n\r\n", "half": "HTTP/1.1 200 OK\r\nContent-Length: 100\r\n\r\nhalf",
			}[how]))
			conn.Close()
		case "hang":
			<-r.Context().Done()
		case "circle":
			http.Redirect(w, r, r.URL.Path, http.StatusFound)
		default:
			io.WriteString(w, "well")
		}
	}))
	defer behind.Close()
	const text = "sources: [{path: /, proxy: 'http://x', timeout: 200ms}]\ndoors: [{path: /**, admit: public}]"
	ask := func(address, how string) (code int, body string) {
		defer func() {
			if recover() == http.ErrAbortHandler { // the connection is cut, since the answer had begun
				code = 0
			}
		}()
		w := proxied(t, address, text, policy.Visitor{}, httptest.NewRequest("GET", "/"+how, nil))
		return w.Code, w.Body.String()
	}
	for want, code := range map[string]int{"die": 502, "garbage": 502, "hang": 504, "half": 0, "circle": 302} {
		if got, _ := ask(behind.URL, want); got != code {
			t.Errorf("%s: %d, want %d", want, got, code)
		}
		if got, body := ask(behind.URL, ""); got != 200 || body != "well" {
			t.Errorf("after %s: %d %q", want, got, body)
		}
	}
	// What a client sends badly is its own fault.
	for _, bad := range []struct {
		err  error
		code int
	}{{io.ErrUnexpectedEOF, 400}, {os.ErrDeadlineExceeded, 408}} {
		r := httptest.NewRequest("POST", "/", io.MultiReader(strings.NewReader("fog"), iotest.ErrReader(bad.err)))
		if w := proxied(t, behind.URL, text, policy.Visitor{}, r); w.Code != bad.code {
			t.Errorf("a body that ends with %v: %d, want %d", bad.err, w.Code, bad.code)
		}
	}
	for _, address := range []string{"http://127.0.0.1:1", "unix:/nowhere/at-all.sock", "http://name.invalid"} {
		if got, body := ask(address, ""); got != 502 || strings.Contains(body, "127.0.0.1") {
			t.Errorf("%s: %d %q", address, got, body)
		}
	}
}

// behind is what a server behind does, without a connection to it.
type behind func(*http.Request) (*http.Response, error)

func (b behind) RoundTrip(r *http.Request) (*http.Response, error) { return b(r) }

// FuzzHandOn: whatever a request claims, the server behind is told who is calling by Ostiarius
// alone, gets no cookie of ours, and sees no field that it could take for another's word.
func FuzzHandOn(f *testing.F) {
	f.Add("Ostiarius_User", "agnes", "Upgrade", "h2c", "ours=1; theirs=2", true)
	f.Add("x-forwarded_for", "203.0.113.1", "Connection", "Ostiarius-User, Cookie", ";;=;ours", true)
	f.Add("FORWARDED", "for=x", "Remote.User", "agnes", "a=b", false)
	book, findings := read.Parse("doors.yaml", []byte("sources: [{path: /, proxy: 'http://x'}]\ndoors: [{path: /**, admit: public}]"))
	if book == nil {
		f.Fatal(findings)
	}
	refused := false // such as a protocol of odd letters to change to
	proxy, err := NewProxy(book.Sources[0],
		ProxyOptions{PolicyFile: "doors.yaml", Own: func(name string) bool { return name == "ours" }, Log: slog.New(slog.DiscardHandler),
			Failed: func(w http.ResponseWriter, r *http.Request, status int) { refused = true }})
	if err != nil {
		f.Fatal(err)
	}
	var out *http.Request
	proxy.proxy.Transport = behind(func(r *http.Request) (*http.Response, error) {
		out = r
		return &http.Response{StatusCode: http.StatusNoContent, Header: http.Header{}, Body: http.NoBody, Request: r}, nil
	})
	f.Fuzz(func(t *testing.T, name, value, other, otherValue, cookie string, signedIn bool) {
		v := policy.Visitor{}
		if signedIn {
			v = policy.Visitor{SignedIn: true, Account: "ines"}
		}
		out, refused = nil, false
		g := &guard.Guard{
			House: func() *guard.House {
				return &guard.House{Book: book, Site: http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
					proxy.ServeHTTP(w, r)
				})}
			},
			Who: func(http.Header, *http.Request) (policy.Visitor, error) { return v, nil },
		}
		r := httptest.NewRequest("GET", "/", nil)
		r.Header = http.Header{"Cookie": {cookie}}
		r.Header[name], r.Header[other] = []string{value}, []string{otherValue}
		g.ServeHTTP(httptest.NewRecorder(), r)
		if refused {
			return
		}
		if out == nil {
			t.Fatal("the request was not handed on")
		}
		told := map[string]string{
			"X-Forwarded-For": "192.0.2.1", "X-Forwarded-Host": "example.com", "X-Forwarded-Proto": "http",
			"Forwarded": `for=192.0.2.1;proto=http;host="example.com"`, "Ostiarius-Door": "/%2A%2A",
		}
		if signedIn {
			told["Ostiarius-User"], told["Ostiarius-Roles"] = "ines", ""
		}
		for key, values := range out.Header {
			if want, ours := told[key]; ours {
				if len(values) != 1 || values[0] != want {
					t.Fatalf("%s is %q", key, values)
				}
				continue
			}
			plain := strings.ToLower(strings.Map(func(r rune) rune {
				if r < 0x80 && (r|0x20 >= 'a' && r|0x20 <= 'z' || r >= '0' && r <= '9') {
					return r
				}
				return '-'
			}, key))
			if strings.HasPrefix(plain, "ostiarius-") || strings.HasPrefix(plain, "x-forwarded-") || plain == "forwarded" ||
				plain == "remote-user" || plain == "x-original-url" || plain == "upgrade" || plain == "http2-settings" {
				t.Fatalf("%q comes through", key)
			}
		}
		for pair := range strings.SplitSeq(out.Header.Get("Cookie"), ";") {
			if key, _, _ := strings.Cut(strings.TrimSpace(pair), "="); strings.TrimSpace(key) == "ours" {
				t.Fatalf("%q keeps our cookie: %q", cookie, out.Header.Get("Cookie"))
			}
		}
	})
}

// Small files and large ones are read in different ways; nobody notices.
func TestFilesOfEverySize(t *testing.T) {
	dir := t.TempDir()
	content := bytes.Repeat([]byte("the lamp is lit, "), 100_000)
	sizes := []int{0, 1, 600, 4096, small - 1, small, small + 1, 1 << 20}
	for _, size := range sizes {
		if err := os.WriteFile(filepath.Join(dir, fmt.Sprintf("%d.txt", size)), content[:size], 0o644); err != nil {
			t.Fatal(err)
		}
	}
	files, err := NewFiles(dir, &policy.Source{Path: "/"}, false, http.NotFoundHandler(), nil)
	if err != nil {
		t.Fatal(err)
	}
	defer files.Close()
	server := httptest.NewUnstartedServer(files)
	server.EnableHTTP2 = true
	server.StartTLS()
	defer server.Close()
	plain := httptest.NewServer(files)
	defer plain.Close()
	for _, server := range []*httptest.Server{plain, server} {
		get := func(method string, size int, header, value string) (*http.Response, []byte) {
			r, _ := http.NewRequest(method, fmt.Sprintf("%s/%d.txt", server.URL, size), nil)
			if header != "" {
				r.Header.Set(header, value)
			}
			resp, err := server.Client().Do(r)
			if err != nil {
				t.Fatal(err)
			}
			defer resp.Body.Close()
			body, err := io.ReadAll(resp.Body)
			if err != nil {
				t.Fatal(err)
			}
			return resp, body
		}
		for _, size := range sizes {
			resp, body := get("GET", size, "", "")
			if resp.StatusCode != 200 || !bytes.Equal(body, content[:size]) || resp.ContentLength != int64(size) ||
				resp.Header.Get("Content-Type") != "text/plain; charset=utf-8" {
				t.Errorf("%s, %d bytes: %d, %d bytes, %v", resp.Proto, size, resp.StatusCode, len(body), resp.Header)
			}
			if resp, body := get("HEAD", size, "", ""); resp.ContentLength != int64(size) || len(body) != 0 {
				t.Errorf("%s, HEAD of %d bytes: %d", resp.Proto, size, resp.ContentLength)
			}
			if again, _ := get("GET", size, "If-Modified-Since", resp.Header.Get("Last-Modified")); again.StatusCode != 304 {
				t.Errorf("%s, %d bytes, not modified: %d", resp.Proto, size, again.StatusCode)
			}
			if size < 600 {
				continue
			}
			if resp, body := get("GET", size, "Range", "bytes=10-509"); resp.StatusCode != 206 || !bytes.Equal(body, content[10:510]) {
				t.Errorf("%s, a part of %d bytes: %d, %d bytes", resp.Proto, size, resp.StatusCode, len(body))
			}
			if resp, body := get("GET", size, "Range", "bytes=-5,0-3"); resp.StatusCode != 206 ||
				!bytes.Contains(body, content[size-5:size]) || !bytes.Contains(body, content[:4]) {
				t.Errorf("%s, two parts of %d bytes: %d, %d bytes", resp.Proto, size, resp.StatusCode, len(body))
			}
		}
	}
}

// A server behind that turns out to be this service is not asked, and what it has handed on itself does
// not go round.
func TestNoLoops(t *testing.T) {
	web, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer web.Close()
	own := inspect.Own{Listens: func() []net.Addr { return []net.Addr{web.Addr()} }}
	conn, err := net.Dial("tcp", web.Addr().String())
	if refused, err := refuse(conn, err, own); err != errLoop || refused != nil {
		t.Errorf("a connection to itself: %v", err)
	}
	// What this service has handed on itself does not go round.
	r := httptest.NewRequest("GET", "/", nil)
	r.Header.Set("Via", "1.1 elsewhere, 1.1 "+pseudonym)
	if w := proxied(t, "http://127.0.0.1:1", "sources: [{path: /, proxy: 'http://x'}]\ndoors: [{path: /**, admit: public}]",
		policy.Visitor{}, r); w.Code != 508 {
		t.Errorf("a loop: %d", w.Code)
	}
}

// A file is told from what it was before, so that a download which was cut off goes on only with the same one; and
// some are saved instead of shown.
func TestDownloads(t *testing.T) {
	dir := t.TempDir()
	path := filepath.Join(dir, "fog bell.WAV")
	for name, size := range map[string]int{"fog bell.WAV": 100_000, "small.txt": 10} {
		if err := os.WriteFile(filepath.Join(dir, name), make([]byte, size), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	files, err := NewFiles(dir, &policy.Source{Path: "/", Attachment: []string{"wav"}}, false, http.NotFoundHandler(), nil)
	if err != nil {
		t.Fatal(err)
	}
	defer files.Close()
	get := func(name string, headers ...string) *httptest.ResponseRecorder {
		r := httptest.NewRequest("GET", "/"+url.PathEscape(name), nil)
		for i := 0; i < len(headers); i += 2 {
			r.Header.Set(headers[i], headers[i+1])
		}
		w := httptest.NewRecorder()
		files.ServeHTTP(w, r)
		return w
	}
	whole := get("fog bell.WAV")
	tag := whole.Header().Get("ETag")
	if whole.Code != 200 || !strings.HasPrefix(tag, `"`) ||
		whole.Header().Get("Content-Disposition") != `attachment; filename="fog bell.WAV"` || whole.Header().Get("Accept-Ranges") != "bytes" {
		t.Errorf("%d %v", whole.Code, whole.Header())
	}
	if w := get("small.txt"); w.Header().Get("Content-Disposition") != "" || w.Header().Get("ETag") == "" || w.Header().Get("ETag") == tag {
		t.Errorf("%v", w.Header())
	}
	if w := get("fog bell.WAV", "If-None-Match", tag); w.Code != 304 {
		t.Errorf("the same: %d", w.Code)
	}
	if w := get("fog bell.WAV", "Range", "bytes=90000-", "If-Range", tag); w.Code != 206 || w.Body.Len() != 10_000 {
		t.Errorf("resumed: %d, %d bytes", w.Code, w.Body.Len())
	}
	if err := os.Chtimes(path, time.Time{}, time.Unix(1_700_000_000, 5)); err != nil {
		t.Fatal(err)
	}
	if w := get("fog bell.WAV", "Range", "bytes=90000-", "If-Range", tag); w.Code != 200 || w.Body.Len() != 100_000 ||
		w.Header().Get("ETag") == tag {
		t.Errorf("of another file: %d, %d bytes", w.Code, w.Body.Len())
	}
}
