package e2e

import (
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"
)

// The road that every developer walks first.
func TestTheRoad(t *testing.T) {
	p := newPerson(t, lamp.URL)
	p.is("/", 200, "")
	p.is("/visit/tours/", 200, "")
	p.is("/rota/", 303, "/door/sign-in?next=%2Frota%2F")
	if a := p.signIn("walt", walt, "/rota/"); a.status != 303 || a.location != "/rota/" {
		t.Fatalf("signing in: %d %s", a.status, a.location)
	}
	p.is("/rota/", 200, "")
	p.is("/office/", 403, "")
	p.is("/log/", 303, "/rota/ask/")
	if a := p.get("/office/"); !strings.Contains(a.body, "the role trustee") || !strings.Contains(a.body, "walt") {
		t.Errorf("the refusal does not say why: %s", a.body)
	}
	if a := p.get("/recordings/", "Accept", "text/html"); a.status != 303 || a.location != "/door/unlock?next=%2Frecordings%2F" {
		t.Errorf("a volunteer at the recordings, which a pass opens: %d %s", a.status, a.location)
	}

	keeper := newPerson(t, lamp.URL)
	if a := keeper.signIn("Ines", ines, ""); a.location != "/log/" {
		t.Errorf("the keeper lands on %s", a.location)
	}
	if a := keeper.get("/log/"); a.status != 200 || !strings.Contains(a.body, "first watch") ||
		a.header.Get("Cache-Control") != "private, no-store" {
		t.Errorf("the keeper at the log: %d %v", a.status, a.header)
	}

	// After signing out the same cookie is worthless.
	at, _ := url.Parse(lamp.URL)
	cookies := p.http.Jar.Cookies(at)
	if a := p.do("POST", "/door/sign-out", ""); a.status != 303 || a.location != "/" {
		t.Errorf("signing out: %d %s", a.status, a.location)
	}
	p.http.Jar.SetCookies(at, cookies)
	p.is("/rota/", 303, "/door/sign-in?next=%2Frota%2F")
}

func TestAnswersForScriptsAndPrograms(t *testing.T) {
	p := newPerson(t, lamp.URL)
	for name, headers := range map[string][]string{
		"script": {"Sec-Fetch-Mode", "cors", "Sec-Fetch-Dest", "empty"}, "program": {"Accept", "application/json"},
	} {
		a := p.get("/press/", headers...)
		if a.status != 401 || a.location != "" || a.header.Get("Content-Type") != "application/problem+json" ||
			!strings.HasPrefix(a.header.Get("WWW-Authenticate"), "Session ") {
			t.Errorf("%s: %d %v", name, a.status, a.header)
		}
	}
	if a := p.get("/door/api/v1/people", "Accept", "application/json"); a.status != 401 {
		t.Errorf("the API answers a stranger: %d", a.status)
	}
	p.signIn("tobias", tobias, "")
	if a := p.get("/door/api/v1/people", "Accept", "application/json"); a.status != 403 {
		t.Errorf("the API answers a trustee: %d", a.status)
	}
}

func TestSignInFailures(t *testing.T) {
	p := newPerson(t, lamp.URL)
	wrong := p.signIn("walt", "not-the-password", "/rota/")
	unknown := p.signIn("nobody-here", "not-the-password", "/rota/")
	if wrong.status != 422 || wrong.body != strings.ReplaceAll(unknown.body, "nobody-here", "walt") {
		t.Error("a stranger can tell who has an account")
	}
	if !strings.Contains(wrong.body, `value="walt"`) || !strings.Contains(wrong.body, `name="next" value="/rota/"`) ||
		strings.Contains(wrong.body, "not-the-password") {
		t.Errorf("the form does not keep the name and the page: %s", wrong.body)
	}
	if a := p.signIn("", "", ""); a.status != 422 {
		t.Errorf("an empty form: %d", a.status)
	}
	if a := p.signIn(`"><script>alert(1)</script>`, "x", ""); strings.Contains(a.body, "<script>") {
		t.Error("the typed name is not escaped")
	}
	if a := p.do("POST", "/door/sign-in", "username=walt&password="+strings.Repeat("x", 100_000)); a.status != 400 {
		t.Errorf("a very long form: %d", a.status)
	}
	if a := p.do("POST", "/door/sign-in", "username=walt&password="+strings.Repeat("x", 5000)); a.status != 422 {
		t.Errorf("a very long password: %d", a.status)
	}
}

