package guard

import (
	"errors"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"

	"ostiarius/core/policy"
	"ostiarius/core/policy/read"
)

func TestClientOf(t *testing.T) {
	for _, test := range []struct {
		headers string
		want    policy.Client
	}{
		{"", policy.Browser},
		{"Accept: */*", policy.Browser},
		{"Accept: text/html,application/xhtml+xml,*/*;q=0.8", policy.Browser},
		{"Accept: application/json", policy.API},
		{"Accept: application/json, text/plain, */*", policy.API},
		{"Accept: image/png", policy.API},
		{"Authorization: Bearer x", policy.API},
		{"Authorization: Basic x|Accept: text/html,application/xhtml+xml", policy.Browser}, // an older browser behind two layers
		{"Authorization: Basic x|Accept: */*", policy.API},
		{"X-Requested-With: XMLHttpRequest|Accept: text/html", policy.Script},
		{"Upgrade: websocket|Accept: */*", policy.Script},
		{"Sec-WebSocket-Version: 13", policy.Script}, // as Apache tells of it
		{"Sec-Fetch-Mode: navigate|Sec-Fetch-Dest: document", policy.Browser},
		{"Sec-Fetch-Mode: navigate|Sec-Fetch-Dest: iframe", policy.Browser},
		{"Sec-Fetch-Mode: cors|Sec-Fetch-Dest: empty|Accept: */*", policy.Script},
		{"Sec-Fetch-Mode: no-cors|Sec-Fetch-Dest: image", policy.Script},
	} {
		headers := http.Header{}
		for _, line := range strings.Split(test.headers, "|") {
			if name, value, ok := strings.Cut(line, ": "); ok {
				headers.Set(name, value)
			}
		}
		if got := ClientOf(headers); got != test.want {
			t.Errorf("%q is a %s, want %s", test.headers, got, test.want)
		}
	}
}

// What cannot be read is rejected whoever sends it, also while nobody can be recognised; to judge
// writes no answer.
func TestJudge(t *testing.T) {
	book, findings := read.Parse("doors.yaml", []byte("keyrings: {outer: }\ndoors: [{path: /, admit: public}, {path: /log, admit: "+
		"signed-in}, {path: /gate, admit: {keyring: outer}}]"))
	if book == nil {
		t.Fatal(findings)
	}
	asked, presented, down := 0, 0, errors.New("the records cannot be read")
	var trouble error
	g := &Guard{
		House: func() *House { return &House{Book: book} },
		Who: func(h http.Header, _ *http.Request) (policy.Visitor, error) {
			asked++
			h.Add("Set-Cookie", "renewed=1")
			return policy.Visitor{SignedIn: true, Account: "ines"}, trouble
		},
		Present: func(_ *http.Request, _ []string, want policy.Wanted, t *Turn) (bool, error) {
			v := &t.Visitor
			presented++
			v.Keyrings = want.Keyrings
			return true, nil
		},
		Own:    http.NotFoundHandler(),
		Turned: func(w http.ResponseWriter, _ *http.Request, away *TurnedAway) { w.WriteHeader(away.Answer.Status) },
	}
	for _, test := range []struct {
		target  string
		trouble error
		outcome policy.Outcome
		status  int
		asked   int
	}{
		{"/log", nil, policy.Admit, 0, 1}, {"/log", down, "", 503, 1}, {"/%zz", nil, policy.Reject, 400, 0},
		{"/%00", down, policy.Reject, 400, 0}, {"/a;b", down, policy.Reject, 400, 0},
		{"/gate", nil, policy.Admit, 0, 1},
	} {
		asked, presented, trouble = 0, 0, test.trouble
		r := httptest.NewRequest("GET", "/", nil)
		r.RequestURI = test.target
		r.Header.Set("Authorization", "Basic eDp5")
		turn, h := &Turn{Book: book}, http.Header{}
		d, err := g.judge(h, r, turn)
		if d.Outcome != test.outcome || !errors.Is(err, test.trouble) && test.asked > 0 || asked != test.asked ||
			(presented > 0) != (test.target == "/gate") {
			t.Errorf("%s: %+v %v, asked %d, presented %d", test.target, d, err, asked, presented)
		}
		if test.asked > 0 != (h.Get("Set-Cookie") != "") {
			t.Errorf("%s: %v", test.target, h)
		}
		if test.status == 0 {
			continue
		}
		w := httptest.NewRecorder()
		if g.ServeHTTP(w, r); w.Code != test.status {
			t.Errorf("%s: %d, want %d", test.target, w.Code, test.status)
		}
	}
}

// A request that names no host is nobody's to choose one for; our own pages are the same at all.
func TestRequestsWithoutAHost(t *testing.T) {
	book, findings := read.Parse("doors.yaml", []byte("unlisted: public\ndoors: [{path: /**, host: admin.example, admit: signed-in}]"))
	if book == nil {
		t.Fatal(findings)
	}
	g := &Guard{House: func() *House { return &House{Book: book} },
		Who: func(http.Header, *http.Request) (policy.Visitor, error) { return policy.Visitor{}, nil }}
	for _, test := range []struct {
		host, path string
		want       policy.Outcome
	}{
		{"", "/", policy.Reject}, {"", "/visit/", policy.Reject}, {"", "/door/health", policy.Admit}, {"www.example", "/", policy.Admit},
		{"admin.example", "/", policy.Challenge},
		{"admin.example.", "/", policy.Challenge}, {"admin.example,www.example", "/", policy.Reject},
	} {
		r := httptest.NewRequest("GET", test.path, nil)
		r.Host = test.host
		if d, err := g.judge(http.Header{}, r, &Turn{Book: book}); err != nil || d.Outcome != test.want {
			t.Errorf("%q %s: %s %v, want %s", test.host, test.path, d.Outcome, err, test.want)
		}
	}
}
