package e2e

import (
	"encoding/json"
	"net/url"
	"strings"
	"testing"

	"ostiarius/client"
	"ostiarius/core/policy"
)

// What is explained about Ostiarius's own pages is what happens there, for each of them and each
// kind of visitor.
func TestOwnPagesAreAsExplained(t *testing.T) {
	t.Parallel()
	s := start(t, siteOf(t), "--metrics-from", "192.0.2.0/24")
	api := client.New(s.Data)
	for _, p := range []client.NewPerson{{Name: "agnes", Password: agnes, Roles: []string{"steward"}}, {Name: "walt", Password: walt}} {
		if _, err := client.AddPerson.Ask(t.Context(), api, p); err != nil {
			t.Fatal(err)
		}
	}
	visitors := map[string]*person{"anonymous": newPerson(t, s.URL), "signed-in": newPerson(t, s.URL), "role:steward": newPerson(t, s.URL)}
	visitors["signed-in"].signIn("walt", walt, "")
	visitors["role:steward"].signIn("agnes", agnes, "")
	outcomes := map[string]int{}
	for _, page := range []string{
		"/door/sign-in", "/door/sign-out", "/door/prove-again", "/door/prove-again?next=%2Fa", "/door/account", "/door/account/password",
		"/door/account/sessions", "/door/recover", "/door/unlock",
		"/door/me", "/door/may", "/door/health", "/door/metrics", "/door/policy.schema.json", "/door/console/", "/door/console/people",
		"/door/console", "/door/api/v1/status", "/door/api/v1/people",
		"/door/nothing", "/door/assets/nothing",
	} {
		for _, method := range []string{"GET", "POST"} {
			for _, kind := range []string{"browser", "script", "api"} {
				headers := map[string][]string{
					"browser": {"Sec-Fetch-Mode", "navigate", "Sec-Fetch-Dest", "document"},
					"script":  {"Sec-Fetch-Mode", "cors", "Sec-Fetch-Dest", "empty"}, "api": {"Accept", "application/json"},
				}[kind]
				for who, p := range visitors {
					var e policy.Explanation
					q := url.Values{"method": {method}, "url": {page}, "as": {who}, "client": {kind}}
					if err := json.Unmarshal([]byte(visitors["role:steward"].get("/door/api/v1/explain?"+q.Encode()).body), &e); err != nil {
						t.Fatal(err)
					}
					if who != "anonymous" && method == "POST" && page == "/door/sign-out" {
						continue // that ends the session
					}
					a := p.do(method, page, "", headers...)
					outcomes[string(e.Outcome)]++
					turned := a.status == 401 || strings.HasPrefix(a.location, "/door/sign-in?next=") || a.status == 403 &&
						!strings.Contains(a.body, "X-Requested-With")
					switch {
					case e.Outcome == policy.Admit && turned:
						t.Errorf("%s %s as %s, %s: admitted, it is said, but %d %s", method, page, who, kind, a.status, a.location)
					case e.Outcome != policy.Admit && (a.status != e.Answer.Status || a.location != e.Answer.Location):
						t.Errorf("%s %s as %s, %s: %d %s, it is said, but %d %s", method, page, who, kind, e.Answer.Status, e.Answer.Location,
							a.status, a.location)
					}
				}
			}
		}
	}
	if outcomes["admit"] < 100 || outcomes["challenge"] < 30 || outcomes["refuse"] < 10 || outcomes["hide"] < 10 {
		t.Errorf("too much alike: %v", outcomes)
	}
	p := visitors["anonymous"]
	p.is("/door/account/password", 303, "/door/sign-in?next=%2Fdoor%2Faccount")
	p.is("/door/prove-again?next=%2Fa%3Fb", 303, "/door/sign-in?next=%2Fa%3Fb")
}
