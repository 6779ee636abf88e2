package guard

import (
	"errors"
	"io"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"

	"ostiarius/core/policy"
	"ostiarius/core/policy/read"
)

// What the tests of requests that were handed on are guarded by.
const handedOn = `
roles: { keeper: , trustee: { includes: keeper } }
keyrings: { outer: }
passes: { recordings: { lasts: 7d } }
doors:
  - { path: /, admit: public }
  - { path: /log/**, admit: signed-in }
  - { path: /log/week, methods: [PUT], admit: { role: keeper } }
  - { path: /office/**, admit: { role: trustee } }
  - { path: /gate/**, admit: { keyring: outer } }
  - { path: /recordings/**, admit: { pass: recordings } }
  - { path: /hidden/**, admit: { role: trustee }, otherwise: hide }
`

// A porch is a Guard whose visitors are made up, and the site behind it.
type porch struct {
	*Guard
	visitor policy.Visitor
	down    error // nobody can be recognised
	looked  int   // how often credentials of HTTP Basic were looked at
	site    func(w http.ResponseWriter, r *http.Request)
}

func openPorch(t testing.TB) *porch {
	t.Helper()
	book, findings := read.Parse("doors.yaml", []byte(handedOn))
	if book == nil {
		t.Fatal(findings)
	}
	p := &porch{visitor: policy.Visitor{SignedIn: true, Account: "ines", Roles: []string{"keeper"}}}
	p.Guard = &Guard{
		House: func() *House {
			return &House{Book: book, Site: http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) { p.site(w, r) })}
		},
		Who: func(http.Header, *http.Request) (policy.Visitor, error) { return p.visitor, p.down },
		Present: func(_ *http.Request, _ []string, want policy.Wanted, t *Turn) (bool, error) {
			p.looked++
			t.Visitor.Keyrings = want.Keyrings
			return true, nil
		},
		Own: http.NotFoundHandler(),
		Turned: func(w http.ResponseWriter, _ *http.Request, away *TurnedAway) {
			if away.Answer.Location != "" {
				w.Header().Set("Location", away.Answer.Location)
			}
			w.WriteHeader(away.Answer.Status)
			io.WriteString(w, string(away.Decision.Outcome)+" "+away.Place.Path+" "+away.Reference)
		},
	}
	return p
}

// ask sends a request for a target, and has the site answer with what f says of it.
func (p *porch) ask(method, target string, f func(r *http.Request) string, fields ...string) *httptest.ResponseRecorder {
	p.site = func(w http.ResponseWriter, r *http.Request) { io.WriteString(w, f(r)) }
	r := httptest.NewRequest(method, "/", nil)
	r.RequestURI = target
	for i := 0; i < len(fields); i += 2 {
		r.Header.Add(fields[i], fields[i+1])
	}
	w := httptest.NewRecorder()
	p.ServeHTTP(w, r)
	return w
}

// Links are shown to whoever may follow them: as the same visitor, by the policy that admitted them, and never by a try at a password.
func TestMay(t *testing.T) {
	p := openPorch(t)
	for _, test := range []struct {
		method, path string
		want         bool
	}{
		{"GET", "/", true}, {"GET", "/log/", true}, {"GET", "/log/week?x=1", true}, {"PUT", "/log/week", true}, {"GET", "/office/", false},
		{"GET", "/office/%2e%2e/log/", true}, {"GET", "/log/%2e%2e/office/", false}, {"GET", "/%6cog/", true}, {"GET", "/hidden/", false},
		{"GET", "/gate/", false},
		{"GET", "/recordings/", false}, {"GET", "/%zz", false}, {"GET", "nowhere", false}, {"B\x00D", "/", false},
	} {
		p.ask("GET", "/log/", func(r *http.Request) string {
			if got, err := p.May(r.Context(), test.method, test.path); got != test.want || err != nil {
				t.Errorf("%s %s: %v %v", test.method, test.path, got, err)
			}
			if TurnOf(r).Place.Path != "/log" || r.Header.Get("Authorization") == "" {
				t.Errorf("%s %s: the request itself was changed", test.method, test.path)
			}
			return ""
		}, "Authorization", "Bearer x")
	}
	if p.looked != 0 {
		t.Errorf("credentials of a request were looked at %d times for its links", p.looked)
	}
	// A request with credentials of HTTP Basic was looked at once, for itself. What they showed counts for its links.
	p.ask("GET", "/gate/", func(r *http.Request) string {
		if may, err := p.May(r.Context(), "GET", "/gate/other"); !may || err != nil || p.looked != 1 {
			t.Errorf("%v %v, looked %d times", may, err, p.looked)
		}
		return ""
	}, "Authorization", "Basic eDp5")
	if p.looked != 1 {
		t.Errorf("a guarded page looked %d times", p.looked)
	}
	// What was shown here, such as a pass, counts nowhere else until it is looked at there; and that can fail.
	var failed error
	p.Unlocked = func(_ *http.Request, want policy.Wanted, t *Turn) error {
		if len(t.Visitor.Passes) > 0 {
			return errors.New("passes were taken along")
		}
		t.Visitor.Passes = want.Passes
		return failed
	}
	p.ask("GET", "/recordings/a", func(r *http.Request) string {
		if may, err := p.May(r.Context(), "GET", "/recordings/b"); !may || err != nil {
			t.Errorf("%v %v", may, err)
		}
		failed = errors.New("the records cannot be read")
		if may, err := p.May(r.Context(), "GET", "/recordings/b"); may || !errors.Is(err, failed) {
			t.Errorf("%v %v", may, err)
		}
		return ""
	})
	if may, err := p.May(t.Context(), "GET", "/"); may || err == nil {
		t.Errorf("without a request: %v %v", may, err)
	}
}

