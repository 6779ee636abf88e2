package guard

import (
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"net/netip"
	"strings"
	"testing"
	"time"

	"ostiarius/core/policy"
	"ostiarius/core/policy/read"
	"ostiarius/core/throttle"
)

// What is handed on is spelled as it was judged; what is turned away has no body, and the shell of an application goes to those who may
// have it alone.
func TestWhatIsHandedOnAndWhatIsNot(t *testing.T) {
	p := openPorch(t)
	p.visitor = policy.Visitor{}
	for target, want := range map[string]string{"/": "/", "/?x=1": "/?x=1", "/a/..": "/", "/%2f": ""} {
		w := p.ask("GET", target, func(r *http.Request) string { return r.RequestURI + " " + r.URL.Path })
		if path, _, _ := strings.Cut(want, "?"); want != "" && w.Body.String() != want+" "+path || want == "" && w.Code != 400 {
			t.Errorf("%s: %d %s, want %s", target, w.Code, w.Body, want)
		}
	}
	house := p.House()
	house.Shell = http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) { io.WriteString(w, "the shell") })
	p.Guard.House = func() *House { return house }
	var body string
	p.Turned = func(w http.ResponseWriter, r *http.Request, away *TurnedAway) {
		text, _ := io.ReadAll(r.Body)
		body = string(text)
		w.WriteHeader(away.Answer.Status)
	}
	r := httptest.NewRequest("POST", "/log/", strings.NewReader("what was typed"))
	w := httptest.NewRecorder()
	p.ServeHTTP(w, r)
	if w.Code == 200 || strings.Contains(w.Body.String(), "shell") || body != "" {
		t.Errorf("%d %s, with the body %q", w.Code, w.Body, body)
	}
	h := http.Header{"Cache-Control": {"public"}}
	if KeepPrivate(h); h.Get("Cache-Control") != "private, no-store" {
		t.Error(h)
	}
}

// Whoever has to wait is told the seconds, rounded up.
func TestRetryAfter(t *testing.T) {
	p := openPorch(t)
	for wait, want := range map[time.Duration]string{
		time.Second: "1", 1001 * time.Millisecond: "2", 1500 * time.Millisecond: "2", time.Minute: "60", 1: "1", 0: "",
	} {
		p.down = &Later{Status: 429, Wait: wait, Text: "Wait."}
		if w := p.ask("GET", "/log/", nil); w.Code != 429 || w.Header().Get("Retry-After") != want ||
			!strings.Contains(w.Body.String(), "Wait.") {
			t.Errorf("%s: %d %v %s", wait, w.Code, w.Header(), w.Body)
		}
	}
	p.down = io.ErrUnexpectedEOF
	if w := p.ask("GET", "/log/", nil); w.Code != 503 || w.Header().Get("Retry-After") != "2" {
		t.Errorf("%d %v", w.Code, w.Header())
	}
}

// Shared passwords are looked at where they are asked for, alone and beside passes, and nowhere else.
func TestWhereUnlocksAreLookedAt(t *testing.T) {
	book, findings := read.Parse("doors.yaml", []byte("shared: { kit: , all: }\npasses: { recordings: }\ndoors:\n  - { path: /, "+
		"admit: public }\n  - { path: /one, admit: { shared: kit } }\n"+
		"  - { path: /two, admit: { shared: [ kit, all ] } }\n  - { path: /pass, admit: { pass: recordings } }\n  - { path: /log, admit: "+
		"signed-in }\n"))
	if book == nil {
		t.Fatal(findings)
	}
	looked := 0
	g := &Guard{
		House:    func() *House { return &House{Book: book, Site: http.NotFoundHandler()} },
		Who:      func(http.Header, *http.Request) (policy.Visitor, error) { return policy.Visitor{}, nil },
		Unlocked: func(_ *http.Request, _ policy.Wanted, t *Turn) error { looked++; return nil },
		Own:      http.NotFoundHandler(),
		Turned:   func(w http.ResponseWriter, _ *http.Request, away *TurnedAway) { w.WriteHeader(away.Answer.Status) },
	}
	for path, want := range map[string]int{"/": 0, "/one": 1, "/two": 1, "/pass": 1, "/log": 0} {
		looked = 0
		g.ServeHTTP(httptest.NewRecorder(), httptest.NewRequest("GET", path, nil))
		if looked != want {
			t.Errorf("%s: looked %d times", path, looked)
		}
	}
}

