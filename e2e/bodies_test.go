package e2e

import (
	"bytes"
	"crypto/tls"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync"
	"testing"
	"time"

	"golang.org/x/net/http2"
	"golang.org/x/net/http2/hpack"
)

// unfinished is a service with a place of each kind.
func unfinished(t *testing.T, args ...string) *Process {
	t.Helper()
	app := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.URL.Path != "/app/early" {
			io.Copy(io.Discard, r.Body)
		}
		io.WriteString(w, "well")
	}))
	t.Cleanup(app.Close)
	dir := t.TempDir()
	write(t, dir, "site/open.txt", "open")
	write(t, dir, "site/closed.txt", "closed")
	write(t, dir, "doors.yaml", fmt.Sprintf("roles: { keeper: }\nsources: [ { path: /, files: ./site }, { path: /app, proxy: %q } "+
		"]\nunlisted: hide\ndoors:\n  - { path: [/open.txt, /app/**, /missing/**], admit: public }\n  - { path: /closed.txt, admit: "+
		"signed-in }\n  - { path: /never, admit: nobody }\n  - { path: /feed, admit: { role: keeper }, ask: basic }\n", app.URL))
	return start(t, dir, append([]string{"--body-idle", "1s"}, args...)...)
}

// The longest that anything may take: the idle limit, what is left unread, and a slow machine.
const inTime = 9 * time.Second

// Whatever a client leaves unfinished, at whatever place, it is answered or hung up on in time.
func TestUnfinishedRequests(t *testing.T) {
	cert, key := certificate(t, t.TempDir())
	for _, service := range []*Process{unfinished(t), unfinished(t, "--tls-cert", cert, "--tls-key", key)} {
		var working sync.WaitGroup
		// at sends a request to a place and says what must come: a status, or "closed" for that and nothing else.
		at := func(what, want string, wait time.Duration, parts ...string) {
			working.Go(func() {
				conn, err := dialService(service.URL)
				if err != nil {
					t.Error(err)
					return
				}
				defer conn.Close()
				began := time.Now()
				conn.SetDeadline(began.Add(inTime))
				for _, part := range parts {
					io.WriteString(conn, part)
				}
				var got []byte
				one, answered := make([]byte, 4096), time.Duration(0)
				for {
					n, err := conn.Read(one)
					if got = append(got, one[:n]...); answered == 0 && n > 0 {
						answered = time.Since(began)
					}
					if err != nil {
						if late, ok := err.(net.Error); ok && late.Timeout() {
							t.Errorf("%s %s: nobody hangs up; %d bytes came: %.60q", service.URL, what, len(got), got)
						}
						break
					}
				}
				if want != "closed" && !strings.HasPrefix(string(got), "HTTP/1.1 "+want) {
					t.Errorf("%s %s: %.60q, want %s", service.URL, what, got, want)
				}
				if wait > 0 && answered > wait {
					t.Errorf("%s %s: answered after %v", service.URL, what, answered)
				}
			})
		}
		const soon = time.Second
		head := func(method, path, more string) string {
			return method + " " + path + " HTTP/1.1\r\nHost: marram.example\r\n" + more + "\r\n"
		}
		for place, want := range map[string]string{
			"/open.txt": "405", "/closed.txt": "303", "/never": "403", "/hidden": "404", "/missing/x": "404", "/feed": "401",
			"/app/early": "", "/door/sign-out": "303", "/door/health": "405", "/door/console/": "303", "/%2f": "400",
		} {
			atOnce := soon
			if place == "/door/sign-out" || place == "/app/early" {
				atOnce = 0 // which look at what is sent
			}
			at("a length and nothing, at "+place, want, atOnce, head("POST", place, "Content-Length: 10\r\n"))
			at("a length and a part, at "+place, want, atOnce, head("POST", place, "Content-Length: 10\r\n"), "half")
			at("a great length, at "+place, want, atOnce, head("POST", place, "Content-Length: 99999999\r\n"), strings.Repeat("x", 100_000))
			at("a coding and nothing, at "+place, want, atOnce, head("POST", place, "Transfer-Encoding: chunked\r\n"))
			at("half a chunk, at "+place, want, atOnce, head("POST", place, "Transfer-Encoding: chunked\r\n"), "5\r\nfo")
			at("no last chunk, at "+place, want, atOnce, head("POST", place, "Transfer-Encoding: chunked\r\n"), "3\r\nfog\r\n")
			if place != "/app/early" && place != "/door/sign-out" {
				at("Expect, at "+place, want, soon, head("POST", place, "Expect: 100-continue\r\nContent-Length: 10\r\n"))
			}
		}
		at("GET with a length", "200", soon, head("GET", "/open.txt", "Content-Length: 10\r\n"))
		at("HEAD with a length", "200", soon, head("HEAD", "/open.txt", "Content-Length: 10\r\n"))
		at("GET of an own page with a length", "200", soon, head("GET", "/door/sign-in", "Content-Length: 10\r\n"))
		at("a form that does not come", "408", 0, head("POST", "/door/sign-in", "Content-Type: "+
			"application/x-www-form-urlencoded\r\nContent-Length: 99\r\n"), "username=")
		at("JSON that does not come", "408", 0, head("POST", "/door/sign-in", "Content-Type: application/json\r\nContent-Length: 99\r\n"), "{")
		at("a form of another site", "403", soon, head("POST", "/door/sign-in", "Origin: https://evil.example\r\nContent-Length: 99\r\n"))
		// The server behind may answer what it has, before it is told that no more comes.
		at("an upload that stops, proxied", "", 0, head("POST", "/app/", "Content-Length: 10\r\n"), "fog")
		at("Expect, and then nothing, proxied", "100", 0, head("POST", "/app/", "Expect: 100-continue\r\nContent-Length: 10\r\n"))
		at("a chunk that stops, proxied", "", 0, head("POST", "/app/", "Transfer-Encoding: chunked\r\n"), "5\r\nfo")
		working.Wait()
		if a := newPerson(t, strings.Replace(service.URL, "https", "http", 1)); strings.HasPrefix(service.URL, "http:") {
			a.is("/open.txt", 200, "")
		}
	}
}

