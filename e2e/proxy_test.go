package e2e

import (
	"bufio"
	"bytes"
	"context"
	"crypto/sha256"
	"crypto/tls"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/gorilla/websocket"
)

// behindDoors is a service whose whole site is an application.
func behindDoors(t *testing.T, app http.Handler, args ...string) *Process {
	t.Helper()
	server := httptest.NewServer(app)
	t.Cleanup(server.Close)
	dir := t.TempDir()
	write(t, dir, "doors.yaml", fmt.Sprintf("sources: [ { path: /, proxy: %q } ]\ndoors:\n  - { path: /**, admit: public }\n  - { path: "+
		"/closed/**, admit: signed-in }\n", server.URL))
	return start(t, dir, args...)
}

func TestWebSocket(t *testing.T) {
	t.Parallel()
	upgrader := websocket.Upgrader{}
	app := http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		conn, err := upgrader.Upgrade(w, r, nil)
		if err != nil {
			return
		}
		defer conn.Close()
		for {
			kind, message, err := conn.ReadMessage()
			if err != nil || conn.WriteMessage(kind, bytes.ToUpper(message)) != nil {
				return
			}
		}
	})
	cert, key := certificate(t, t.TempDir())
	dialer := websocket.Dialer{TLSClientConfig: &tls.Config{InsecureSkipVerify: true}}
	for _, args := range [][]string{nil, {"--tls-cert", cert, "--tls-key", key}} {
		s := behindDoors(t, app, args...)
		conn, _, err := dialer.Dial("ws"+strings.TrimPrefix(s.URL, "http")+"/socket", nil)
		if err != nil {
			t.Fatal(err)
		}
		defer conn.Close()
		// Also what looks like the folded line of a head, and more than a head may have.
		for _, message := range []string{"fog", "A: B\r\n C\r\n\r\n", strings.Repeat("0123456789", 20_000), "FOG"} {
			if err := conn.WriteMessage(websocket.TextMessage, []byte(message)); err != nil {
				t.Fatal(err)
			}
			if _, got, err := conn.ReadMessage(); err != nil || string(got) != strings.ToUpper(message) {
				t.Fatalf("%.40q %v", got, err)
			}
		}
		if _, resp, err := dialer.Dial("ws"+strings.TrimPrefix(s.URL, "http")+"/closed/socket", nil); err == nil || resp == nil ||
			resp.StatusCode != 401 {
			t.Errorf("a socket behind a closed door: %v %v", resp, err)
		}
	}
}

// What is sent comes through as it is sent, both ways, without being kept back.
func TestStreaming(t *testing.T) {
	t.Parallel()
	received := make(chan string)
	s := behindDoors(t, http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.URL.Path == "/upload" {
			buffer := make([]byte, 5)
			for range 2 {
				if _, err := io.ReadFull(r.Body, buffer); err != nil {
					t.Error(err)
				}
				received <- string(buffer)
			}
			io.Copy(io.Discard, r.Body)
			return
		}
		w.Header().Set("Content-Type", "text/event-stream")
		for i := range 3 {
			fmt.Fprintf(w, "data: %d\n\n", i)
			w.(http.Flusher).Flush()
			<-received // the next is sent only when the one before has arrived
		}
	}))
	resp, err := http.Get(s.URL + "/events")
	if err != nil {
		t.Fatal(err)
	}
	lines := bufio.NewReader(resp.Body)
	for i := range 3 {
		if line, err := lines.ReadString('\n'); err != nil || line != fmt.Sprintf("data: %d\n", i) {
			t.Fatalf("%q %v", line, err)
		}
		lines.ReadString('\n')
		received <- ""
	}
	resp.Body.Close()
	body, send := io.Pipe()
	req, _ := http.NewRequest("POST", s.URL+"/upload", body)
	answered := make(chan error, 1)
	go func() {
		resp, err := http.DefaultClient.Do(req)
		if err == nil {
			resp.Body.Close()
		}
		answered <- err
	}()
	for _, part := range []string{"first", "later"} {
		io.WriteString(send, part)
		if got := <-received; got != part {
			t.Errorf("%q, want %q", got, part)
		}
	}
	send.Close()
	if err := <-answered; err != nil {
		t.Error(err)
	}
}