// A walk sees the links of whom it stands in for, within what its steward may see.
func TestMayOnAWalk(t *testing.T) {
	p := openPorch(t)
	walk := &Walk{As: policy.Visitor{SignedIn: true, Account: "walt", Roles: []string{"trustee"}}}
	p.Walking = func(http.Header, *http.Request, *policy.Book) *Walk { return walk }
	for _, test := range []struct {
		method string
		within *policy.Visitor
		change bool
		want   bool
	}{
		{"GET", nil, false, true}, {"PUT", nil, false, false}, {"PUT", nil, true, true}, {"GET", &p.visitor, false, false},
	} {
		walk.Within, walk.Changes = nil, test.change
		w := p.ask("GET", "/office/", func(r *http.Request) string {
			walk.Within = test.within
			may, err := p.May(r.Context(), test.method, "/office/ledger")
			if may != test.want || err != nil {
				t.Errorf("%+v: %v %v", test, may, err)
			}
			return "asked"
		})
		if w.Body.String() != "asked" {
			t.Errorf("%d %s", w.Code, w.Body)
		}
	}
}

// Who was admitted, and is not by what the site knows, is answered as the doors would, and it is noted.
func TestTurnAway(t *testing.T) {
	p := openPorch(t)
	var noted []policy.Outcome
	p.Note = func(r *http.Request, turn *Turn, outcome policy.Outcome) string {
		noted = append(noted, outcome)
		return "ref-1"
	}
	for _, test := range []struct {
		outcome policy.Outcome
		fields  []string
		status  int
		says    string
	}{
		{policy.Refuse, nil, 403, "refuse /log/week ref-1"},
		{policy.Hide, nil, 404, "hide /log/week ref-1"},
		{policy.Challenge, []string{"Accept", "text/html"}, 303, "challenge /log/week ref-1"},
		{policy.Challenge, []string{"Accept", "application/json"}, 401, "challenge /log/week ref-1"},
	} {
		noted = nil
		p.site = func(w http.ResponseWriter, r *http.Request) {
			p.TurnAway(w, r, policy.Decision{Outcome: test.outcome, Place: TurnOf(r).Place, Door: TurnOf(r).Door})
		}
		r := httptest.NewRequest("GET", "/", nil)
		r.RequestURI = "/log/week?page=2"
		for i := 0; i < len(test.fields); i += 2 {
			r.Header.Set(test.fields[i], test.fields[i+1])
		}
		w := httptest.NewRecorder()
		p.ServeHTTP(w, r)
		if w.Code != test.status || w.Body.String() != test.says || !strings.Contains(w.Header().Get("Cache-Control"), "private") {
			t.Errorf("%s: %d %s %v", test.outcome, w.Code, w.Body, w.Header())
		}
		if test.status == 303 && !strings.Contains(w.Header().Get("Location"), "page%3D2") {
			t.Errorf("leads back without the query: %s", w.Header().Get("Location"))
		}
		if len(noted) != 2 || noted[0] != policy.Admit || noted[1] != test.outcome {
			t.Errorf("%s: noted %v", test.outcome, noted)
		}
	}
	w := httptest.NewRecorder()
	p.TurnAway(w, httptest.NewRequest("GET", "/log/", nil), policy.Decision{Outcome: policy.Admit})
	if w.Code != 403 {
		t.Errorf("a request that no guard handed on: %d", w.Code)
	}
}

// What is beside a hidden place is asked for by the same visitor, with the same request, where they are admitted, and by nobody else.
func TestSibling(t *testing.T) {
	p := openPorch(t)
	p.visitor.Passes = []string{"recordings"}
	var away *TurnedAway
	p.Turned = func(_ http.ResponseWriter, _ *http.Request, a *TurnedAway) { away = a }
	for _, test := range []struct {
		page string
		want bool
	}{
		{"/log/made-up", true}, {"/made-up", true}, {"/office/made-up", false}, {"/recordings/made-up", false}, {"/gate/made-up", false},
		{"/hidden/made-up", false}, {"/door/account", false}, {"/%zz", false}, {"made-up", false},
	} {
		r := httptest.NewRequest("POST", "/", strings.NewReader("a=b"))
		r.RequestURI = "/hidden/plan?week=2"
		r.Header.Set("Content-Type", "application/x-www-form-urlencoded")
		r.Header.Set("Range", "bytes=0-1")
		r.Header.Set("Content-Length", "3")
		p.ServeHTTP(httptest.NewRecorder(), r)
		if away == nil || away.Decision.Outcome != policy.Hide {
			t.Fatalf("%+v", away)
		}
		ask := Sibling(r, away, test.page)
		if test.want != (ask != nil) {
			t.Errorf("%s: %v", test.page, ask)
		}
		if ask == nil {
			continue
		}
		body, _ := io.ReadAll(ask.Body)
		turn := TurnOf(ask)
		if ask.Method != "POST" || string(body) != "a=b" || ask.ContentLength != 3 || ask.RequestURI != test.page+"?week=2" ||
			ask.URL.RawQuery != "week=2" {
			t.Errorf("%s: %s %s %q", test.page, ask.Method, ask.RequestURI, body)
		}
		if ask.Header.Get("Content-Type") == "" || ask.Header.Get("Content-Length") != "3" || ask.Header.Get("Range") != "" {
			t.Errorf("%s: %v", test.page, ask.Header)
		}
		if turn.Public || turn.Visitor.Account != "ines" || turn.Visitor.Passes != nil || turn.Door == nil || turn.Place.Path != test.page {
			t.Errorf("%s: %+v", test.page, turn)
		}
	}
}
