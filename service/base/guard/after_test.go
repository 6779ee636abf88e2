package guard

import (
	"bufio"
	"context"
	"errors"
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

// People are led on to places of the site and to the origins that are named, in one spelling, and nowhere else.
func TestNext(t *testing.T) {
	book, findings := read.Parse("doors.yaml", []byte("doors: [{path: /, admit: public}]\norigins: [https://app.marram.example, "+
		"\"https://shop.example:8443\"]"))
	if book == nil {
		t.Fatal(findings)
	}
	for next, want := range map[string]string{
		"/log/?day=2": "/log/?day=2", "/a/../b": "/b", "": "", "https://evil.example/": "", "//evil.example": "", "/\\evil.example": "",
		"https://app.marram.example":                              "https://app.marram.example/",
		"https://app.marram.example/":                             "https://app.marram.example/",
		"https://app.marram.example/a/../b?x=1":                   "https://app.marram.example/b?x=1",
		"https://app.marram.example/a;b":                          "https://app.marram.example/a;b",
		"https://app.marram.example//evil.example":                "",
		"https://app.marram.example?x":                            "",
		"https://app.marram.example.evil.example":                 "",
		"https://app.marram.example:8443/":                        "",
		"https://app.marram.example@evil.example/":                "",
		"http://app.marram.example/":                              "",
		"https://shop.example:8443/basket":                        "https://shop.example:8443/basket",
		"https://shop.example:84431/":                             "",
		"https://shop.example/":                                   "",
		"https://app.marram.example/a?x=\"":                       "",
		"https://app.marram.example/%zz":                          "",
		"https://app.marram.example\\@evil.example/":              "",
		"javascript:alert(1)":                                     "",
		"https://app.marram.example/" + strings.Repeat("x", 9000): "",
	} {
		if got := Next(book, next); got != want {
			t.Errorf("%.80q: %q, want %q", next, got, want)
		}
	}
}

// What goes on is ended when its visitor would be admitted no longer: by another policy, another role, another walk, or since nobody can be
// recognised. The age of a proof stays what it was.
func TestStill(t *testing.T) {
	p := openPorch(t)
	now, gone := p.visitor, error(nil)
	p.Again = func(*http.Request, bool) (policy.Visitor, error) { return now, gone }
	p.visitor.ProofAge = time.Minute
	house := p.House()
	p.Guard.House = func() *House { return house }
	closed, findings := read.Parse("doors.yaml", []byte("roles: { trustee: }\ndoors: [{path: /, admit: public}, {path: /log/**, "+
		"admit: {role: trustee}}]"))
	if closed == nil {
		t.Fatal(findings)
	}
	for what, test := range map[string]struct {
		change func()
		want   bool
	}{
		"as before":            {func() {}, true},
		"another policy":       {func() { house = &House{Book: closed, Site: house.Site} }, false},
		"signed out":           {func() { now = policy.Visitor{} }, false},
		"nobody is recognised": {func() { gone = errors.New("the records cannot be read") }, false},
		"on a walk as nobody": {func() {
			p.Walking = func(http.Header, *http.Request, *policy.Book) *Walk { return &Walk{} }
		}, false},
		"on a walk as somebody": {func() {
			p.Walking = func(http.Header, *http.Request, *policy.Book) *Walk { return &Walk{As: p.visitor} }
		}, true},
	} {
		before := house
		w := p.ask("GET", "/log/", func(r *http.Request) string {
			if !p.Still(r.Context(), true) {
				t.Errorf("%s: not even before", what)
			}
			test.change()
			if got := p.Still(r.Context(), true); got != test.want {
				t.Errorf("%s: %v", what, got)
			}
			return "asked"
		})
		if w.Body.String() != "asked" {
			t.Errorf("%s: %d", what, w.Code)
		}
		house, now, gone, p.Walking = before, p.visitor, nil, nil
	}
	// A walk that ends leaves nobody, though the steward who walks may be admitted.
	walk := &Walk{As: p.visitor}
	p.Walking = func(http.Header, *http.Request, *policy.Book) *Walk { return walk }
	p.ask("GET", "/log/", func(r *http.Request) string {
		walk = nil
		if p.Still(r.Context(), false) {
			t.Error("the walk is over")
		}
		return ""
	})
	if p.Still(t.Context(), true) {
		t.Error("without a request")
	}
}

// A held pass of the tests.
type held struct {
	kind      string
	opens     bool
	err       error
	used      int
	delivered []string
	whole     []bool
	refuses   bool
}

func (h *held) Kind() string { return h.kind }
func (h *held) Use(context.Context, netip.Addr) (bool, error) {
	h.used++
	return h.opens, h.err
}

func (h *held) Deliver(w http.ResponseWriter, r *http.Request, refuse func(http.ResponseWriter, *http.Request)) Delivery {
	h.delivered = append(h.delivered, r.Method)
	if h.refuses {
		refuse(w, r)
	}
	return &delivery{w, h}
}

type delivery struct {
	http.ResponseWriter
	of *held
}

func (d *delivery) Finish(whole bool) { d.of.whole = append(d.of.whole, whole) }

// Passes are used where they are needed and nowhere else, by all of them is counted, and a pass that opens nothing any more leaves its
// holder outside.
func TestPassesAreUsed(t *testing.T) {
	book, findings := read.Parse("doors.yaml", []byte(`
passes: { recordings: , notes: }
doors:
  - { path: /, admit: public }
  - { path: /recordings/**, admit: { pass: recordings } }
  - { path: /both/**, admit: { all: [ { pass: recordings }, { pass: notes } ] } }
  - { path: /either/**, admit: { any: [ signed-in, { pass: recordings } ] } }
`))
	if book == nil {
		t.Fatal(findings)
	}
	down := errors.New("the records cannot be read")
	for what, test := range map[string]struct {
		path      string
		signedIn  bool
		one, two  held
		status    int
		used      string // of each
		delivered string
	}{
		"opens":                    {"/recordings/a", false, held{opens: true}, held{}, 200, "1 0", "[GET] []"},
		"opens no more":            {"/recordings/a", false, held{}, held{}, 403, "1 0", "[] []"},
		"cannot be known":          {"/recordings/a", false, held{opens: true, err: down}, held{}, 503, "1 0", "[] []"},
		"both are needed":          {"/both/a", false, held{opens: true}, held{opens: true}, 200, "1 1", "[GET] [GET]"},
		"one of both opens":        {"/both/a", false, held{opens: true}, held{}, 403, "1 1", "[] []"},
		"not needed":               {"/either/a", true, held{opens: true}, held{}, 200, "0 0", "[] []"},
		"needed by who is nobody":  {"/either/a", false, held{opens: true}, held{}, 200, "1 0", "[GET] []"},
		"at a place without doors": {"/", false, held{opens: true}, held{}, 200, "0 0", "[] []"},
	} {
		one, two := test.one, test.two
		one.kind, two.kind = "recordings", "notes"
		g := &Guard{
			House: func() *House {
				return &House{Book: book, Site: http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) { io.WriteString(w, "a recording") })}
			},
			Who: func(http.Header, *http.Request) (policy.Visitor, error) {
				return policy.Visitor{SignedIn: test.signedIn, Account: map[bool]string{true: "ines"}[test.signedIn]}, nil
			},
			Unlocked: func(_ *http.Request, want policy.Wanted, t *Turn) error {
				for _, kind := range want.Passes {
					t.Visitor.Passes = append(t.Visitor.Passes, kind)
					t.Passes = append(t.Passes, map[string]*held{"recordings": &one, "notes": &two}[kind])
				}
				return nil
			},
			Own:    http.NotFoundHandler(),
			UsedUp: func(w http.ResponseWriter, _ *http.Request) { w.WriteHeader(http.StatusForbidden) },
			Turned: func(w http.ResponseWriter, _ *http.Request, _ *TurnedAway) { w.WriteHeader(http.StatusForbidden) },
		}
		w := httptest.NewRecorder()
		g.ServeHTTP(w, httptest.NewRequest("GET", test.path, nil))
		if w.Code != test.status || fmt.Sprint(one.used, two.used) != test.used || fmt.Sprint(one.delivered, two.delivered) != test.delivered {
			t.Errorf("%s: %d, used %d %d, delivered %v %v", what, w.Code, one.used, two.used, one.delivered, two.delivered)
		}
		for _, whole := range append(one.whole, two.whole...) {
			if !whole {
				t.Errorf("%s: was not delivered whole", what)
			}
		}
		// What breaks off was not delivered whole, and is finished all the same.
		if test.status == 200 && len(one.delivered) > 0 {
			one.whole = nil
			g.House = func() *House {
				return &House{Book: book, Site: http.HandlerFunc(func(http.ResponseWriter, *http.Request) { panic(http.ErrAbortHandler) })}
			}
			func() {
				defer func() { recover() }()
				g.ServeHTTP(httptest.NewRecorder(), httptest.NewRequest("GET", test.path, nil))
			}()
			if fmt.Sprint(one.whole) != "[false]" {
				t.Errorf("%s: what broke off was finished %v", what, one.whole)
			}
		}
	}
}

