package patrol

import (
	"context"
	"fmt"
	"net/http"
	"net/http/httptest"
	"net/url"
	"slices"
	"strings"
	"testing"
	"time"

	"ostiarius/core/policy/read"
)

func parsed(t testing.TB, text string) *url.URL {
	t.Helper()
	u, err := url.Parse(text)
	if err != nil {
		t.Fatal(err)
	}
	return u
}

func patrolled(t *testing.T, h http.Handler, o Options) *Result {
	t.Helper()
	server := httptest.NewServer(h)
	t.Cleanup(server.Close)
	o.Sites = append(o.Sites, parsed(t, server.URL+"/"))
	r, err := Run(context.Background(), o)
	if err != nil {
		t.Fatal(err)
	}
	return r
}

func asMember() Visitor {
	return Visitor{Who: "member", Cookies: []*http.Cookie{{Name: memberCookie, Value: memberToken}}}
}

func listOf(r *Result) string {
	var b strings.Builder
	for _, f := range r.Findings {
		fmt.Fprintf(&b, "%-14s %-26s as %s: %s\n", f.Rule, f.Path, f.As, f.Message)
	}
	return b.String()
}

// Every fault that was planted is found where it is, and nothing is said of what only looks like one.
func TestFaultySite(t *testing.T) {
	if len(plants) < 40 || len(lookAlikes) < 40 {
		t.Fatalf("%d faults and %d look-alikes", len(plants), len(lookAlikes))
	}
	site := newFaultySite()
	r := patrolled(t, site, Options{Visitors: []Visitor{asMember()}})
	found := map[string]bool{}
	for _, f := range r.Findings {
		found[f.Rule+" "+f.Path] = true
		if len(f.Requests) == 0 || f.Message == "" || f.As == "" {
			t.Errorf("%+v does not show what it says", f)
		}
	}
	faulty := map[string]bool{"/": true} // links to all of it
	for _, p := range plants {
		if !found[p.rule+" "+p.path] {
			t.Errorf("not found: %s at %s", p.rule, p.path)
		}
		for path := range p.pages {
			faulty[path] = true
		}
	}
	for _, f := range r.Findings {
		clean := func(path string) bool {
			return slices.ContainsFunc(lookAlikes, func(l lookAlike) bool {
				_, is := l.pages[path]
				return is || l.path == path
			})
		}
		if clean(f.Path) || !faulty[f.Path] && f.Path != "/vault-sign-in" && !strings.HasPrefix(f.Path, "/stairs/") {
			t.Errorf("said of what is no fault: %s at %s: %s", f.Rule, f.Path, f.Message)
		}
	}
	if n := site.changed.Load(); n != 0 {
		t.Errorf("%d requests would have changed something", n)
	}
	if t.Failed() {
		t.Log("\n" + listOf(r))
	}
}

// Without an account it finds what a stranger can see, and still says nothing of what is none.
func TestFaultySiteAsStranger(t *testing.T) {
	r := patrolled(t, newFaultySite(), Options{})
	for _, f := range r.Findings {
		for _, l := range lookAlikes {
			if _, is := l.pages[f.Path]; is {
				t.Errorf("said of what is no fault: %s at %s: %s", f.Rule, f.Path, f.Message)
			}
		}
	}
	for _, want := range []string{"pretend-guard /boat", "pretend-guard /radio-room", "loop /round/a", "dead-end /pier", "tells /.env",
		"open-redirect /go", "header /store-room", "forgotten /strong-room"} {
		if !slices.ContainsFunc(r.Findings, func(f Finding) bool { return f.Rule+" "+f.Path == want }) {
			t.Errorf("not found: %s", want)
		}
	}
}

// Whatever a site does, a patrol ends, and says what it left out.
func TestHostileSites(t *testing.T) {
	other := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter,
		r *http.Request) {
		t.Errorf("another host was asked for %s", r.URL)
	}))
	defer other.Close()
	for name, c := range map[string]struct {
		site http.HandlerFunc
		says string
	}{
		"pages without end": {func(w http.ResponseWriter, r *http.Request) {
			n := 0
			fmt.Sscanf(r.URL.Path, "/p/%d", &n)
			page(fmt.Sprintf(`<a href="/p/%d">1</a><a href="/p/%d">2</a>`, 2*n+1, 2*n+2))(w, r)
		}, "more than 300 addresses"},
		"queries without end": {func(w http.ResponseWriter, r *http.Request) {
			page(fmt.Sprintf(`<a href="/?q=%sx">1</a><a href="/?q=%sy">2</a>`, r.URL.Query().Get("q"), r.URL.Query().Get("q")))(w, r)
		}, "queries of this address were enough"},
		"deeper and deeper": {func(w http.ResponseWriter, r *http.Request) { page(`<a href="a/">on</a>`)(w, r) }, "segments"},
		"redirects without end": {func(w http.ResponseWriter, r *http.Request) {
			redirect(302, "/x"+strings.TrimPrefix(r.URL.Path, "/"))(w, r)
		}, "redirects in a row"},
		"a huge answer": {func(w http.ResponseWriter, r *http.Request) {
			if r.URL.Path != "/" {
				http.NotFound(w, r)
				return
			}
			w.Header().Set("Content-Type", "text/html")
			for range 1000 {
				if _, err := w.Write([]byte("<p>" + strings.Repeat("more and more ", 2000) + "</p>")); err != nil {
					return
				}
			}
		}, "only the first"},
		"an answer that does not come": {func(w http.ResponseWriter, r *http.Request) {
			if r.URL.Path == "/slow" {
				<-r.Context().Done()
				return
			}
			page(`<a href="/slow">slow</a>`)(w, r)
		}, "no answer"},
		"an answer that never ends": {func(w http.ResponseWriter, r *http.Request) {
			if r.URL.Path != "/drip" {
				page(`<a href="/drip">slow</a>`)(w, r)
				return
			}
			w.Header().Set("Content-Type", "text/html")
			w.Write([]byte("<p>"))
			w.(http.Flusher).Flush()
			<-r.Context().Done()
		}, ""},
		"more than is held": {func(w http.ResponseWriter, r *http.Request) {
			n := 0
			fmt.Sscanf(r.URL.Path, "/p/%d", &n)
			if n > 15 {
				http.NotFound(w, r)
				return
			}
			page(fmt.Sprintf(`<a href="/p/%d">on</a><script>%d %s</script>`, n+1, n, strings.Repeat("x ", 10_000)))(w, r)
		}, "only the links were looked at"},
		"other hosts": {func(w http.ResponseWriter, r *http.Request) {
			if r.URL.Path == "/out" {
				redirect(302, other.URL+"/")(w, r)
				return
			}
			page(`<a href="`+other.URL+`/x">x</a><img src="`+other.URL+`/y"><a href="/out">out</a><script>location="`+other.URL+`/z"</script>`)(w, r)
		}, "another host"},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			r := patrolled(t, c.site, Options{Most: 300, mostHeld: 128 << 10, Patience: 300 * time.Millisecond, Lasts: time.Minute})
			if c.says != "" && !slices.ContainsFunc(r.LeftOut, func(l Left) bool { return strings.Contains(l.Reason, c.says) }) {
				t.Errorf("%q is not among what was left out: %v", c.says, r.LeftOut)
			}
			if r.Visited > 300 {
				t.Errorf("%d addresses", r.Visited)
			}
		})
	}
}

