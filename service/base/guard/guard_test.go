package guard

import (
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
)

func TestOwnPath(t *testing.T) {
	book, findings := read.Parse("doors.yaml", []byte("doors: [{path: /, admit: public}]"))
	if book == nil {
		t.Fatal(findings)
	}
	for next, want := range map[string]string{
		"/rota/": "/rota/", "/rota": "/rota", "/": "/", "/rota/?week=3&x=a%20b": "/rota/?week=3&x=a%20b", "/a/../rota/": "/rota/",
		"/caf%C3%A9": "/caf%C3%A9",
		"/a%20b":     "/a%20b", "/./x": "/x", "/x?": "/x?",
	} {
		if got := OwnPath(book, next); got != want {
			t.Errorf("%q: %q, want %q", next, got, want)
		}
	}
	for _, next := range []string{
		"", "https://evil.example/", "http://evil.example", "HTTPS://evil.example", "//evil.example/", "///evil.example",
		"////evil.example", `/\evil.example`,
		`\/evil.example`, `\\evil.example`, "/%5cevil.example", "/%5Cevil.example", "//", "http:evil.example", "http:/evil.example",
		"javascript:alert(1)",
		"data:text/html,x", "evil.example", "evil.example/rota/", "rota/", "./rota", "../rota", "/%2f/evil.example", "/%2Fevil.example",
		"/%2f%2fevil.example",
		"/a\r\nLocation: https://evil.example", "/a%0d%0aX: y", "/a%0aX", "\t//evil.example", "\n/rota/", " /rota/", " //evil.example",
		"/\t/evil.example",
		"/rota/;x", "/%00", "/%zz", "/%", "?next=/rota/", "#x", "/rota/#x", "/rota/?x=\r\n", "/rota/?<x>", "/rota/?x=\"", "/rota/? x",
		"/rota/?\\",
		"/\x00", "/\xff", "/%ff", "/%c0%ae", "/%252e%252e", "@evil.example", "/rota/?\u00e9", "user@evil.example", ":8460/",
		"//evil.example:80/%2e%2e", "http:///evil.example",
		"//user:pw@evil.example", "/\u2028", "mailto:x@evil.example", "vbscript:x", "/%e2%80%a8\n",
	} {
		if got := OwnPath(book, next); got != "" && next != "/\u2028" {
			t.Errorf("%q leads to %q", next, got)
		}
	}
}

