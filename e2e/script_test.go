package e2e

import (
	"encoding/json"
	"strings"
	"testing"
)

// What a script of a page is told: what is missing, how long to wait, and that it has signed out.
func TestScriptsAreToldWhatIsMissing(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	write(t, dir, "site/index.html", "x")
	write(t, dir, "doors.yaml", `roles: { keeper: }
keyrings: { outer: { realm: The gate } }
shared: { press: { title: Press } }
passes: { recordings: { title: Recordings } }
sources: [ { path: /, files: ./site } ]
landings: { sign-out: [ { go: /bye } ] }
doors:
  - { path: /**, admit: public }
  - { path: /rota/**, admit: signed-in }
  - { path: /keepers/**, admit: { role: keeper } }
  - { path: /safe/**, admit: { all: [ signed-in, { proof-within: 1s } ] } }
  - { path: /feed/**, admit: signed-in, ask: basic }
  - { path: /gate/**, admit: { keyring: outer } }
  - { path: /press/**, admit: { shared: press } }
  - { path: /recordings/**, admit: { pass: recordings } }
`)
	s := start(t, dir)
	run(t, "seven-brass-prisms\n", "people", "add", "ines", "--password-stdin", "--data", s.Data)
	p := newPerson(t, s.URL)
	asJSON := []string{"Accept", "application/json", "Sec-Fetch-Mode", "cors", "Sec-Fetch-Site", "same-origin", "Sec-Fetch-Dest", "empty"}
	type told struct {
		Code, Detail, Reference string
		Wait                    int
	}
	says := func(path string, status int, code string) {
		t.Helper()
		a := p.get(path, asJSON...)
		var is told
		if err := json.Unmarshal([]byte(a.body), &is); err != nil || a.status != status || is.Code != code || is.Detail == "" ||
			status == 403 && is.Reference == "" {
			t.Errorf("%s: %d %s, want %d %s", path, a.status, a.body, status, code)
		}
	}
	says("/rota/", 401, "sign-in-needed")
	says("/keepers/", 401, "sign-in-needed")
	says("/feed/", 401, "credentials-needed")
	says("/gate/", 401, "credentials-needed")
	says("/press/", 401, "unlock-needed")
	says("/recordings/", 401, "pass-needed")
	says("/none", 404, "")

	a := p.do("POST", "/door/sign-in", `{"username":"ines","password":"seven-brass-prisms"}`, "Content-Type", "application/json")
	if a.status != 200 || !strings.Contains(a.body, `"signedIn":true`) {
		t.Fatal(a)
	}
	says("/keepers/", 403, "")
	eventually(t, func() bool { return p.get("/safe/", asJSON...).status == 401 }) // a second later
	says("/safe/", 401, "proof-needed")
	for range 2 { // also when nobody is signed in any more
		if a = p.do("POST", "/door/sign-out", "", append(asJSON, "Content-Type", "application/json")...); a.status != 204 ||
			a.body != "" || a.location != "" {
			t.Errorf("signing out: %+v", a)
		}
		says("/rota/", 401, "sign-in-needed")
	}
	if a = p.do("POST", "/door/sign-out", "", "Accept", "text/html"); a.status != 303 || a.location != "/bye" {
		t.Errorf("a form: %d %s", a.status, a.location)
	}

	var is told
	for range 10 {
		a = p.do("POST", "/door/sign-in", `{"username":"ines","password":"wrong-brass-prisms"}`, "Content-Type", "application/json")
		if is = (told{}); json.Unmarshal([]byte(a.body), &is) != nil {
			t.Fatal(a.body)
		}
		if a.status == 429 {
			break
		}
	}
	if a.status != 429 || is.Code != "too-many" || is.Wait < 1 || a.header.Get("Retry-After") == "" {
		t.Errorf("%d %+v", a.status, is)
	}
}