func TestSignInLeadsToOwnPagesOnly(t *testing.T) {
	p := newPerson(t, lamp.URL)
	for next, want := range map[string]string{
		"//evil.example/": "/rota/", "https://evil.example/": "/rota/", "/visit/../rota/ask/?week=3": "/rota/ask/?week=3",
	} {
		if a := p.signIn("walt", walt, next); a.status != 303 || a.location != want {
			t.Errorf("next %q leads to %d %q", next, a.status, a.location)
		}
	}
}

func TestCookie(t *testing.T) {
	p := newPerson(t, lamp.URL)
	set := p.signIn("walt", walt, "").header.Get("Set-Cookie")
	token, attributes, _ := strings.Cut(strings.TrimPrefix(set, "ostiarius-session="), ";")
	if attributes != " Path=/; HttpOnly; SameSite=Lax" || len(token) != 43 {
		t.Errorf("cookie %q", set)
	}
	// A new token at each sign-in, and the old one ends with it.
	again := p.signIn("walt", walt, "").header.Get("Set-Cookie")
	if strings.Contains(again, token) {
		t.Error("the token stays the same")
	}
	stranger := newPerson(t, lamp.URL)
	for _, cookie := range []string{
		"ostiarius-session=" + token, "ostiarius-session=", "ostiarius-session=yes", "ostiarius-session=" + strings.Repeat("A", 43),
		"ostiarius-session=" + strings.Repeat("A", 5000), "__Host-ostiarius-session=" + token, `ostiarius-session="' OR 1=1 --"`,
	} {
		if a := stranger.get("/rota/", "Cookie", cookie); a.status != 303 {
			t.Errorf("cookie %.60q: %d", cookie, a.status)
		}
	}
	fresh, _, _ := strings.Cut(again, ";")
	if a := stranger.get("/rota/", "Cookie", fresh); a.status != 200 {
		t.Errorf("the new token: %d", a.status)
	}
	if a := stranger.get("/rota/", "Cookie", fresh+"; ostiarius-session=planted"); a.status != 303 {
		t.Errorf("two cookies of the name: %d", a.status)
	}
	remembered := p.do("POST", "/door/sign-in", url.Values{"username": {"walt"}, "password": {walt}, "remember": {"yes"}}.Encode())
	if c := remembered.header.Get("Set-Cookie"); !strings.Contains(c, "Max-Age=2592000;") {
		t.Errorf("a remembered session: %s", c)
	}
}

func TestCrossOriginIsRefused(t *testing.T) {
	p := newPerson(t, lamp.URL)
	p.signIn("walt", walt, "")
	for _, headers := range [][]string{{"Origin", "https://evil.example"}, {"Sec-Fetch-Site", "cross-site"}, {"Origin", "null"}} {
		if a := p.do("POST", "/door/sign-in", "username=walt&password="+walt, headers...); a.status != 403 || a.header.Get("Set-Cookie") != "" {
			t.Errorf("sign-in with %v: %d", headers, a.status)
		}
		if a := p.do("POST", "/door/sign-out", "", headers...); a.status != 403 {
			t.Errorf("sign-out with %v: %d", headers, a.status)
		}
	}
	p.is("/rota/", 200, "")
	if a := p.get("/door/sign-out"); a.status != 200 {
		t.Errorf("asking for the sign-out page: %d", a.status)
	}
	p.is("/rota/", 200, "") // a GET has changed nothing
}

// A hidden page and a missing one must not be told apart.
func TestHiddenLooksMissing(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	write(t, dir, "site/secret/index.html", "the secret")
	write(t, dir, "doors.yaml", "sources: [{path: /, files: ./site}]\ndoors: [{path: /**, admit: public}, {path: /secret/**, admit: "+
		"{role: steward}, otherwise: hide}]\n")
	s := start(t, dir)
	p := newPerson(t, s.URL)
	for _, way := range [][3]string{
		{"GET", "/", "text/html"}, {"GET", "/", "application/json"}, {"HEAD", "/", "text/html"}, {"POST", "/", "text/html"},
		{"DELETE", "/", "application/json"},
		{"GET", "", "text/html"}, {"GET", "/index.html", "text/html"}, {"GET", "/index.html/", "text/html"},
		{"POST", "/index.html", "text/html"}, {"OPTIONS", "/x", "text/html"},
	} {
		accept := way[0] + " " + way[1] + " " + way[2]
		hidden, missing := p.do(way[0], "/secret"+way[1], "", "Accept", way[2]), p.do(way[0], "/nothing"+way[1], "", "Accept", way[2])
		hidden.header.Del("Date")
		missing.header.Del("Date")
		if hidden.status != 404 || hidden.status != missing.status || hidden.body != missing.body {
			t.Errorf("%s: %d %q and %d %q", accept, hidden.status, hidden.body, missing.status, missing.body)
		}
		for name := range hidden.header {
			if hidden.header.Get(name) != missing.header.Get(name) || len(hidden.header) != len(missing.header) {
				t.Errorf("%s: headers %v and %v", accept, hidden.header, missing.header)
			}
		}
	}
}

