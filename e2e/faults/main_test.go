package faults

import (
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"ostiarius/client"
	"ostiarius/e2e"
)

const (
	good = "seven-brass-prisms"
	// doors are those of most tests; what is behind the proxy comes after.
	doors = `roles: {keeper: , trustee: }
doors:
  - {path: /, admit: public}
  - {path: /log/**, admit: {role: keeper}}
  - {path: /minutes/**, admit: {role: trustee}}
  - {path: /app/**, admit: {role: keeper}}
  - {path: /open/**, admit: public}
  - {path: /open/draft/**, admit: {role: trustee}, otherwise: hide}
sources:
  - {path: /, files: ./site}
`
)

// A site is a service of its own, with a keeper.
type site struct {
	t       *testing.T
	dir     string
	data    string
	process *e2e.Process
	args    []string
}

// newSite makes a site; behind is the address of a server behind, "" for none.
func newSite(t *testing.T, behind string, more ...string) *site {
	t.Helper()
	dir := t.TempDir()
	return siteIn(t, dir, filepath.Join(dir, "d"), behind, more...)
}

func siteIn(t *testing.T, dir, data, behind string, more ...string) *site {
	t.Helper()
	s := &site{t: t, dir: dir, data: data}
	for _, name := range []string{"index.html", "log/index.html", "minutes/index.html"} {
		s.write("site/"+name, "<h1>"+name+"</h1>")
	}
	text := doors
	if behind != "" {
		text += "  - {path: /app, proxy: " + behind + ", timeout: 3s}\n  - {path: /open, proxy: " + behind + ", timeout: 3s}\n"
	}
	s.write("doors.yaml", text)
	s.args = append([]string{"serve", "--policy", filepath.Join(dir, "doors.yaml"), "--data", data, "--listen", "127.0.0.1:0"}, more...)
	return s
}

func (s *site) write(name, text string) {
	s.t.Helper()
	name = filepath.Join(s.dir, name)
	if err := os.MkdirAll(filepath.Dir(name), 0o755); err != nil {
		s.t.Fatal(err)
	}
	if err := os.WriteFile(name, []byte(text), 0o644); err != nil {
		s.t.Fatal(err)
	}
}

func (s *site) start() *site {
	s.t.Helper()
	s.use(e2e.Start(s.args...))
	return s
}

func (s *site) use(p *e2e.Process, err error) {
	s.t.Helper()
	if err != nil {
		s.t.Fatal(err)
	}
	s.process = p
	s.t.Cleanup(func() {
		if s.process == p {
			p.Kill()
		}
	})
}

// stop ends the service as an operator would.
func (s *site) stop() {
	s.t.Helper()
	if err := s.process.Stop(); err != nil {
		s.t.Fatal(err)
	}
	s.process = nil
}

func (s *site) api() *client.Client { return client.New(s.data) }

// add adds an account with a role.
func (s *site) add(name, role string) {
	s.t.Helper()
	if _, err := client.AddPerson.Ask(s.t.Context(), s.api(),
		client.NewPerson{Name: name, Password: good, Roles: []string{role}}); err != nil {
		s.t.Fatal(err)
	}
}

// stranger follows nowhere and keeps nothing.
var stranger = &http.Client{
	Timeout:       40 * time.Second,
	CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse },
}

// signIn returns the cookie of a session.
func (s *site) signIn(name string) string {
	s.t.Helper()
	cookie, err := signIn(s.process.URL, name)
	if err != nil {
		s.t.Fatal(err)
	}
	return cookie
}

func signIn(base, name string) (string, error) {
	resp, err := stranger.PostForm(base+"/door/sign-in", url.Values{"username": {name}, "password": {good}})
	if err != nil {
		return "", err
	}
	resp.Body.Close()
	for _, c := range resp.Cookies() {
		if strings.Contains(c.Name, "session") {
			return c.Name + "=" + c.Value, nil
		}
	}
	return "", fmt.Errorf("no session: %d, Retry-After %q", resp.StatusCode, resp.Header.Get("Retry-After"))
}

// An answer is what came back.
type answer struct {
	status int
	header http.Header
	body   string
	err    error
}

func (s *site) get(path, cookie string, fields ...string) answer {
	return ask(stranger, "GET", s.process.URL+path, cookie, nil, fields...)
}

func ask(by *http.Client, method, address, cookie string, body io.Reader, fields ...string) (a answer) {
	r, err := http.NewRequest(method, address, body)
	if err != nil {
		return answer{err: err}
	}
	if cookie != "" {
		r.Header.Set("Cookie", cookie)
	}
	for i := 0; i+1 < len(fields); i += 2 {
		r.Header.Set(fields[i], fields[i+1])
	}
	resp, err := by.Do(r)
	if err != nil {
		return answer{err: err}
	}
	defer resp.Body.Close()
	text, err := io.ReadAll(resp.Body)
	return answer{resp.StatusCode, resp.Header, string(text), err}
}

// eventually waits until something is so.
func eventually(t *testing.T, what string, is func() bool) {
	t.Helper()
	for end := time.Now().Add(20 * time.Second); !is(); time.Sleep(20 * time.Millisecond) {
		if time.Now().After(end) {
			t.Fatalf("not within 20 seconds: %s", what)
		}
	}
}

func must[T any](value T, err error) func(t *testing.T) T {
	return func(t *testing.T) T {
		t.Helper()
		if err != nil {
			t.Fatal(err)
		}
		return value
	}
}

func jsonOf(text string, into any) error { return json.Unmarshal([]byte(text), into) }
