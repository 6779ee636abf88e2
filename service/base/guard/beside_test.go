package guard

import (
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"net/netip"
	"strings"
	"testing"
	"time"

	"ostiarius/core/policy"
	"ostiarius/core/policy/read"
)

// asking is a Beside whose visitors are known by a field, and get a fresh cookie each time.
func asking(t *testing.T) *Beside {
	t.Helper()
	book, findings := read.Parse("doors.yaml", []byte("roles: {keeper: }\nunlisted: hide\nsources: [ { path: /app, files: ., "+
		"fallback: index.html, shell: public } ]\ndoors:\n  - { path: /app/**, admit: signed-in }\n  - { path: /, admit: public }\n  - { "+
		"path: /log/**, admit: { role: keeper } }\n  - { path: /lan/**, admit: { network: 192.0.2.0/24 } }\n"))
	if book == nil {
		t.Fatal(findings)
	}
	house := &House{Book: book, Site: http.NotFoundHandler()}
	return &Beside{At: "/door/decide", Target: XOriginalURI, Guard: &Guard{
		House: func() *House { return house },
		Front: &Front{Peers: []netip.Prefix{netip.MustParsePrefix("127.0.0.0/8")}},
		Who: func(h http.Header, r *http.Request) (policy.Visitor, error) {
			switch r.Header.Get("Lamp") {
			case "lit":
				h.Add("Set-Cookie", "fresh=1")
				return policy.Visitor{SignedIn: true, Account: "käthe", Roles: []string{"keeper"}}, nil
			case "broken":
				return policy.Visitor{}, io.ErrUnexpectedEOF
			}
			return policy.Visitor{}, nil
		},
		Own: http.NotFoundHandler(),
		Turned: func(w http.ResponseWriter, r *http.Request, a *TurnedAway) {
			if a.Answer.Location != "" {
				w.Header().Set("Location", a.Answer.Location)
			}
			if r.Header.Get("Service-Worker") == "" { // such a script is answered with 200, for whomever
				w.WriteHeader(a.Answer.Status)
			}
			fmt.Fprint(w, a.Decision.Outcome)
		},
	}}
}

func (b *Beside) ask(from, target string, fields ...string) *httptest.ResponseRecorder {
	r := httptest.NewRequest("GET", target, nil)
	r.RequestURI, r.RemoteAddr = target, from
	for i := 0; i < len(fields); i += 2 {
		r.Header.Add(fields[i], fields[i+1])
	}
	w := httptest.NewRecorder()
	b.ServeHTTP(w, r)
	return w
}