// Of bodies under way one network has its share; who sends more is told to come again, and has room when the first is over.
func TestOneNetworkHasItsShareOfBodies(t *testing.T) {
	book, findings := read.Parse("doors.yaml", []byte("doors: [{path: /**, admit: public}]"))
	if book == nil {
		t.Fatal(findings)
	}
	begun := make(chan bool, 10)
	g := &Guard{
		House: func() *House {
			return &House{Book: book, Site: http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
				begun <- true
				io.Copy(io.Discard, r.Body)
			})}
		},
		Who: func(http.Header, *http.Request) (policy.Visitor, error) { return policy.Visitor{}, nil }, Own: http.NotFoundHandler(),
		Turned: func(w http.ResponseWriter, _ *http.Request, _ *TurnedAway) { w.WriteHeader(403) },
		Bodies: throttle.NewBound(10, 1), Front: &Front{},
	}
	server := httptest.NewServer(g)
	defer server.Close()
	first, err := net.Dial("tcp", server.Listener.Addr().String())
	if err != nil {
		t.Fatal(err)
	}
	defer first.Close()
	io.WriteString(first, "POST / HTTP/1.1\r\nHost: marram.example\r\nContent-Length: 10\r\n\r\nabc")
	<-begun
	post := func() int {
		t.Helper()
		resp, err := http.Post(server.URL, "text/plain", strings.NewReader("abc"))
		if err != nil {
			t.Fatal(err)
		}
		resp.Body.Close()
		return resp.StatusCode
	}
	if got := post(); got != 503 {
		t.Errorf("a second body of the network: %d", got)
	}
	io.WriteString(first, "defghij")
	for end := time.Now().Add(10 * time.Second); post() != 200; time.Sleep(5 * time.Millisecond) {
		if time.Now().After(end) {
			t.Fatal("no room, though the first is over")
		}
	}
	if b := (&Guard{}).receive(httptest.NewRecorder(), httptest.NewRequest("POST", "/", strings.NewReader("x"))); b == nil ||
		b.idle != 30*time.Second {
		t.Errorf("%+v", b)
	}
	if b := (&Guard{BodyIdle: time.Second}).receive(httptest.NewRecorder(),
		httptest.NewRequest("POST", "/", strings.NewReader("x"))); b == nil || b.idle != time.Second {
		t.Errorf("%+v", b)
	}
}

// An address of a hop is read in each of its forms, and in no other.
func TestHops(t *testing.T) {
	for text, want := range map[string]string{
		"192.0.2.7": "192.0.2.7", " 192.0.2.7 ": "192.0.2.7", "192.0.2.7:4711": "192.0.2.7", "2001:db8::7": "2001:db8::7",
		"[2001:db8::7]":      "2001:db8::7",
		"[2001:db8::7]:4711": "2001:db8::7", "::ffff:192.0.2.7": "192.0.2.7", "[192.0.2.7]": "", "[2001:db8::7": "", "2001:db8::7]": "",
		"[]": "", "": "", "unknown": "",
		"[fe80::1%eth0]": "fe80::1", "192.0.2.7:": "", "192.0.2.7:x": "",
	} {
		got := hop(text)
		if got.IsValid() != (want != "") || want != "" && got != netip.MustParseAddr(want) {
			t.Errorf("%q: %s, want %q", text, got, want)
		}
	}
}