func TestFront(t *testing.T) {
	peers := []netip.Prefix{netip.MustParsePrefix("10.0.0.0/8"), netip.MustParsePrefix("fd00::/8")}
	usual := &Front{Peers: peers}
	standard := &Front{Peers: peers, Address: Forwarded, Scheme: Forwarded, Host: Forwarded}
	single := &Front{Peers: peers, Address: XRealIP, Host: XForwardedHost}
	const unknown = "invalid IP"
	for _, test := range []struct {
		name   string
		front  *Front
		remote string
		fields string // name: value|name: value
		client string
		secure bool
		host   string
	}{
		{"direct", usual, "192.0.2.1:99", "", "192.0.2.1", false, "site"},
		{"a stranger's claims", usual, "192.0.2.1:99",
			"X-Forwarded-For: 198.51.100.1|X-Forwarded-Proto: https|Forwarded: for=198.51.100.1", "192.0.2.1", false, "site"},
		{"a peer", usual, "10.0.0.1:99", "X-Forwarded-For: 198.51.100.1|X-Forwarded-Proto: https", "198.51.100.1", true, "site"},
		{"a peer that hands on a stranger's Forwarded", usual, "10.0.0.1:99",
			"X-Forwarded-For: 198.51.100.1|Forwarded: for=10.9.9.9;proto=https;host=other", "198.51.100.1", false, "site"},
		{"a peer that hands on a stranger's X-Real-IP", usual, "10.0.0.1:99", "X-Forwarded-For: 198.51.100.1|X-Real-Ip: 10.9.9.9",
			"198.51.100.1", false, "site"},
		{"a peer that hands on a stranger's host", usual, "10.0.0.1:99", "X-Forwarded-For: 198.51.100.1|X-Forwarded-Host: other",
			"198.51.100.1", false, "site"},
		{"a peer that hands on a stranger's X-Forwarded-For", standard, "10.0.0.1:99",
			"X-Forwarded-For: 10.9.9.9|X-Forwarded-Proto: https|Forwarded: for=198.51.100.1;host=site", "198.51.100.1", false, "site"},
		{"claims behind a peer", usual, "10.0.0.1:99", "X-Forwarded-For: 203.0.113.9, 198.51.100.1, 10.0.0.2", "198.51.100.1", false, "site"},
		{"claims in several lines", usual, "10.0.0.1:99", "X-Forwarded-For: 203.0.113.9|X-Forwarded-For: 198.51.100.1", "198.51.100.1",
			false, "site"},
		{"peers only", usual, "10.0.0.1:99", "X-Forwarded-For: 10.0.0.3, 10.0.0.2", "10.0.0.3", false, "site"},
		{"unreadable", usual, "10.0.0.1:99", "X-Forwarded-For: 198.51.100.1, nonsense", unknown, false, "site"},
		{"empty", usual, "10.0.0.1:99", "X-Forwarded-For: ", unknown, false, "site"},
		{"nothing said", usual, "10.0.0.1:99", "", unknown, false, "site"},
		{"two schemes", usual, "10.0.0.1:99", "X-Forwarded-For: 198.51.100.1|X-Forwarded-Proto: http|X-Forwarded-Proto: https",
			"198.51.100.1", false, "site"},
		{"an address in half a bracket", usual, "10.0.0.1:99", "X-Forwarded-For: [2001:db8::7", unknown, false, "site"},
		{"a number", usual, "10.0.0.1:99", "X-Forwarded-For: 167772161", unknown, false, "site"},
		{"standard", standard, "10.0.0.1:99", `Forwarded: for=203.0.113.9;proto=https, ` +
			`for="[2001:db8::7]:4711";proto=https;host="marram.example:8443"`, "2001:db8::7", true, "marram.example:8443"},
		{"obfuscated", standard, "10.0.0.1:99", "Forwarded: for=_hidden;proto=https;host=site", unknown, true, "site"},
		{"a quotation mark left open", standard, "10.0.0.1:99", `Forwarded: for="198.51.100.1, for=10.9.9.9;host=site`, unknown, false, noHost},
		{"a comma in quotation marks", standard, "10.0.0.1:99",
			`Forwarded: for=10.9.9.9, for="198.51.100.1";by="a, for=10.8.8.8";host=site`, "198.51.100.1", false, "site"},
		{"a parameter twice", standard, "10.0.0.1:99", "Forwarded: for=198.51.100.1;for=10.9.9.9;host=site", unknown, false, noHost},
		{"no host said", standard, "10.0.0.1:99", "Forwarded: for=198.51.100.1", "198.51.100.1", false, noHost},
		{"one address", single, "10.0.0.1:99", "X-Real-Ip: 198.51.100.1|X-Forwarded-Host: other.example", "198.51.100.1", false, "other.example"},
		{"two single addresses", single, "10.0.0.1:99",
			"X-Real-Ip: 198.51.100.1|X-Real-Ip: 10.9.9.9|X-Forwarded-Host: a|X-Forwarded-Host: b", unknown, false, noHost},
		{"IPv6 peer", usual, "[fd00::1]:99", "X-Forwarded-For: 2001:db8::7", "2001:db8::7", false, "site"},
		{"mapped", usual, "[::ffff:10.0.0.1]:99", "X-Forwarded-For: ::ffff:198.51.100.1", "198.51.100.1", false, "site"},
	} {
		r := httptest.NewRequest("GET", "/", nil)
		r.RemoteAddr, r.Host = test.remote, "site"
		for line := range strings.SplitSeq(test.fields, "|") {
			if name, value, ok := strings.Cut(line, ": "); ok {
				r.Header.Add(name, value)
			}
		}
		if got := test.front.Client(r).String(); got != test.client {
			t.Errorf("%s: client %s, want %s", test.name, got, test.client)
		}
		if got := test.front.Secure(r); got != test.secure {
			t.Errorf("%s: secure %v", test.name, got)
		}
		if test.front.setHost(r); r.Host != test.host {
			t.Errorf("%s: host %s, want %s", test.name, r.Host, test.host)
		}
	}
}

