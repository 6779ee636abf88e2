package guard

import (
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"net/netip"
	"testing"
	"time"

	"ostiarius/core/policy"
)

func TestOwnPath(t *testing.T) {
	book, findings := policy.Parse("doors.yaml", []byte("doors: [{path: /, admit: public}]"))
	if book == nil {
		t.Fatal(findings)
	}
	for next, want := range map[string]string{
		"/rota/": "/rota/", "/rota": "/rota", "/": "/", "/rota/?week=3&x=a%20b": "/rota/?week=3&x=a%20b", "/a/../rota/": "/rota/", "/caf%C3%A9": "/caf%C3%A9",
		"/a%20b": "/a%20b", "/./x": "/x", "/x?": "/x?",
	} {
		if got := OwnPath(book, next); got != want {
			t.Errorf("%q: %q, want %q", next, got, want)
		}
	}
	for _, next := range []string{
		"", "https://evil.example/", "http://evil.example", "HTTPS://evil.example", "//evil.example/", "///evil.example", "////evil.example", `/\evil.example`,
		`\/evil.example`, `\\evil.example`, "/%5cevil.example", "/%5Cevil.example", "//", "http:evil.example", "http:/evil.example", "javascript:alert(1)",
		"data:text/html,x", "evil.example", "evil.example/rota/", "rota/", "./rota", "../rota", "/%2f/evil.example", "/%2Fevil.example", "/%2f%2fevil.example",
		"/a\r\nLocation: https://evil.example", "/a%0d%0aX: y", "/a%0aX", "\t//evil.example", "\n/rota/", " /rota/", " //evil.example", "/\t/evil.example",
		"/rota/;x", "/%00", "/%zz", "/%", "?next=/rota/", "#x", "/rota/#x", "/rota/?x=\r\n", "/rota/?<x>", "/rota/?x=\"", "/rota/? x", "/rota/?\\",
		"/\x00", "/\xff", "/%ff", "/%c0%ae", "/%252e%252e", "@evil.example", "/rota/?\u00e9", "user@evil.example", ":8460/", "//evil.example:80/%2e%2e", "http:///evil.example",
		"//user:pw@evil.example", "/\u2028", "mailto:x@evil.example", "vbscript:x", "/%e2%80%a8\n",
	} {
		if got := OwnPath(book, next); got != "" && next != "/\u2028" {
			t.Errorf("%q leads to %q", next, got)
		}
	}
}

func TestPeers(t *testing.T) {
	trusted := Peers{netip.MustParsePrefix("10.0.0.0/8"), netip.MustParsePrefix("fd00::/8")}
	for _, test := range []struct {
		name, remote  string
		header, value string
		client        string
		secure        bool
	}{
		{"direct", "192.0.2.1:99", "", "", "192.0.2.1", false},
		{"a stranger's claim", "192.0.2.1:99", "X-Forwarded-For", "198.51.100.1", "192.0.2.1", false},
		{"a stranger's scheme", "192.0.2.1:99", "X-Forwarded-Proto", "https", "192.0.2.1", false},
		{"a peer", "10.0.0.1:99", "X-Forwarded-For", "198.51.100.1", "198.51.100.1", false},
		{"a peer's scheme", "10.0.0.1:99", "X-Forwarded-Proto", "https", "10.0.0.1", true},
		{"a claim behind a peer", "10.0.0.1:99", "X-Forwarded-For", "203.0.113.9, 198.51.100.1, 10.0.0.2", "198.51.100.1", false},
		{"peers only", "10.0.0.1:99", "X-Forwarded-For", "10.0.0.3, 10.0.0.2", "10.0.0.3", false},
		{"unreadable", "10.0.0.1:99", "X-Forwarded-For", "198.51.100.1, nonsense", "invalid IP", false},
		{"standard header", "10.0.0.1:99", "Forwarded", `for=203.0.113.9;proto=http, for="[2001:db8::7]:4711";proto=https`, "2001:db8::7", true},
		{"obfuscated", "10.0.0.1:99", "Forwarded", "for=_hidden;proto=https", "invalid IP", true},
		{"IPv6 peer", "[fd00::1]:99", "X-Forwarded-For", "2001:db8::7", "2001:db8::7", false},
		{"mapped", "[::ffff:10.0.0.1]:99", "X-Forwarded-For", "::ffff:198.51.100.1", "198.51.100.1", false},
	} {
		r := httptest.NewRequest("GET", "/", nil)
		r.RemoteAddr = test.remote
		if test.header != "" {
			r.Header.Set(test.header, test.value)
		}
		if got := trusted.Client(r).String(); got != test.client {
			t.Errorf("%s: client %s, want %s", test.name, got, test.client)
		}
		if got := trusted.Secure(r); got != test.secure {
			t.Errorf("%s: secure %v", test.name, got)
		}
	}
}

// A client that sends nothing more of a body is not waited for, and one that sends it
// slowly but steadily is.
func TestSlowBodies(t *testing.T) {
	book, findings := policy.Parse("doors.yaml", []byte("doors: [{path: /**, admit: public}]"))
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
		Who:      func(http.ResponseWriter, *http.Request) (policy.Visitor, error) { return policy.Visitor{}, nil },
		BodyIdle: 100 * time.Millisecond,
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