// The same over HTTP/2, where many requests share a connection: each stream is answered or reset.
func TestUnfinishedStreams(t *testing.T) {
	cert, key := certificate(t, t.TempDir())
	service := unfinished(t, "--tls-cert", cert, "--tls-key", key)
	conn, err := tls.Dial("tcp", strings.TrimPrefix(service.URL, "https://"),
		&tls.Config{InsecureSkipVerify: true, NextProtos: []string{"h2"}})
	if err != nil {
		t.Fatal(err)
	}
	defer conn.Close()
	conn.SetDeadline(time.Now().Add(inTime))
	io.WriteString(conn, http2.ClientPreface)
	framer := http2.NewFramer(conn, conn)
	framer.ReadMetaHeaders = hpack.NewDecoder(4096, nil)
	framer.WriteSettings()
	var text bytes.Buffer
	encoder := hpack.NewEncoder(&text)
	open := map[uint32]string{}
	id := uint32(1)
	for _, place := range []string{"/open.txt", "/closed.txt", "/never", "/hidden", "/missing/x", "/feed", "/app/", "/app/early",
		"/door/sign-in", "/door/health"} {
		for _, length := range []string{"", "10"} {
			text.Reset()
			for _, f := range [][2]string{{":method", "POST"}, {":scheme", "https"}, {":authority", "marram.example"}, {":path", place},
				{"content-length", length}} {
				if f[1] != "" {
					encoder.WriteField(hpack.HeaderField{Name: f[0], Value: f[1]})
				}
			}
			framer.WriteHeaders(http2.HeadersFrameParam{StreamID: id, BlockFragment: text.Bytes(), EndHeaders: true})
			framer.WriteData(id, false, []byte("fog"))
			open[id] = place + " " + length
			id += 2
		}
	}
	for len(open) > 0 {
		frame, err := framer.ReadFrame()
		if err != nil {
			t.Fatalf("%v; without an answer: %v", err, open)
		}
		switch f := frame.(type) {
		case *http2.SettingsFrame:
			if v, ok := f.Value(http2.SettingEnableConnectProtocol); ok && v != 0 {
				t.Error("extended CONNECT is offered, which leads to other protocols")
			}
			if !f.IsAck() {
				framer.WriteSettingsAck()
			}
		case *http2.MetaHeadersFrame:
			delete(open, f.StreamID)
		case *http2.RSTStreamFrame:
			delete(open, f.StreamID)
		case *http2.GoAwayFrame:
			t.Fatalf("the connection ends: %v; without an answer: %v", f.ErrCode, open)
		}
	}
}

// Of connections, and of requests whose bodies have not come, one network has its share and no
// more; others get in.
func TestOneNetworkDoesNotTakeAll(t *testing.T) {
	s := unfinished(t, "--connections", "80", "--trusted-peer", "127.0.0.2", "--body-idle", "20s")
	address := strings.TrimPrefix(s.URL, "http://")
	dial := func(from string) net.Conn {
		t.Helper()
		conn, err := (&net.Dialer{LocalAddr: &net.TCPAddr{IP: net.ParseIP(from)}}).Dial("tcp", address)
		if err != nil {
			t.Fatal(err)
		}
		t.Cleanup(func() { conn.Close() })
		conn.SetDeadline(time.Now().Add(inTime))
		return conn
	}
	answered := func(conn net.Conn, request, status string) bool {
		io.WriteString(conn, request)
		got := make([]byte, 12)
		_, err := io.ReadFull(conn, got)
		return err == nil && string(got) == "HTTP/1.1 "+status
	}
	const whole = "GET /open.txt HTTP/1.1\r\nHost: x\r\n\r\n"
	held := 0
	for range 100 {
		if answered(dial("127.0.0.1"), whole, "200") {
			held++
		}
	}
	if held < 15 || held > 20 {
		t.Errorf("one network holds %d of 80 connections, its share is 20", held)
	}
	if !answered(dial("127.0.0.3"), whole, "200") {
		t.Error("another network does not get in")
	}
	// A declared peer stands for many, but each of its clients has a share of what has not come yet: 80/4/4.
	held = 0
	const half = "POST /app/ HTTP/1.1\r\nHost: x\r\nExpect: 100-continue\r\nContent-Length: 10\r\nX-Forwarded-For: %s\r\n\r\n"
	for range 20 {
		if answered(dial("127.0.0.2"), fmt.Sprintf(half, "192.0.2.1"), "100") {
			held++
		}
	}
	if held != 5 {
		t.Errorf("one client holds %d requests, its share is 5", held)
	}
	if !answered(dial("127.0.0.2"), fmt.Sprintf(half, "192.0.2.2"), "100") || !answered(dial("127.0.0.2"), whole, "200") {
		t.Error("another client is not served")
	}
}
