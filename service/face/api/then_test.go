package api

import (
	"encoding/json"
	"net/http/httptest"
	"strings"
	"testing"

	"ostiarius/core/policy"
)

// A refusal is explained by the version of the policy that decided, and what is otherwise now is said.
func TestExplainedAsItWasThen(t *testing.T) {
	r := server(t)
	ask := func(method, path, body string, status int) string {
		t.Helper()
		w := httptest.NewRecorder()
		r.ServeHTTP(w, request(method, path, body))
		if w.Code != status {
			t.Fatalf("%s %s: %d %s", method, path, w.Code, w.Body)
		}
		return w.Body.String()
	}
	explained := func(query string) (e policy.Explanation) {
		t.Helper()
		if err := json.Unmarshal([]byte(ask("GET", "/explain?url=/log/&"+query, "", 200)), &e); err != nil {
			t.Fatal(err)
		}
		return e
	}
	ask("POST", "/people", `{"name":"ines","password":"seven-brass-prisms"}`, 201)
	if e := explained("as=user:ines&version=1"); e.Outcome != policy.Refuse || e.Since != nil {
		t.Errorf("nothing has changed: %s %q", e.Outcome, e.Since)
	}
	ask("POST", "/people/ines/grants", `{"role":"keeper"}`, 204)
	if e := explained("as=user:ines&version=1"); e.Outcome != policy.Refuse ||
		strings.Join(e.Since, " ") != "ines had no role then, and has the role keeper now." {
		t.Errorf("a role: %s %q", e.Outcome, e.Since)
	}
	ask("POST", "/policy", `{"text":"roles: {keeper: }\ndoors: [{path: /log/**, admit: signed-in}]\n"}`, 201)
	e := explained("as=user:ines&version=1")
	if said := strings.Join(e.Since, " "); e.Outcome != policy.Refuse ||
		!strings.Contains(said, "version 1 of the policy. Version 2 is active now. By the active version, the same visitor gets: admit.") {
		t.Errorf("a version: %s %q", e.Outcome, said)
	}
	if e := explained("as=user:ines"); e.Outcome != policy.Admit || e.Since != nil {
		t.Errorf("now: %s %q", e.Outcome, e.Since)
	}
	ask("DELETE", "/people/ines", "", 204)
	if said := strings.Join(explained("as=user:ines&version=1").Since, " "); !strings.Contains(said, "There is no account ines any more.") {
		t.Errorf("removed: %q", said)
	}
	ask("GET", "/explain?url=/log/&version=7", "", 404)
	ask("GET", "/explain?url=/log/&version=x", "", 422)
}
