package policy_test

import (
	"fmt"
	"testing"

	"ostiarius/core/policy"
	"ostiarius/core/policy/read"
	"ostiarius/core/policy/sample"
)

func TestAnswersForScriptsAndPrograms(t *testing.T) {
	book := sample.Parse(t, sample.Lighthouse)
	for _, test := range []struct {
		path, who string
		client    policy.Client
		status    int
		challenge string
	}{
		{"/rota/", "anonymous", policy.Script, 401, `Session realm="Marram Point Lighthouse Trust"`},
		{"/rota/", "anonymous", policy.API, 401, `Session realm="Marram Point Lighthouse Trust"`},
		{"/sensors/", "anonymous", policy.API, 401, `Basic realm="Sensor feed", charset="UTF-8"`},
		{"/sensors/", "anonymous", policy.Script, 401, `Session realm="Marram Point Lighthouse Trust"`},
		{"/log/", "role:volunteer", policy.API, 403, ""},
		{"/log/", "role:volunteer", policy.Script, 403, ""},
		{"/office/", "anonymous", policy.API, 404, ""},
	} {
		a := book.Answer(book.Decide(policy.Request{"GET", "", test.path}, sample.Visitor(t, test.who)), test.client, "")
		if a.Status != test.status || a.Authenticate != test.challenge || a.Location != "" {
			t.Errorf("%s as %s for %s: %+v", test.path, test.who, test.client, a)
		}
	}
}

func TestLandings(t *testing.T) {
	book := sample.Parse(t, sample.Lighthouse)
	for who, want := range map[string]string{"user:ines,role:trustee": "/log/", "role:trustee": "/office/", "role:device": "/rota/"} {
		if got := book.After(policy.AfterSignIn, sample.Visitor(t, who)); got != want {
			t.Errorf("%s lands on %s, want %s", who, got, want)
		}
	}
}

// The page to which strangers are led instead is told where they wanted to go, unless it says that itself; one to which
// people are led who may not is not.
func TestInsteadCarriesNext(t *testing.T) {
	for to, want := range map[string]string{
		"/login.html":             "/login.html?next=%2Frota%2Fa%3Fx%3D1%26y%3D2",
		"/login.html?lang=de":     "/login.html?lang=de&next=%2Frota%2Fa%3Fx%3D1%26y%3D2",
		"/login.html?next=/":      "/login.html?next=/",
		"/login.html?a=1&next=/b": "/login.html?a=1&next=/b",
	} {
		book, findings := read.Parse("doors.yaml", []byte(fmt.Sprintf("roles: { keeper: }\ndoors:\n  - { path: /login.html, admit: public }\n  "+
			"- { path: /rota/**, admit: { role: keeper }, otherwise: { anonymous: { go: %q }, refused: { go: /ask } } }\n", to)))
		if book == nil {
			t.Fatal(to, findings)
		}
		r := policy.Request{Method: "GET", Path: "/rota/a"}
		if got := book.Answer(book.Decide(r, &policy.Visitor{}), policy.Browser, "x=1&y=2"); got.Status != 303 || got.Location != want {
			t.Errorf("%s: %+v, want %s", to, got, want)
		}
		if got := book.Answer(book.Decide(r, &policy.Visitor{}), policy.Script, "x=1"); got.Status != 401 {
			t.Errorf("%s, for a script: %+v", to, got)
		}
		if got := book.Answer(book.Decide(r, &policy.Visitor{SignedIn: true, Account: "ines"}), policy.Browser, "x=1"); got.Location != "/ask" {
			t.Errorf("%s, refused: %+v", to, got)
		}
	}
}