func TestRemarks(t *testing.T) {
	ask := func(f *Front, times int, remote string, fields ...string) {
		r := httptest.NewRequest("GET", "/", nil)
		r.RemoteAddr = remote
		for i := 0; i < len(fields); i += 2 {
			r.Header.Set(fields[i], fields[i+1])
		}
		for range times {
			f.Client(r)
		}
	}
	says := func(f *Front, what string) {
		t.Helper()
		if got := strings.Join(f.Remarks(), "\n"); (got == "") != (what == "") || !strings.Contains(got, what) {
			t.Errorf("%q, want %q", got, what)
		}
	}
	f := &Front{Peers: []netip.Prefix{netip.MustParsePrefix("10.0.0.0/8")}}
	ask(f, 5, "10.0.0.1:9", "X-Forwarded-For", "198.51.100.1", "X-Real-Ip", "198.51.100.1")
	says(f, "")
	ask(f, 1, "10.0.0.1:9", "X-Forwarded-For", "198.51.100.1", "Forwarded", "for=198.51.100.1")
	says(f, "10.0.0.1 sends Forwarded too")
	f = &Front{Peers: f.Peers}
	ask(f, 1, "10.0.0.1:9")
	says(f, "without X-Forwarded-For")
	// A stranger's claim among others' requests is no news; all from one address are.
	f = &Front{}
	ask(f, 100, "192.0.2.1:9")
	ask(f, 50, "192.0.2.2:9", "X-Forwarded-For", "1.1.1.1")
	says(f, "")
	ask(f, 20_000, "192.0.2.2:9", "X-Forwarded-For", "1.1.1.1")
	says(f, "--trusted-peer 192.0.2.2")
}

// FuzzForwarded: what a stranger wrote before the last element that a peer has added changes
// nothing, unless it makes the field unreadable.
func FuzzForwarded(f *testing.F) {
	f.Add(`for=10.9.9.9, for="a`)
	f.Add(`for="\\"`)
	f.Add(`;;,=`)
	f.Fuzz(func(t *testing.T, stranger string) {
		front := &Front{Peers: []netip.Prefix{netip.MustParsePrefix("10.0.0.1/32")}, Address: Forwarded}
		for _, values := range [][]string{{stranger, "for=198.51.100.1"}, {stranger + ", for=198.51.100.1"}} {
			r := httptest.NewRequest("GET", "/", nil)
			r.RemoteAddr = "10.0.0.1:9"
			r.Header["Forwarded"] = values
			if a := front.Client(r); a.IsValid() && a.String() != "198.51.100.1" {
				t.Fatalf("%q is taken for %v", values, a)
			}
		}
	})
}

// A client that sends nothing more of a body is not waited for, and one that sends it
// slowly but steadily is.
func TestSlowBodies(t *testing.T) {
	book, findings := read.Parse("doors.yaml", []byte("doors: [{path: /**, admit: public}]"))
	if book == nil {
		t.Fatal(findings)
	}
	read := make(chan error, 1)
	g := &Guard{
		House: func() *House {
			return &House{Book: book, Site: http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
				_, err := io.ReadAll(r.Body)
				read <- err
			})}
		},
		Who:      func(http.Header, *http.Request) (policy.Visitor, error) { return policy.Visitor{}, nil },
		BodyIdle: 2 * time.Second, // with some room for a slow machine
	}
	server := httptest.NewServer(g)
	defer server.Close()
	for _, stops := range []bool{true, false} {
		conn, err := net.Dial("tcp", server.Listener.Addr().String())
		if err != nil {
			t.Fatal(err)
		}
		io.WriteString(conn, "POST / HTTP/1.1\r\nHost: x\r\nContent-Length: 8\r\n\r\n")
		for i := range 8 {
			if stops && i == 3 {
				break
			}
			timer := time.NewTimer(30 * time.Millisecond)
			<-timer.C
			io.WriteString(conn, "x")
		}
		if err := <-read; (err != nil) != stops {
			t.Errorf("stops %v: %v", stops, err)
		}
		conn.Close()
	}
}