func TestFiles(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	write(t, dir, "site/index.html", "<h1>first</h1>")
	write(t, dir, "site/a.txt", "0123456789")
	write(t, dir, "site/sub/index.html", "sub")
	write(t, dir, "site/empty/.keep", "")
	write(t, dir, "site/.git/config", "secret")
	write(t, dir, "site/.env", "secret")
	write(t, dir, "site/name with space & é.txt", "odd")
	write(t, dir, "outside/secret.txt", "secret")
	for link, to := range map[string]string{
		"out": "../outside", "out.txt": "../outside/secret.txt", "abs.txt": "/etc/hostname", "in.txt": "a.txt",
	} {
		if err := os.Symlink(to, filepath.Join(dir, "site", link)); err != nil {
			t.Fatal(err)
		}
	}
	write(t, dir, "doors.yaml", "sources: [{path: /, files: ./site}]\nunlisted: public\ndoors: [{path: /never, admit: nobody}]\n")
	s := start(t, dir)
	p := newPerson(t, s.URL)
	for _, test := range []struct {
		path     string
		status   int
		location string
		body     string
	}{
		{"/", 200, "", "<h1>first</h1>"},
		{"/index.html", 301, "./", ""},
		{"/a.txt", 200, "", "0123456789"},
		{"/a.txt/", 301, "../a.txt", ""},
		{"/sub", 301, "sub/", ""},
		{"/sub?x=1", 301, "sub/?x=1", ""},
		{"/sub/", 200, "", "sub"},
		{"/sub/index.html", 301, "./", ""},
		{"/empty/", 404, "", ""},
		{"/nothing", 404, "", ""},
		{"/.git/config", 404, "", ""},
		{"/.env", 404, "", ""},
		{"/%2eenv", 404, "", ""},
		{"/out/secret.txt", 404, "", ""},
		{"/out.txt", 404, "", ""},
		{"/abs.txt", 404, "", ""},
		{"/in.txt", 200, "", "0123456789"},
		{"/name%20with%20space%20&%20%C3%A9.txt", 200, "", "odd"},
		{"/a.txt/b", 404, "", ""},
	} {
		a := p.get(test.path)
		if a.status != test.status || a.location != test.location || test.body != "" && a.body != test.body ||
			strings.Contains(a.body, "secret") {
			t.Errorf("%s: %d %q %q", test.path, a.status, a.location, a.body)
		}
	}
	if a := p.get("/a.txt", "Range", "bytes=2-4"); a.status != 206 || a.body != "234" || a.header.Get("Content-Range") != "bytes 2-4/10" {
		t.Errorf("range: %d %q", a.status, a.body)
	}
	if a := p.get("/a.txt", "Range", "bytes=99-"); a.status != 416 {
		t.Errorf("range beyond the end: %d", a.status)
	}
	first := p.get("/a.txt")
	if a := p.get("/a.txt", "If-Modified-Since", first.header.Get("Last-Modified")); a.status != 304 {
		t.Errorf("conditional: %d", a.status)
	}
	if ct := first.header.Get("Content-Type"); ct != "text/plain; charset=utf-8" {
		t.Errorf("content type %q", ct)
	}
	if a := p.do("HEAD", "/a.txt", ""); a.status != 200 || a.body != "" || a.header.Get("Content-Length") != "10" {
		t.Errorf("HEAD: %d %v", a.status, a.header)
	}
	if a := p.do("POST", "/a.txt", "x=1"); a.status != 405 || a.header.Get("Allow") != "GET, HEAD" {
		t.Errorf("POST: %d %v", a.status, a.header)
	}
}

