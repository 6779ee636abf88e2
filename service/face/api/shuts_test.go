package api

import (
	"fmt"
	"net/http/httptest"
	"testing"
)

// Those who administer by their role do not shut themselves out, by whatever way; the command line can.
func TestStewardsAreNotShutOut(t *testing.T) {
	for _, shuts := range []bool{true, false} {
		r := server(t, func(a *API) { a.Shuts = shuts })
		do := func(method, path, body string) int {
			w := httptest.NewRecorder()
			r.ServeHTTP(w, request(method, path, body))
			return w.Code
		}
		for _, name := range []string{"agnes", "walt"} {
			if code := do("POST", "/people", fmt.Sprintf(`{"name": %q, "password": "amber-lantern-shelf"}`, name)); code != 201 {
				t.Fatal(code)
			}
		}
		if code := do("POST", "/people/agnes/grants", `{"role": "steward"}`); code != 204 {
			t.Fatal(code)
		}
		closed := 204
		if shuts {
			closed = 422
		}
		for _, step := range []struct {
			method, path, body string
			want               int
		}{
			{"POST", "/people/agnes/grants", `{"role": "steward", "until": "2999-01-01T00:00:00Z"}`, closed},
			{"POST", "/people/import", `{"file": "name,disabled\nagnes,true\n", "dry": true}`, map[bool]int{true: 422, false: 200}[shuts]},
			{"POST", "/people/import", `{"file": "name,roles\nagnes,steward@2999-01-01\n", "dry": true}`,
				map[bool]int{true: 422, false: 200}[shuts]},
			{"POST", "/people/import", `{"file": "name,disabled\nwalt,true\n", "dry": true}`, 200},
			{"POST", "/people/import", `{"file": "name,roles\nines,steward@2999-01-01\n", "dry": true}`, 200},
			{"POST", "/people/walt/grants", `{"role": "steward", "until": "2999-01-01T00:00:00Z"}`, 204},
			{"DELETE", "/people/agnes/grants/steward", "", 204}, // walt has it now
			{"PUT", "/people/walt/disabled", "true", closed},
		} {
			if code := do(step.method, step.path, step.body); code != step.want {
				t.Errorf("by the console %v, %s %s %s: %d, want %d", shuts, step.method, step.path, step.body, code, step.want)
			}
		}
	}
}