// Whatever a page has, it is read in reasonable time, and to its end.
func FuzzDocument(f *testing.F) {
	f.Add("text/html", `<form action=/x><input type=password><input type=hidden name=a value=b></form><a href="/y">y</a><meta `+
		`http-equiv=refresh content="0;url=/z"><script>if(p=="abc")location="/w"</script><style>.a{display:none}</style><div class=a `+
		`hidden>text</div><!-- <a href="/v"> -->`)
	f.Add("text/javascript", `fetch("/api/x.json"); const PASSWORD = "abc-123"; if (btoa(p.value) === atob("YWJjZGVm")) location = "/x"`)
	f.Add("text/css", `@import "/a.css"; .b { background: url(/c.png) }`)
	f.Fuzz(func(t *testing.T, mime, text string) {
		d := readDocument(mime, []byte(text))
		if len(d.links) > mostLinks || len(d.words) > mostWords {
			t.Fatal("more than is kept")
		}
		keyIn(d)
		checkIn(d.scripts, d.secrets)
		leavesAfter(d)
		hiddenIn(d, d.scripts, d.styles)
	})
}

// A guard that looks at GET alone is found by who may send other methods; nobody else sends them.
func TestOtherMethods(t *testing.T) {
	sent := map[string]int{}
	site := http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.URL.Path == "/vault" {
			sent[r.Method]++
			if r.Method == "GET" {
				answer(403, "Cache-Control: no-store", "no")(w, r)
				return
			}
			page(secretText)(w, r)
			return
		}
		if r.URL.Path != "/" {
			http.NotFound(w, r)
			return
		}
		page(`<form action="/vault"><button>Vault</button></form>`)(w, r)
	})
	if r := patrolled(t, site, Options{Together: 1}); len(r.Findings) != 0 || sent["POST"] != 0 {
		t.Errorf("%v %s", sent, listOf(r))
	}
	r := patrolled(t, site, Options{Together: 1, Methods: []string{"POST"}})
	if len(r.Findings) != 1 || r.Findings[0].Rule != "forgotten" || r.Findings[0].Path != "/vault" || sent["POST"] == 0 ||
		sent["DELETE"] != 0 {
		t.Errorf("%v %s", sent, listOf(r))
	}
}

// Servers behind are asked where others than this machine can ask them.
func TestElsewhere(t *testing.T) {
	b, findings := read.Parse("doors.yaml", []byte("sources: [ { path: /, proxy: \"http://127.0.0.1:8461\" }, { path: /a, proxy: "+
		"\"http://10.0.0.7:80\" }, { path: /b, proxy: \"unix:x.sock\" } ]\ndoors: [ { path: /**, admit: public } ]"))
	if b == nil {
		t.Fatal(findings)
	}
	for site, want := range map[string]string{
		"https://marram.example/": "[http://marram.example:8461 http://10.0.0.7:80]", "http://localhost:8460/": "[http://10.0.0.7:80]",
	} {
		if got := fmt.Sprint(Elsewhere(b, parsed(t, site))); got != want {
			t.Errorf("%s: %s, want %s", site, got, want)
		}
	}
}

// Rules look at no more pages once their time is over, however much was read.
func TestRulesEndWithThePatrol(t *testing.T) {
	w := newWalk(&Options{Sites: []*url.URL{parsed(t, "https://marram.example/")}})
	for range 3 {
		w.order = append(w.order, &address{answers: []*answered{}})
	}
	looked := 0
	w.ends.Store(time.Now().Add(time.Hour).UnixNano())
	w.each(func(*address) {
		if looked++; looked == 2 {
			w.ends.Store(time.Now().Add(-time.Second).UnixNano())
		}
	})
	if looked != 2 {
		t.Errorf("%d pages are looked at", looked)
	}
}