// 64 MiB each way arrive whole.
func TestLargeBodies(t *testing.T) {
	t.Parallel()
	const size = 64 << 20
	s := behindDoors(t, http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		http.NewResponseController(w).EnableFullDuplex()
		io.Copy(w, r.Body)
	}))
	block := bytes.Repeat([]byte("fog bell "), 1<<16/9+1)[:1<<16]
	sent, got := sha256.New(), sha256.New()
	resp, err := http.Post(s.URL+"/echo", "application/octet-stream", io.TeeReader(io.LimitReader(&endless{block: block}, size), sent))
	if err != nil {
		t.Fatal(err)
	}
	defer resp.Body.Close()
	if n, err := io.Copy(got, resp.Body); err != nil || n != size || !bytes.Equal(got.Sum(nil), sent.Sum(nil)) {
		t.Errorf("%d bytes came back, %v", n, err)
	}
}

type endless struct{ block []byte }

func (e *endless) Read(p []byte) (int, error) { return copy(p, e.block), nil }

var statusLine = regexp.MustCompile(`HTTP/1\.[01] [0-9]{3} `)

// Shapes of requests in which two servers could see different ones are refused, and what comes
// behind them is not read.
func TestSmuggling(t *testing.T) {
	t.Parallel()
	seen := make(chan string, 100)
	s := behindDoors(t, http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		body, _ := io.ReadAll(r.Body)
		seen <- r.Method + " " + r.URL.Path + " " + string(body)
	}))
	const inner = "GET /closed/secret HTTP/1.1\r\nHost: x\r\n\r\n"
	for name, request := range map[string]string{
		"both lengths":         "POST /a HTTP/1.1\r\nHost: x\r\nContent-Length: 5\r\nTransfer-Encoding: chunked\r\n\r\n0\r\n\r\n" + inner,
		"a coding in HTTP/1.0": "POST /a HTTP/1.0\r\nHost: x\r\nConnection: keep-alive\r\nTransfer-Encoding: chunked\r\n\r\n" + inner,
		"two lengths":          "POST /a HTTP/1.1\r\nHost: x\r\nContent-Length: 0\r\nContent-Length: 42\r\n\r\n" + inner,
		"signed length":        "POST /a HTTP/1.1\r\nHost: x\r\nContent-Length: +0\r\n\r\n" + inner,
		"length in a list":     "POST /a HTTP/1.1\r\nHost: x\r\nContent-Length: 0, 42\r\n\r\n" + inner,
		"odd coding":           "POST /a HTTP/1.1\r\nHost: x\r\nTransfer-Encoding: xchunked\r\n\r\n0\r\n\r\n" + inner,
		"coding with a tab":    "POST /a HTTP/1.1\r\nHost: x\r\nTransfer-Encoding:\vchunked\r\n\r\n0\r\n\r\n" + inner,
		"coding twice": "POST /a HTTP/1.1\r\nHost: x\r\nTransfer-Encoding: chunked\r\nTransfer-Encoding: " +
			"identity\r\n\r\n0\r\n\r\n" + inner,
		"space before colon":   "POST /a HTTP/1.1\r\nHost: x\r\nTransfer-Encoding : chunked\r\n\r\n0\r\n\r\n" + inner,
		"folded line":          "POST /a HTTP/1.1\r\nHost: x\r\nX-A: 1\r\n Transfer-Encoding: chunked\r\n\r\n" + inner,
		"folded with a tab":    "POST /a HTTP/1.1\r\nHost: x\r\nX-A:\r\n\tContent-Length: 42\r\n\r\n" + inner,
		"chunk size overflows": "POST /a HTTP/1.1\r\nHost: x\r\nTransfer-Encoding: chunked\r\n\r\n10000000000000000\r\n" + inner,
		"chunk size negative":  "POST /a HTTP/1.1\r\nHost: x\r\nTransfer-Encoding: chunked\r\n\r\n-1\r\n" + inner,
		"NUL in a field":       "POST /a HTTP/1.1\r\nHost: x\r\nX-A: a\x00b\r\n\r\n",
		"two hosts":            "GET /a HTTP/1.1\r\nHost: x\r\nHost: y\r\n\r\n",
		"no host":              "GET /a HTTP/1.1\r\n\r\n",
		"bad version":          "GET /a HTTP/9.9\r\nHost: x\r\n\r\n",
		"huge header":          "GET /a HTTP/1.1\r\nHost: x\r\nX-A: " + strings.Repeat("a", 100_000) + "\r\n\r\n",
		"no place":             "OPTIONS * HTTP/1.1\r\nHost: x\r\nConnection: close\r\n\r\n",
		"many headers":         "GET /a HTTP/1.1\r\nHost: x\r\n" + strings.Repeat("X-A: a\r\n", 20_000) + "\r\n",
	} {
		conn, err := net.Dial("tcp", strings.TrimPrefix(s.URL, "http://"))
		if err != nil {
			t.Fatal(err)
		}
		conn.SetDeadline(time.Now().Add(10 * time.Second))
		io.WriteString(conn, request)
		answers, err := io.ReadAll(conn)
		if errors.Is(err, os.ErrDeadlineExceeded) {
			t.Errorf("%s: the connection stays open", name)
		}
		conn.Close()
		if n := len(statusLine.FindAll(answers, -1)); n != 1 {
			t.Errorf("%s: %d answers", name, n)
		}
		if first := string(answers[:min(len(answers), 12)]); len(first) < 12 || first[9] != '4' && first[9] != '5' {
			t.Errorf("%s: answered %q", name, first)
		}
		for more := true; more; {
			select {
			case got := <-seen:
				if strings.Contains(got, "closed") {
					t.Errorf("%s: the server behind saw %q", name, got)
				}
			default:
				more = false
			}
		}
		if a := newPerson(t, s.URL).get("/after"); a.status != 200 {
			t.Fatalf("after %s: %d", name, a.status)
		}
		<-seen
	}
}

