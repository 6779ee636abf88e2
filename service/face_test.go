package service

import (
	"log/slog"
	"net/http"
	"net/http/httptest"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"ostiarius/service/who/people"
	"ostiarius/store"
	"ostiarius/store/fresh"
)

// faced is a service with a site and a policy that says more, to be asked as a browser asks.
func faced(t *testing.T, more string) (s *Service, ask func(method, path, body string) *http.Response) {
	t.Helper()
	dir := t.TempDir()
	for name, text := range map[string]string{
		"doors.yaml": "roles: { keeper: }\nsources: [{ path: /, files: ./site }]\nunlisted: hide\ndoors:\n  - { path: [/, /lost, " +
			"/entry, /sorry], admit: public }\n  - { path: /log, admit: { role: keeper } }\n  - { path: /secret, admit: signed-in, otherwise: " +
			"hide }\n" + more,
		"site/index.html": "first", "site/lost": "<h1>lost at sea</h1>", "site/entry": "the site's own entrance", "site/sorry": "sorry",
		"site/log": "the log", "site/secret": "a secret",
	} {
		file := filepath.Join(dir, name)
		if err := os.MkdirAll(filepath.Dir(file), 0o755); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(file, []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	s = openedIn(t, dir)
	for name, roles := range map[string][]string{"ines": {"keeper"}, "walt": nil} {
		if _, err := s.rooms.People.Add(t.Context(), "test",
			people.NewAccount{Name: name, Password: "seven-brass-prisms", Roles: roles}); err != nil {
			t.Fatal(err)
		}
	}
	cookies := ""
	return s, func(method, path, body string) *http.Response {
		r := httptest.NewRequest(method, path, strings.NewReader(body))
		r.Header.Set("Sec-Fetch-Mode", "navigate")
		r.Header.Set("Sec-Fetch-Dest", "document")
		r.Header.Set("Range", "bytes=0-3")
		r.Header.Set("Cookie", cookies)
		if body != "" {
			r.Header.Set("Content-Type", "application/x-www-form-urlencoded")
		}
		w := httptest.NewRecorder()
		s.handler.ServeHTTP(w, r)
		for _, c := range w.Result().Cookies() {
			cookies = c.Name + "=" + c.Value + "; " + cookies
			if c.MaxAge < 0 {
				cookies = ""
			}
		}
		return w.Result()
	}
}

// openedIn opens a service for the policy in a directory.
func openedIn(t *testing.T, dir string) *Service {
	t.Helper()
	fresh.File(t, filepath.Join(dir, "d", store.FileName))
	s, err := Open(Settings{Policy: filepath.Join(dir, "doors.yaml"), Listen: "127.0.0.1:0", Data: filepath.Join(dir, "d"),
		Log: slog.New(slog.DiscardHandler), Cost: cheap})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { s.Close() })
	return s
}

func bodyOf(r *http.Response) string {
	text := new(strings.Builder)
	buffer := make([]byte, 1<<16)
	for {
		n, err := r.Body.Read(buffer)
		text.Write(buffer[:n])
		if err != nil {
			return text.String()
		}
	}
}

var signIn = func(name string) string {
	return url.Values{"username": {name}, "password": {"seven-brass-prisms"}}.Encode()
}

// Pages of the site stand in the place of ours, with what they need to know; and what is missing looks like what is hidden.
func TestPagesOfTheSitesOwn(t *testing.T) {
	_, ask := faced(t, "pages: { sign-in: /entry?from=door, turned-away: /sorry, missing: /lost, recover: /nowhere }\n")
	for path, want := range map[string]string{
		"/log?day=1": "/entry?from=door&next=%2Flog%3Fday%3D1", "/door/sign-in?next=/log": "/entry?from=door&next=/log",
		"/door/account": "/entry?from=door&next=%2Fdoor%2Faccount",
	} {
		if a := ask("GET", path, ""); a.StatusCode != 303 || a.Header.Get("Location") != want {
			t.Errorf("%s: %d %s, want %s", path, a.StatusCode, a.Header.Get("Location"), want)
		}
	}
	missing, hidden := ask("GET", "/nothing", ""), ask("GET", "/secret", "")
	one, other := bodyOf(missing), bodyOf(hidden)
	if missing.StatusCode != 404 || hidden.StatusCode != 404 || one != "<h1>lost at sea</h1>" || other != one ||
		missing.Header.Get("Etag")+missing.Header.Get("Last-Modified") != "" {
		t.Errorf("%d %q %v, and hidden %d %q %v", missing.StatusCode, one, missing.Header, hidden.StatusCode, other, hidden.Header)
	}
	missing.Header.Del("Date")
	hidden.Header.Del("Date")
	if got, want := strings.Join(fieldsOf(hidden.Header), "\n"), strings.Join(fieldsOf(missing.Header), "\n"); got != want {
		t.Errorf("what is hidden has the fields\n%s\nand what is missing\n%s", got, want)
	}
	if a := ask("GET", "/door/recover", ""); a.StatusCode != 200 || !strings.Contains(bodyOf(a), "Forgot your password?") {
		t.Errorf("a page that is not for everybody stands in the place of ours: %d", a.StatusCode)
	}
	if a := ask("GET", "/lost", ""); a.StatusCode != 206 { // it has an address too
		t.Errorf("the page itself: %d", a.StatusCode)
	}
	if a := ask("POST", "/door/sign-in", signIn("walt")); a.StatusCode != 303 {
		t.Fatalf("%d", a.StatusCode)
	}
	if a := ask("GET", "/log", ""); a.StatusCode != 303 || !strings.HasPrefix(a.Header.Get("Location"), "/sorry?next=%2Flog&reference=") {
		t.Errorf("turned away: %d %s", a.StatusCode, a.Header.Get("Location"))
	}
}

// Nobody is led in a circle where a page of the site's own is itself closed, everywhere or at one host.
func TestPagesThatAreClosed(t *testing.T) {
	for name, more := range map[string]string{
		"everywhere": "pages: { sign-in: /log, turned-away: /log }\n",
		"at one host": "  - { path: [/entry, /sorry], host: example.com, admit: { role: keeper } }\npages: { sign-in: /entry, turned-away: " +
			"/sorry }\n",
	} {
		_, ask := faced(t, more)
		for _, signed := range []bool{false, true} {
			if signed {
				ask("POST", "/door/sign-in", signIn("walt"))
			}
			for _, path := range []string{"/log", "/entry", "/sorry", "/door/sign-in", "/door/account"} {
				at, steps := path, 0
				for ; steps < 6; steps++ {
					a := ask("GET", at, "")
					if a.StatusCode != 303 {
						break
					}
					at = a.Header.Get("Location")
				}
				if steps == 6 {
					t.Errorf("%s, signed in %v: %s leads on and on, to %s", name, signed, path, at)
				}
			}
		}
	}
}

func fieldsOf(h http.Header) (all []string) {
	for name, values := range h {
		all = append(all, name+": "+strings.Join(values, ", "))
	}
	slices.Sort(all)
	return all
}

// Where the entrance is private, nothing tells it to strangers but the doors that lead there.
func TestPrivateEntrance(t *testing.T) {
	_, ask := faced(t, "entrance: /keepers-only-7f3\njoining: { by: approval }\n")
	const entrance = "/keepers-only-7f3"
	gone := bodyOf(ask("GET", "/nothing", ""))
	for _, path := range []string{"/door/sign-in", "/door/account", "/door/prove-again", "/door/console/", "/door/api/v1/status",
		"/secret", "/keepers-only-7f3/x", "/keepers-only-7f"} {
		a := ask("GET", path, "")
		if text := bodyOf(a); a.StatusCode != 404 || text != gone {
			t.Errorf("%s: %d\n%s", path, a.StatusCode, text)
		}
	}
	if a := ask("POST", "/door/sign-in", signIn("ines")); a.StatusCode != 404 {
		t.Errorf("signing in at the usual address: %d", a.StatusCode)
	}
	for _, path := range []string{"/", "/door/recover", "/door/recover?asked", "/door/join", "/door/sign-out", "/door/recover?link=x",
		"/nothing", "/door/me"} {
		if a := ask("GET", path, ""); strings.Contains(bodyOf(a)+a.Header.Get("Location"), "7f3") {
			t.Errorf("%s tells where the entrance is", path)
		}
	}
	for _, body := range []string{"language=de", "language=x&next=//evil.example"} {
		if a := ask("POST", "/door/language", body); strings.Contains(a.Header.Get("Location"), "7f3") {
			t.Errorf("choosing a language tells where the entrance is: %s", a.Header.Get("Location"))
		}
	}
	if a := ask("GET", "/log", ""); a.StatusCode != 303 || a.Header.Get("Location") != entrance+"?next=%2Flog" {
		t.Errorf("a door that asks: %d %s", a.StatusCode, a.Header.Get("Location"))
	}
	a := ask("GET", entrance+"/?next=/log", "")
	if text := bodyOf(a); a.StatusCode != 200 || !strings.Contains(text, `action="`+entrance+`"`) {
		t.Errorf("%d\n%s", a.StatusCode, text)
	}
	if a := ask("POST", entrance, signIn("ines")+"x"); a.StatusCode != 422 || !strings.Contains(bodyOf(a), `action="`+entrance+`"`) {
		t.Errorf("with a wrong password: %d", a.StatusCode)
	}
	if a := ask("POST", entrance, signIn("ines")+"&next=/log"); a.StatusCode != 303 || a.Header.Get("Location") != "/log" {
		t.Fatalf("%d %s", a.StatusCode, a.Header.Get("Location"))
	}
	if a := ask("GET", "/door/account", ""); a.StatusCode != 200 {
		t.Errorf("one's account: %d", a.StatusCode)
	}
	if a := ask("GET", "/secret", ""); a.StatusCode != 206 {
		t.Errorf("what is hidden from strangers: %d", a.StatusCode)
	}
}