// Of what stands in front so many addresses are remembered, and each says what it has to say.
func TestWhatIsHeard(t *testing.T) {
	var h heard
	field := http.Header{XForwardedFor: {"198.51.100.1"}}
	at := func(i int) netip.Addr { return netip.AddrFrom4([4]byte{10, 0, byte(i >> 8), byte(i)}) }
	for i := range mostHeard {
		h.stranger(at(i), field)
		h.peer(at(i), XForwardedFor, nil)
	}
	h.stranger(at(0), field)
	h.stranger(at(1), http.Header{Forwarded: {"for=x"}})
	h.stranger(at(2), http.Header{XRealIP: {"x"}})
	h.stranger(at(3), nil)
	if len(h.claims) != 64 || h.claims[at(0)] != 2 || h.claims[at(1)] != 2 || h.claims[at(2)] != 2 || h.claims[at(3)] != 1 ||
		len(h.peers) != 64 {
		t.Errorf("%d claims, %d peers, %v", len(h.claims), len(h.peers), h.claims)
	}
	h.stranger(at(1000), field)
	if len(h.claims) != 1 {
		t.Errorf("%d claims", len(h.claims))
	}
	for what, test := range map[string]struct {
		believed string
		header   http.Header
		want     string
	}{
		"the one":                    {XForwardedFor, http.Header{XForwardedFor: {"a"}}, "none"},
		"none":                       {XForwardedFor, nil, "{ X-Forwarded-For}"},
		"the usual pair":             {XForwardedFor, http.Header{XForwardedFor: {"a"}, XRealIP: {"a"}}, "none"},
		"another besides":            {XForwardedFor, http.Header{XForwardedFor: {"a"}, Forwarded: {"for=a"}}, "{Forwarded }"},
		"X-Real-IP alone":            {XForwardedFor, http.Header{XRealIP: {"a"}}, "{X-Real-Ip X-Forwarded-For}"},
		"X-Real-IP beside Forwarded": {Forwarded, http.Header{Forwarded: {"for=a"}, XRealIP: {"a"}}, "{X-Real-Ip }"},
	} {
		var h heard
		h.peer(at(1), test.believed, test.header)
		got := "none"
		if told := h.peers[at(1)]; told != nil {
			got = fmt.Sprint(*told)
		}
		if got != test.want {
			t.Errorf("%s: %s, want %s", what, got, test.want)
		}
	}
}

// Beside a web server: an address of the network that is asked for opens, a target of another host is rejected, HTTP Basic is asked for in
// the words of the server, and a service that is down says so in full to those that hand it on.
func TestBesideInDetail(t *testing.T) {
	b := asking(t)
	const web = "127.0.0.1:4711"
	for what, test := range map[string]struct {
		target string
		fields []string
		status int
		field  string
	}{
		"of the network": {"/door/decide",
			[]string{"X-Original-Method", "GET", "X-Original-Uri", "/lan/", "X-Forwarded-For", "192.0.2.9"}, 200, ""},
		"of another": {"/door/decide",
			[]string{"X-Original-Method", "GET", "X-Original-Uri", "/lan/", "X-Forwarded-For", "198.51.100.9"}, 403, ""},
		"another host": {"/door/decide",
			[]string{"X-Original-Method", "GET", "X-Original-Uri", "http://other.example/", "X-Forwarded-For", "192.0.2.9"}, 400, ""},
		"the same host": {"/door/decide",
			[]string{"X-Original-Method", "GET", "X-Original-Uri", "http://EXAMPLE.com/", "X-Forwarded-For", "192.0.2.9"}, 200, ""},
		"down, in full": {"/door/decide?whole",
			[]string{"X-Original-Method", "GET", "X-Original-Uri", "/log/", "Lamp", "broken"}, 503, "Retry-After: 2"},
		"down, in full, for HEAD": {"/door/decide?whole",
			[]string{"X-Original-Method", "HEAD", "X-Original-Uri", "/log/", "Lamp", "broken"}, 503, "Retry-After: 2"},
	} {
		w := b.ask(web, test.target, test.fields...)
		name, value, _ := strings.Cut(test.field, ": ")
		if w.Code != test.status || name != "" && w.Header().Get(name) != value {
			t.Errorf("%s: %d %v %s", what, w.Code, w.Header(), w.Body)
		}
	}
}