// Clients that go away and servers behind that fail, at every moment, leave nothing running.
func TestNothingIsLeftRunning(t *testing.T) {
	upgrader := websocket.Upgrader{}
	s := behindDoors(t, http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		switch r.URL.Path {
		case "/hang":
			<-r.Context().Done()
		case "/events":
			for r.Context().Err() == nil {
				if _, err := io.WriteString(w, "data: fog\n\n"); err != nil {
					return
				}
				w.(http.Flusher).Flush()
			}
		case "/die", "/garbage":
			conn, _, err := http.NewResponseController(w).Hijack()
			if err == nil {
				io.WriteString(conn, map[string]string{
					"/die": "HTTP/1.1 200 OK\r\nContent-Length: 900\r\n\r\nhalf of it", "/garbage": "ahoy\r\n\r\n",
				}[r.URL.Path])
				conn.Close()
			}
		case "/socket":
			if conn, err := upgrader.Upgrade(w, r, nil); err == nil {
				conn.ReadMessage()
				conn.Close()
			}
		default:
			io.Copy(io.Discard, r.Body)
		}
	}), "--metrics-from", "127.0.0.0/8")
	address := strings.TrimPrefix(s.URL, "http://")
	// Each is sent, as much of the answer as is given here is waited for, and the connection is closed.
	const head = " HTTP/1.1\r\nHost: x\r\n"
	shapes := []struct{ send, wait string }{
		{"", ""},
		{"GET / HT", ""},
		{"GET /" + head + "\r\n", "HTTP/1.1 200"},
		{"POST /" + head + "Content-Length: 100\r\n\r\nfog", ""},
		{"POST /" + head + "Transfer-Encoding: chunked\r\n\r\n3\r\nfog\r\n", ""},
		{"POST /" + head + "Transfer-Encoding: chunked\r\n\r\nzz\r\n", "HTTP/1.1 400"},
		{"POST /" + head + "Expect: 100-continue\r\nContent-Length: 9\r\n\r\n", "HTTP/1.1 100"},
		{"GET /hang" + head + "\r\n", ""},
		{"GET /events" + head + "\r\n", "data: fog"},
		{"GET /die" + head + "\r\n", "the end"},
		{"GET /garbage" + head + "\r\n", "HTTP/1.1 502"},
		{"GET /socket" + head + "Connection: Upgrade\r\nUpgrade: websocket\r\nSec-WebSocket-Version: 13\r\nSec-WebSocket-Key: " +
			"AAAAAAAAAAAAAAAAAAAAAA==\r\n\r\n", "HTTP/1.1 101"},
		{"GET /closed/" + head + "\r\n", "HTTP/1.1 303"},
	}
	round := func() {
		for range 20 {
			for _, shape := range shapes {
				conn, err := net.Dial("tcp", address)
				if err != nil {
					t.Fatal(err)
				}
				conn.SetDeadline(time.Now().Add(20 * time.Second))
				io.WriteString(conn, shape.send)
				var got []byte
				for one := make([]byte, 256); !bytes.Contains(got, []byte(shape.wait)); {
					n, err := conn.Read(one)
					if got = append(got, one[:n]...); err == io.EOF && shape.wait == "the end" {
						break
					} else if err != nil {
						t.Fatalf("%q: waiting for %q: %v, got %q", shape.send, shape.wait, err, got)
					}
				}
				conn.Close()
			}
		}
	}
	p := newPerson(t, s.URL)
	running := func() (n int) {
		_, count, _ := strings.Cut(p.get("/door/metrics").body, "\ngo_goroutines ")
		fmt.Sscan(count, &n)
		if n == 0 {
			t.Fatal("the metrics do not say how many goroutines there are")
		}
		return n
	}
	before := running()
	round()
	after := 0
	for deadline := time.Now().Add(30 * time.Second); time.Now().Before(deadline); {
		// Connections that are kept to the server behind are few.
		if after = running(); after <= before+15 {
			return
		}
	}
	t.Errorf("%d goroutines before, %d after", before, after)
}