// The policy is changed in one file, while the service runs.
func TestPolicyIsTakenWhenSaved(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	write(t, dir, "site/a.txt", "open")
	policy := func(admit string) string {
		return "sources: [{path: /, files: ./site}]\ndoors: [{path: /**, admit: " + admit + "}]\n"
	}
	write(t, dir, "doors.yaml", policy("nobody"))
	s := start(t, dir)
	p := newPerson(t, s.URL)
	p.is("/a.txt", 403, "")
	write(t, dir, "doors.yaml", policy("public"))
	eventually(t, func() bool { return p.get("/a.txt").status == 200 })
	write(t, dir, "doors.yaml", policy("nobdy"))
	eventually(t, func() bool { return strings.Contains(s.Log(), "stays active") })
	p.is("/a.txt", 200, "")
	write(t, dir, "doors.yaml", policy("signed-in"))
	eventually(t, func() bool { return p.get("/a.txt").status == 303 })
}

// A page that wants a fresh proof asks for the password once more, and goes on.
func TestProvingAgain(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	write(t, dir, "site/vault.html", "the vault")
	write(t, dir, "site/open.html", "open")
	write(t, dir, "doors.yaml", "sources: [{path: /, files: ./site}]\ndoors:\n  - { path: /vault.html, admit: { proof-within: 2s } }\n")
	s := start(t, dir)
	run(t, "seven-brass-prisms\n", "people", "add", "ines", "--password-stdin", "--data", s.Data)
	p := newPerson(t, s.URL)
	p.is("/vault.html?x=1", 303, "/door/sign-in?next=%2Fvault.html%3Fx%3D1")
	p.is("/door/prove-again?next=%2Fvault.html", 303, "/door/sign-in?next=%2Fvault.html")
	p.signIn("ines", "seven-brass-prisms", "")
	p.is("/vault.html", 200, "")
	eventually(t, func() bool { return p.get("/vault.html").status == 303 })
	p.is("/vault.html?x=1", 303, "/door/prove-again?next=%2Fvault.html%3Fx%3D1")
	p.is("/open.html", 200, "") // still signed in
	if a := p.get("/door/prove-again?next=//evil.example"); a.status != 200 || strings.Contains(a.body, "evil") ||
		!strings.Contains(a.body, "ines") {
		t.Errorf("the form: %d %s", a.status, a.body)
	}
	if a := p.do("POST", "/door/prove-again", "password=wrong-password&next=/vault.html"); a.status != 422 ||
		!strings.Contains(a.body, "not the password of ines") || !strings.Contains(a.body, `value="/vault.html"`) {
		t.Errorf("a wrong password: %d %s", a.status, a.body)
	}
	p.is("/vault.html", 303, "/door/prove-again?next=%2Fvault.html")
	if a := p.do("POST", "/door/prove-again", "password=seven-brass-prisms&next=/vault.html"); a.status != 303 || a.location != "/vault.html" {
		t.Errorf("the right password: %d %s", a.status, a.location)
	}
	p.is("/vault.html", 200, "")
	stranger := newPerson(t, s.URL)
	if a := stranger.do("POST", "/door/prove-again?next=%2Fvault.html",
		"password=seven-brass-prisms&next=/vault.html"); a.location != "/door/sign-in?next=%2Fvault.html&unsent" {
		t.Errorf("a stranger proves again: %d %s", a.status, a.location)
	}
}

// On a site without letter case the own pages work, and are as closed as elsewhere.
func TestOwnPagesWithoutCase(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	write(t, dir, "site/Index.html", "x")
	write(t, dir, "doors.yaml", "case: insensitive\nroles: {Keeper: }\nsources: [{path: /, files: ./site}]\ndoors: [{path: /, admit: "+
		"public}]\n")
	s := start(t, dir)
	run(t, "amber-lantern-shelf\n", "people", "add", "agnes", "--role", "steward", "--role", "Keeper", "--password-stdin", "--data", s.Data)
	p := newPerson(t, s.URL)
	for _, path := range []string{"/door/console/", "/DOOR/console/", "/door/API/v1/people", "/Door/Api/v1/people"} {
		if a := p.get(path); a.status != 303 {
			t.Errorf("a stranger at %s: %d", path, a.status)
		}
	}
	p.signIn("agnes", "amber-lantern-shelf", "/")
	page := p.get("/door/console/").body
	_, script, _ := strings.Cut(page, `src="./`)
	script, _, _ = strings.Cut(script, `"`)
	if a := p.get("/door/console/" + script); script == "" || a.status != 200 ||
		!strings.Contains(a.header.Get("Content-Type"), "javascript") {
		t.Errorf("the console's script %q: %d %v", script, a.status, a.header)
	}
	_, mark, _ := strings.Cut(p.get("/door/console/", "Sec-Fetch-Mode", "navigate", "Sec-Fetch-Dest", "document").body,
		`name="proof" content="`)
	mark, _, _ = strings.Cut(mark, `"`)
	if a := p.do("DELETE", "/door/api/v1/people/agnes/grants/Keeper", "", "X-Requested-With", "test", "Ostiarius-Proof",
		mark); a.status != 204 {
		t.Errorf("a role with capitals: %d %s", a.status, a.body)
	}
	p.is("/INDEX.html", 301, "./")
}

