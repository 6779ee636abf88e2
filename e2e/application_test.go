package e2e

import (
	"encoding/json"
	"net/http"
	"path/filepath"
	"reflect"
	"strings"
	"testing"

	"ostiarius/client"
)

const application = `
site: Marram Point
roles: { keeper: , trustee: { includes: [keeper] } }
sources: [ { path: /, files: ./site }, { path: /desk, files: ./desk, fallback: app.htmlSHELL } ]
doors:
  - { path: [/, /desk, /desk/*, /desk/assets/**], admit: public }
  - { path: /desk/shifts/**, admit: signed-in }
  - { path: /desk/board/**, admit: { role: trustee } }
  - { path: /desk/secret/**, admit: { role: trustee }, otherwise: hide }
`

// routes is a site with an application, whose page answers for its routes.
func routes(t *testing.T, shell string) *Process {
	t.Helper()
	dir := t.TempDir()
	for name, text := range map[string]string{
		"site/index.html": "Home", "desk/app.html": "<!doctype html><html lang=en><title>t</title><h1>The desk</h1>",
		"desk/assets/app.js": "go()", "desk/board/plan.pdf": "plan", "desk/index.html": "First",
	} {
		write(t, dir, name, text)
	}
	write(t, dir, "doors.yaml", strings.Replace(application, "SHELL", shell, 1))
	s := start(t, dir)
	if _, err := client.AddPerson.Ask(t.Context(), client.New(s.Data),
		client.NewPerson{Name: "tobias", Password: "quiet-harbour-ledger", Roles: []string{"trustee"}}); err != nil {
		t.Fatal(err)
	}
	return s
}

var page, fetched = []string{"Accept", "text/html", "Sec-Fetch-Mode", "navigate", "Sec-Fetch-Dest", "document"}, []string{"Accept",
	"*/*", "Sec-Fetch-Mode", "cors", "Sec-Fetch-Dest", "empty"}

// The page of an application answers for its routes, which are judged by the address that was asked for.
func TestRoutesOfAnApplication(t *testing.T) {
	t.Parallel()
	s := routes(t, "")
	stranger, tobias := newPerson(t, s.URL), newPerson(t, s.URL)
	tobias.signIn("tobias", "quiet-harbour-ledger", "")
	for _, test := range []struct {
		who    *person
		path   string
		as     []string
		status int
		body   string
	}{
		{stranger, "/desk/", page, 200, "First"},
		{stranger, "/desk/about", page, 200, "The desk"},
		{stranger, "/desk/about/", page, 200, "The desk"},
		{stranger, "/desk/about", fetched, 404, ""},
		{stranger, "/desk/assets/app.js", fetched, 200, "go()"},
		{stranger, "/desk/assets/old.js", fetched, 404, ""},
		{stranger, "/desk/old.js", page, 404, ""},
		{stranger, "/desk/shifts/7", page, 303, ""},
		{stranger, "/desk/board/plan", page, 303, ""},
		{stranger, "/desk/secret/x", page, 404, ""},
		{tobias, "/desk/shifts/7", page, 200, "The desk"},
		{tobias, "/desk/board/plan", page, 200, "The desk"},
		{tobias, "/desk/board/plan.pdf", page, 200, "plan"},
		{tobias, "/desk/board/none.pdf", page, 404, ""},
		{tobias, "/elsewhere", page, 404, ""},
	} {
		a := test.who.get(test.path, test.as...)
		if a.status != test.status || !strings.Contains(a.body, test.body) {
			t.Errorf("%s: %d %.100q, want %d %q", test.path, a.status, a.body, test.status, test.body)
		}
	}
	if a := tobias.do("POST", "/desk/board/plan", "x=1", "Accept", "text/html"); a.status < 400 || strings.Contains(a.body, "The desk") {
		t.Errorf("a form sent to a route: %d", a.status)
	}
	first := tobias.get("/desk/board/plan", page...)
	if again := tobias.get("/desk/board/other", append([]string{"If-None-Match", first.header.Get("ETag")}, page...)...); again.status != 304 {
		t.Errorf("unchanged: %d", again.status)
	}
}

// With a public shell everybody gets the page, at every route alike; and nothing else.
func TestPublicShell(t *testing.T) {
	t.Parallel()
	s := routes(t, ", shell: public")
	stranger := newPerson(t, s.URL)
	missing := stranger.get("/desk/none", page...)
	for _, path := range []string{"/desk/shifts/7", "/desk/board/plan", "/desk/secret/x", "/desk/secret"} {
		a := stranger.get(path, page...)
		for _, h := range []http.Header{a.header, missing.header} {
			h.Del("Date")
		}
		if a.status != 200 || a.body != missing.body || a.header.Get("Cache-Control") != "private, no-store" ||
			!reflect.DeepEqual(a.header, missing.header) {
			t.Errorf("%s: %d %v, what is missing %v", path, a.status, a.header, missing.header)
		}
		if a := stranger.get(path, fetched...); a.status == 200 || strings.Contains(a.body, "The desk") {
			t.Errorf("%s, for a script: %d", path, a.status)
		}
		if a := stranger.do("POST", path, "x=1", "Accept", "text/html"); a.status == 200 {
			t.Errorf("%s, sent to: %d", path, a.status)
		}
	}
	for _, path := range []string{"/desk/board/plan.pdf", "/desk/secret/x.pdf"} {
		if a := stranger.get(path, page...); a.status == 200 {
			t.Errorf("%s is open: %d", path, a.status)
		}
	}
	var told client.May
	json.Unmarshal([]byte(stranger.get("/door/may?path=/desk/board/plan&path=/desk/secret/x").body), &told)
	if len(told.Places) != 2 || told.Places[0].Outcome != "challenge" ||
		told.Places[0].Go != "/door/sign-in?next=%2Fdesk%2Fboard%2Fplan" || told.Places[1].Outcome != "missing" {
		t.Errorf("%+v", told)
	}
	dir := t.TempDir()
	file := filepath.Join(dir, "doors.yaml")
	for name, text := range map[string]string{"site/index.html": "Home", "desk/app.html": "App", "desk/index.html": "First"} {
		write(t, dir, name, text)
	}
	write(t, dir, "doors.yaml", strings.Replace(application, "SHELL", ", shell: public", 1))
	if _, out, _ := run(t, "", "explain", "GET", "/desk/board/plan", "--policy", file, "--as", "anonymous"); !strings.Contains(out,
		"200, with the application's page") || !strings.Contains(out, "challenge") {
		t.Errorf("%s", out)
	}
	if _, out, _ := run(t, "", "check", file); !strings.Contains(out, "[shell-is-public]") {
		t.Errorf("%s", out)
	}
	write(t, dir, "doors.yaml",
		strings.Replace(application, "SHELL", ", shell: public", 1)+"guarantees: [ { path: /desk, always: public } ]\n")
	if _, out, _ := run(t, "", "check", file); strings.Contains(out, "shell-is-public") {
		t.Errorf("meant, and still found:\n%s", out)
	}
}