// An answer that begins before the body is over says that the connection ends with it; of bodies under way there is a bound, which is given
// back.
func TestBodiesUnderWay(t *testing.T) {
	book, findings := read.Parse("doors.yaml", []byte("doors: [{path: /**, admit: public}]"))
	if book == nil {
		t.Fatal(findings)
	}
	read := map[string]bool{}
	how := map[string]func(w http.ResponseWriter){
		"/write": func(w http.ResponseWriter) { io.WriteString(w, "x") }, "/header": func(w http.ResponseWriter) { w.WriteHeader(204) },
		"/flush": func(w http.ResponseWriter) { w.(http.Flusher).Flush() }, "/nothing": func(http.ResponseWriter) {},
		"/copy":   func(w http.ResponseWriter) { io.Copy(w, strings.NewReader("x")) },
		"/before": func(w http.ResponseWriter) { w.WriteHeader(103); io.WriteString(w, "x") },
	}
	g := &Guard{
		House: func() *House {
			return &House{Book: book, Site: http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
				if read[r.URL.Path] {
					io.Copy(io.Discard, r.Body)
				}
				how[r.URL.Path](w)
			})}
		},
		Who:      func(http.Header, *http.Request) (policy.Visitor, error) { return policy.Visitor{}, nil },
		Own:      http.NotFoundHandler(),
		Turned:   func(w http.ResponseWriter, _ *http.Request, _ *TurnedAway) { w.WriteHeader(403) },
		BodyIdle: 10 * time.Second,
		Bodies:   throttle.NewBound(4, 1),
	}
	server := httptest.NewServer(g)
	defer server.Close()
	for path := range how {
		for _, all := range []bool{true, false} {
			read[path] = all
			for end := time.Now().Add(10 * time.Second); g.Bodies.Held() > 0 && time.Now().Before(end); { // of the one before
				time.Sleep(time.Millisecond)
			}
			conn, err := net.Dial("tcp", server.Listener.Addr().String())
			if err != nil {
				t.Fatal(err)
			}
			conn.SetDeadline(time.Now().Add(10 * time.Second))
			body := "ten bytes."
			if !all {
				body = "ten" // and no more
			}
			fmt.Fprintf(conn, "POST %s HTTP/1.1\r\nHost: marram.example\r\nContent-Length: 10\r\n\r\n%s", path, body)
			reader := bufio.NewReader(conn)
			resp, err := http.ReadResponse(reader, nil)
			if err == nil && resp.StatusCode == 103 {
				if resp.Header.Get("Connection") == "close" {
					t.Errorf("%s: an answer before the answer ends the connection", path)
				}
				resp, err = http.ReadResponse(reader, nil)
			}
			if err != nil || resp.Close == all {
				t.Errorf("%s, with the whole body %v: %v, %+v", path, all, err, resp)
			}
			conn.Close()
		}
	}
	for end := time.Now().Add(10 * time.Second); ; time.Sleep(time.Millisecond) { // nothing is still counted
		if g.Bodies.Held() == 0 {
			break
		}
		if time.Now().After(end) {
			t.Fatal("bodies that are over are still counted")
		}
	}
}