func TestBeside(t *testing.T) {
	b := asking(t)
	const web, stranger = "127.0.0.1:4711", "192.0.2.7:4711"
	question := func(method, target string, more ...string) []string {
		return append([]string{"X-Original-Method", method, "X-Original-Uri", target, "X-Forwarded-For", "203.0.113.5"}, more...)
	}
	for _, test := range []struct {
		from, target string
		fields       []string
		status       int
		has          string // fields of the answer, with their values
	}{
		{web, "/door/decide", question("GET", "/?x"), 200, "Ostiarius-Public: yes"},
		{web, "/door/decide", question("GET", "/log/", "Lamp", "lit"), 200, "Ostiarius-User: k%C3%A4the|Ostiarius-Roles: " +
			"keeper|Ostiarius-Door: /log/%2A%2A|Ostiarius-Public: no|Ostiarius-Cache-Control: private, no-store|Ostiarius-Set-Cookie: " +
			"fresh=1|Set-Cookie: |Cache-Control: no-store"},
		{web, "/door/decide?whole-399", question("GET", "/log/", "Lamp", "lit"), 399,
			"Ostiarius-User: k%C3%A4the|Ostiarius-Set-Cookie: fresh=1|Ostiarius-Public: |Ostiarius-Vary: "},
		{web, "/door/decide?whole-399", question("GET", "/?x"), 399, "Ostiarius-Public: yes|Ostiarius-User: "},
		// with a cookie it is nobody else's
		{web, "/door/decide", question("GET", "/", "Lamp", "lit"), 200, "Ostiarius-Public: no|Ostiarius-Set-Cookie: fresh=1"},
		{web, "/door/decide", question("GET", "/log//x?y=1"), 401, "Ostiarius-Location: /door/sign-in?next=%2Flog%2Fx%3Fy%3D1|Location: "},
		{web, "/door/decide?plain", question("GET", "/none"), 403, ""},
		{web, "/door/decide", question("GET", "/none"), 404, ""},
		{web, "/door/decide?whole", question("GET", "/none"), 404, "Cache-Control: private, no-store"},
		{web, "/door/decide?whole", question("GET", "/log/"), 303, "Location: /door/sign-in?next=%2Flog%2F"},
		{web, "/door/decide?missing", nil, 404, "Cache-Control: private, no-store"},
		{web, "/door/decide", question("GET", "/log/%2f"), 400, ""},
		{web, "/door/decide", question("GET", "no path"), 400, ""},
		{web, "/door/decide", question("GET", "/lan/"), 403, ""},
		{web, "/door/decide", question("GET", "/", "Lamp", "broken"), 503, ""},
		{web, "/door/decide?plain", question("GET", "/", "Lamp", "broken"), 403, ""},
		// No answer to who is not admitted looks like an admission.
		{web, "/door/decide?whole", question("GET", "/log/", "Service-Worker", "script"), 403, "Ostiarius-Public: "},
		{web, "/door/decide?whole-399", question("GET", "/log/", "Service-Worker", "script"), 403, "Ostiarius-Public: "},
		{web, "/door/decide", question("GET", "/log/", "Service-Worker", "script"), 401, "Ostiarius-Public: "},
		{web, "/door/decide", question("GET", "/app/board"), 401, "Ostiarius-Location: /door/sign-in?next=%2Fapp%2Fboard"},
		{web, "/door/decide?plain", question("GET", "/app/board", "Accept", "text/html"), 401, "Ostiarius-Public: "},
		{web, "/door/decide?whole", question("GET", "/app/board"), 303, "Location: /door/sign-in?next=%2Fapp%2Fboard"},
		// Who does not ask as was agreed, or brings what is none of theirs, gets nobody in.
		{web, "/door/decide", nil, 400, ""},
		{web, "/door/decide", []string{"X-Original-Uri", "/"}, 400, ""},
		{web, "/door/decide", []string{"X-Original-Method", "GET"}, 400, ""},
		{web, "/door/decide", []string{"X-Forwarded-Method", "GET", "X-Forwarded-Uri", "/"}, 400, ""},
		{web, "/door/decide", question("GET", "/log/", "X-Original-Uri", "/"), 400, ""},
		{web, "/door/decide", question("GET", "/", "X-Original-Method", "GET"), 400, ""},
		{web, "/door/decide", question("GET", "/", "Ostiarius-User", "ines"), 400, ""},
		{web, "/door/decide", question("GET", "/", "ostiarius_user", "ines"), 400, ""},
		{web, "/door/decide?answer=", nil, 403, ""},
		{web, "/door/decide?answer=ABC", nil, 403, ""},
		{stranger, "/door/decide", question("GET", "/"), 404, "Ostiarius-Public: "},
		{web, "/door/%64ecide", question("GET", "/"), 404, "Ostiarius-Public: "},
		{web, "/door//decide", question("GET", "/"), 404, "Ostiarius-Public: "},
	} {
		w := b.ask(test.from, test.target, test.fields...)
		if w.Code != test.status {
			t.Errorf("%s %q: %d %s, want %d", test.target, test.fields, w.Code, w.Body, test.status)
		}
		if test.has == "" {
			continue
		}
		for _, field := range strings.Split(test.has, "|") {
			name, value, _ := strings.Cut(field, ": ")
			if got := w.Header().Get(name); got != value {
				t.Errorf("%s %q: %s is %q, want %q", test.target, test.fields, name, got, value)
			}
		}
	}

	// The answer is given once, to the web server alone.
	word := b.ask(web, "/door/decide?plain", question("GET", "/log/")...).Header().Get("Ostiarius-Answer")
	if w := b.ask(stranger, "/door/decide?answer="+word); w.Code != 404 {
		t.Errorf("a stranger: %d", w.Code)
	}
	for _, want := range []int{303, 403} {
		if w := b.ask(web, "/door/decide?answer="+word); w.Code != want {
			t.Errorf("%d, want %d", w.Code, want)
		}
	}
	b.Target = ""
	if w := b.ask(web, "/door/decide", question("GET", "/")...); w.Code != 404 {
		t.Errorf("nobody may ask: %d", w.Code)
	}
}

// Answers that nobody asks for are forgotten, the oldest first.
func TestAnswersAreForgotten(t *testing.T) {
	var a answers
	now := time.Now()
	one := a.keep(&turnedAway{}, now)
	if a.take(one, now.Add(readyLasts)) != nil {
		t.Error("kept too long")
	}
	first := a.keep(&turnedAway{}, now)
	for range mostReady + 10 {
		a.keep(&turnedAway{}, now)
	}
	if len(a.kept) > mostReady || len(a.order) > mostReady || a.take(first, now) != nil {
		t.Errorf("%d kept, %d in order", len(a.kept), len(a.order))
	}
	last := a.keep(&turnedAway{}, now.Add(time.Hour))
	if len(a.kept) != 1 || a.take(last, now.Add(time.Hour)) == nil {
		t.Errorf("%d kept", len(a.kept))
	}
}