func TestUpstreamsAreTold(t *testing.T) {
	t.Parallel()
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) { io.WriteString(w, "well") }))
	dir := t.TempDir()
	write(t, dir, "doors.yaml",
		fmt.Sprintf("site: Marram\nsources: [ { path: /, proxy: %q } ]\ndoors: [ { path: /**, admit: public } ]\n", server.URL))
	s := start(t, dir)
	p := newPerson(t, s.URL)
	said := func(what string) {
		t.Helper()
		if _, out, _ := run(t, "", "upstreams", "--data", s.Data); !strings.Contains(out, what) {
			t.Errorf("%q is missing in\n%s", what, out)
		}
	}
	said("not asked yet")
	p.is("/", 200, "")
	said("answers")
	server.Close()
	a := p.get("/", "Accept", "text/html")
	if a.status != 502 || !strings.Contains(a.body, "does not answer") || strings.Contains(a.body, server.URL) ||
		strings.Contains(a.body, "refused") {
		t.Errorf("%d %s", a.status, a.body)
	}
	said("1 failure in a row")
}

// The keepers' log of the demo: it greets by the name that is handed on, takes a form, and
// what one writes appears in another's page.
func TestKeepersLog(t *testing.T) {
	reader := tab(t)
	do(reader, t, SignIn(lamp.URL, "tobias", tobias), chromedp.Navigate(lamp.URL+"/log/"))
	look(reader, t, "main", "Good watch, tobias.")
	writer := tab(t)
	do(writer, t, SignIn(lamp.URL, "ines", ines), chromedp.Navigate(lamp.URL+"/log/"))
	look(writer, t, "main", "Good watch, ines.")
	do(writer, t, keys("#entry", "Two <b>gulls</b> in the lamp room\r"))
	look(writer, t, "#lines", "Two <b>gulls</b> in the lamp room")
	look(reader, t, "#lines", "Two <b>gulls</b> in the lamp room")
	accessible(reader, t, "the keepers' log")
	// A name that is claimed is not believed.
	p := newPerson(t, lamp.URL)
	p.signIn("ines", ines, "")
	if a := p.get("/log/", "Ostiarius-User", "tobias", "Ostiarius_User", "tobias"); !strings.Contains(a.body, "Good watch, ines.") {
		t.Errorf("%s", a.body)
	}
}

