package policy

import "testing"

func TestAnswersForScriptsAndPrograms(t *testing.T) {
	book := parse(t, lighthouse)
	for _, test := range []struct {
		path, who string
		client    Client
		status    int
		challenge string
	}{
		{"/rota/", "anonymous", Script, 401, `Session realm="Marram Point Lighthouse Trust"`},
		{"/rota/", "anonymous", API, 401, `Session realm="Marram Point Lighthouse Trust"`},
		{"/sensors/", "anonymous", API, 401, `Basic realm="Sensor feed", charset="UTF-8"`},
		{"/sensors/", "anonymous", Script, 401, `Session realm="Marram Point Lighthouse Trust"`},
		{"/log/", "role:volunteer", API, 403, ""},
		{"/log/", "role:volunteer", Script, 403, ""},
		{"/office/", "anonymous", API, 404, ""},
	} {
		a := book.Answer(book.Decide(Request{"GET", "", test.path}, visitor(t, test.who)), test.client, "")
		if a.Status != test.status || a.Authenticate != test.challenge || a.Location != "" {
			t.Errorf("%s as %s for %s: %+v", test.path, test.who, test.client, a)
		}
	}
}

func TestLandings(t *testing.T) {
	book := parse(t, lighthouse)
	for who, want := range map[string]string{"user:ines,role:trustee": "/log/", "role:trustee": "/office/", "role:device": "/rota/"} {
		if got := book.After(AfterSignIn, visitor(t, who)); got != want {
			t.Errorf("%s lands on %s, want %s", who, got, want)
		}
	}
}