// A network is that of the client; forwarding headers count only from declared peers.
func TestNetworks(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	write(t, dir, "site/hut.html", "the hut")
	write(t, dir, "site/here.html", "here")
	write(t, dir, "doors.yaml", "sources: [{path: /, files: ./site}]\ndoors:\n  - { path: /hut.html, admit: { network: [192.0.2.0/24, "+
		"'2001:db8::/32'] } }\n  - { path: /here.html, admit: { network: 127.0.0.0/8 } }\n")
	plain, behind := newPerson(t, start(t, dir).URL), newPerson(t, start(t, dir, "--trusted-peer", "127.0.0.1").URL)
	standard := newPerson(t, start(t, dir, "--trusted-peer", "127.0.0.1", "--address-from", "forwarded").URL)
	for _, test := range []struct {
		p             *person
		path          string
		header, value string
		status        int
	}{
		{plain, "/here.html", "", "", 200},
		{plain, "/hut.html", "", "", 403},
		{plain, "/hut.html", "X-Forwarded-For", "192.0.2.7", 403},
		{plain, "/hut.html", "Forwarded", "for=192.0.2.7", 403},
		{behind, "/hut.html", "X-Forwarded-For", "192.0.2.7", 200},
		{behind, "/hut.html", "Forwarded", `for="[2001:db8::7]"`, 403}, // a stranger's; it was not named
		{standard, "/hut.html", "Forwarded", `for="[2001:db8::7]"`, 200},
		{standard, "/hut.html", "X-Forwarded-For", "192.0.2.7", 403},
		{behind, "/hut.html", "X-Forwarded-For", "192.0.2.7, 198.51.100.1", 403}, // the first is the client's own claim
		{behind, "/here.html", "X-Forwarded-For", "198.51.100.1", 403},
		{behind, "/hut.html", "X-Forwarded-For", "nonsense", 403},
	} {
		headers := []string{test.header, test.value}
		if test.header == "" {
			headers = nil
		}
		if a := test.p.get(test.path, headers...); a.status != test.status {
			t.Errorf("%s with %s %s: %d, want %d", test.path, test.header, test.value, a.status, test.status)
		}
	}
	// The scheme too is believed from peers only: it decides about the cookie.
	for p, want := range map[*person]string{plain: "ostiarius-session=", behind: "__Host-ostiarius-session="} {
		if a := p.do("POST", "/door/sign-out", "", "X-Forwarded-Proto", "https"); !strings.HasPrefix(a.header.Get("Set-Cookie"), want) {
			t.Errorf("the cookie is %q, want %q", a.header.Get("Set-Cookie"), want)
		}
	}
}

// write writes a file below dir.
func write(t *testing.T, dir, name, text string) {
	t.Helper()
	path := filepath.Join(dir, name)
	if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(path, []byte(text), 0o644); err != nil {
		t.Fatal(err)
	}
}

// start serves the policy dir/doors.yaml until the test ends.
func start(t *testing.T, dir string, args ...string) *Process {
	t.Helper()
	data, err := os.MkdirTemp("", "data") // short: it holds a socket
	if err != nil {
		t.Fatal(err)
	}
	s, err := Start(append([]string{"serve", "--policy", filepath.Join(dir, "doors.yaml"), "--listen", "127.0.0.1:0", "--data", data},
		args...)...)
	if err != nil {
		t.Fatal(err)
	}
	s.Data = data
	t.Cleanup(func() {
		if err := s.Stop(); err != nil {
			t.Error(err)
		}
		os.RemoveAll(data)
	})
	return s
}

// eventually waits until done, which asks the outside and takes its time.
func eventually(t *testing.T, done func() bool) {
	t.Helper()
	for deadline := time.Now().Add(time.Minute); time.Now().Before(deadline); {
		if done() {
			return
		}
		time.Sleep(5 * time.Millisecond)
	}
	t.Fatal("it did not come to pass")
}