func TestHTTPSReloadsRedirectsAndIsStrict(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	write(t, dir, "site/index.html", "x")
	write(t, dir, "doors.yaml", "sources: [{path: /, files: ./site}]\ndoors: [{path: /, admit: public}]\n")
	cert, key := certificate(t, dir)
	s := start(t, dir, "--tls-cert", cert, "--tls-key", key, "--redirect-http", "127.0.0.1:0", "--hsts", "7d")
	address := strings.TrimPrefix(s.URL, "https://")
	serial := func() string {
		conn, err := tls.Dial("tcp", address, &tls.Config{InsecureSkipVerify: true, NextProtos: []string{"h2"}})
		if err != nil {
			t.Fatal(err)
		}
		defer conn.Close()
		if conn.ConnectionState().NegotiatedProtocol != "h2" {
			t.Error("HTTP/2 is not spoken")
		}
		return fmt.Sprintf("%x", sha256.Sum256(conn.ConnectionState().PeerCertificates[0].Raw))
	}
	before := serial()
	// One file alone does not fit; the pair before is used on.
	certificate(t, dir)
	write(t, dir, "key.pem", "not yet")
	if now := serial(); now != before {
		t.Error("half of a new pair was taken")
	}
	certificate(t, dir)
	eventually(t, func() bool { return serial() != before })

	client := &http.Client{Transport: &http.Transport{TLSClientConfig: &tls.Config{InsecureSkipVerify: true},
		DialContext: func(ctx context.Context, network, _ string) (net.Conn, error) {
			return (&net.Dialer{}).DialContext(ctx, network, address)
		}}}
	for host, want := range map[string]string{"marram.example": "max-age=604800", "127.0.0.1": "", "localhost": ""} {
		resp, err := client.Get("https://" + host + "/")
		if err != nil {
			t.Fatal(err)
		}
		resp.Body.Close()
		if got := resp.Header.Get("Strict-Transport-Security"); got != want {
			t.Errorf("%s: %q, want %q", host, got, want)
		}
	}
	_, rest, _ := strings.Cut(s.Output, "redirecting http://")
	plain, _, _ := strings.Cut(rest, " ")
	_, port, _ := net.SplitHostPort(address)
	for request, want := range map[string]string{
		"GET /rota/?a=b HTTP/1.1\r\nHost: marram.example:80\r\n":             "308 https://marram.example:" + port + "/rota/?a=b",
		"POST /x HTTP/1.1\r\nHost: [::1]\r\nContent-Length: 0\r\n":           "308 https://[::1]:" + port + "/x",
		"GET http://elsewhere.example/ HTTP/1.1\r\nHost: marram.example\r\n": "400 ",
		"GET / HTTP/1.1\r\nHost: marram.example@elsewhere.example\r\n":       "400 ",
		"GET //elsewhere.example/ HTTP/1.1\r\nHost: marram.example\r\n":      "308 https://marram.example:" + port + "//elsewhere.example/",
	} {
		status, location, _ := raw(t, "http://"+plain, request+"Connection: close\r\n\r\n")
		if got := fmt.Sprint(status, " ", location); got != want {
			t.Errorf("%q: %s, want %s", request, got, want)
		}
	}
	if code, _, errOut := run(t, "", "serve", "--policy", filepath.Join(dir, "doors.yaml"), "--listen", "127.0.0.1:0", "--data",
		t.TempDir(), "--redirect-http", ":0"); code != 1 || !strings.Contains(errOut, "needs --tls-cert") {
		t.Errorf("exit %d %s", code, errOut)
	}
}

// What a server behind says before its answer takes nothing away from what the guard says of it.
func TestAnswersThatAreAnnounced(t *testing.T) {
	t.Parallel()
	s := behindDoors(t, http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.URL.Path == "/closed/early" {
			w.Header().Set("Link", "</early.css>; rel=preload")
			w.Header().Set("Cache-Control", "public, max-age=3600")
			w.Header().Set("Set-Cookie", "ostiarius-session=planted; Path=/")
			w.WriteHeader(http.StatusEarlyHints)
		}
		io.Copy(w, r.Body)
	}))
	run(t, "seven-brass-prisms\n", "people", "add", "ines", "--password-stdin", "--data", s.Data)
	p := newPerson(t, s.URL)
	p.signIn("ines", "seven-brass-prisms", "/")
	for _, a := range []answer{p.get("/closed/early"), p.do("POST", "/closed/upload", "fog", "Expect", "100-continue")} {
		if a.status != 200 || a.header.Get("Cache-Control") != "private, no-store" || !strings.Contains(a.header.Get("Vary"), "Cookie") ||
			a.header.Get("Set-Cookie") != "" {
			t.Errorf("%d %v", a.status, a.header)
		}
	}
	p.is("/closed/upload", 200, "") // the session is still the same
}
