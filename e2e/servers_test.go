package e2e

import (
	"bufio"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"math/rand/v2"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"github.com/gorilla/websocket"
)

// Real servers, behind and in front, see what they must and nothing else.

// serverProgram runs a server until the test ends, and waits until there is something at a
// socket or an address of TCP.
func serverProgram(t *testing.T, network, address string, name string, args ...string) {
	t.Helper()
	log, err := os.Create(filepath.Join(t.TempDir(), "log"))
	if err != nil {
		t.Fatal(err)
	}
	c := exec.Command(name, args...)
	c.Stdout, c.Stderr = log, log
	c.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
	if err := c.Start(); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		syscall.Kill(-c.Process.Pid, syscall.SIGKILL)
		c.Wait()
		log.Close()
	})
	for deadline := time.Now().Add(20 * time.Second); ; {
		conn, err := net.Dial(network, address)
		if err == nil {
			conn.Close()
			return
		}
		if time.Now().After(deadline) {
			said, _ := os.ReadFile(log.Name())
			t.Fatalf("%s does not answer: %v: %s", name, err, said)
		}
	}
}

// freePort returns an address of TCP at which nobody listens at the moment, and which the system gives to nobody who asks for any:
// those are above 32768.
func freePort(t *testing.T) string {
	t.Helper()
	for range 10000 {
		address := fmt.Sprintf("127.0.0.1:%d", 20000+ports.Add(1)%10000)
		if l, err := net.Listen("tcp", address); err == nil {
			l.Close()
			return address
		}
	}
	t.Fatal("no address is free")
	return ""
}

// ports counts the addresses that were given out. Two runs at the same time begin elsewhere.
var ports = func() *atomic.Uint32 {
	var n atomic.Uint32
	n.Store(rand.Uint32N(10000))
	return &n
}()

// hypercorn is a server that speaks HTTP/2 in clear text when it is asked to, with an application
// that answers with the path and who is calling.
func hypercorn(t *testing.T) (socket string) {
	dir := shortDir(t)
	write(t, dir, "app.py", `
async def app(scope, receive, send):
    if scope["type"] == "websocket":
        await receive()
        await send({"type": "websocket.accept"})
        while True:
            event = await receive()
            if event["type"] != "websocket.receive":
                return
            await send({"type": "websocket.send", "text": event["text"].upper()})
    if scope["type"] != "http":
        return
    user = [v.decode() for k, v in scope["headers"] if k == b"ostiarius-user"]
    await send({"type": "http.response.start", "status": 200, "headers": [(b"content-type", b"text/plain")]})
    await send({"type": "http.response.body", "body": f"reached {scope['path']} as {user}".encode()})
`)
	socket = filepath.Join(dir, "app.sock")
	serverProgram(t, "unix", socket, "/usr/bin/python3", "-m", "hypercorn", "--bind", "unix:"+socket, "--access-logfile", "-",
		"--root-path", "", filepath.Join(dir, "app")+":app")
	return socket
}

// first sends bytes and returns the first line and the header of what comes back.
func first(t *testing.T, conn net.Conn, send string) (status string, header http.Header) {
	t.Helper()
	conn.SetDeadline(time.Now().Add(10 * time.Second))
	io.WriteString(conn, send)
	resp, err := http.ReadResponse(bufio.NewReader(conn), nil)
	if err != nil {
		t.Fatalf("%q: %v", send, err)
	}
	return resp.Status, resp.Header
}

func TestNoTunnelPastTheDoors(t *testing.T) {
	t.Parallel()
	socket := hypercorn(t)
	dir := t.TempDir()
	write(t, dir, "doors.yaml", fmt.Sprintf("sources: [ { path: /, proxy: %q } ]\ndoors:\n  - { path: /**, admit: public }\n  - { path: "+
		"/closed/**, admit: signed-in }\n", "unix:"+socket))
	s := start(t, dir)
	cert, key := certificate(t, t.TempDir())
	secured := start(t, dir, "--tls-cert", cert, "--tls-key", key)
	const upgrade = "GET /open HTTP/1.1\r\nHost: marram.example\r\nConnection: Upgrade, HTTP2-Settings\r\nUpgrade: " +
		"h2c\r\nHTTP2-Settings: AAMAAABkAAQCAAAAAAIAAAAA\r\n\r\n"
	direct, err := net.Dial("unix", socket)
	if err != nil {
		t.Fatal(err)
	}
	defer direct.Close()
	if status, header := first(t, direct, upgrade); !strings.HasPrefix(status, "101") || header.Get("Upgrade") != "h2c" {
		t.Fatalf("the server behind changes no protocol (%s %v), so this test shows nothing", status, header)
	}
	for name, request := range map[string]string{
		"h2c":                  upgrade,
		"h2c beside websocket": strings.Replace(upgrade, "Upgrade: h2c", "Upgrade: websocket\r\nUpgrade: h2c", 1),
		"h2c in a list":        strings.Replace(upgrade, "Upgrade: h2c", "Upgrade: websocket, h2c", 1),
		"h2c with a WebSocket": strings.Replace(upgrade, "Upgrade: h2c",
			"Upgrade: h2c\r\nSec-WebSocket-Version: 13\r\nSec-WebSocket-Key: dGhlIHNhbXBsZSBub25jZQ==", 1),
		"h2c in capitals":         strings.Replace(upgrade, "Upgrade: h2c", "UPGRADE: H2C", 1),
		"h2c that is not named":   strings.Replace(upgrade, "Connection: Upgrade, HTTP2-Settings\r\n", "", 1),
		"an odd spelling":         strings.Replace(upgrade, "Upgrade: h2c", "Upgrade:\th2c", 1),
		"the preface of HTTP/2":   "PRI * HTTP/2.0\r\n\r\nSM\r\n\r\n",
		"a connection that names": strings.Replace(upgrade, "Connection: Upgrade", "Connection: Ostiarius-User, Cookie, Upgrade", 1),
	} {
		for _, service := range []*Process{s, secured} {
			conn := service.dial(t)
			status, header := first(t, conn, request)
			if strings.HasPrefix(status, "101") || header.Get("Upgrade") != "" {
				t.Errorf("%s: %s %v", name, status, header)
			}
			conn.Close()
		}
	}
	conn, _, err := websocket.DefaultDialer.Dial("ws"+strings.TrimPrefix(s.URL, "http")+"/socket", nil)
	if err != nil {
		t.Fatalf("a WebSocket: %v", err)
	}
	defer conn.Close()
	conn.WriteMessage(websocket.TextMessage, []byte("fog"))
	if _, got, err := conn.ReadMessage(); err != nil || string(got) != "FOG" {
		t.Errorf("a WebSocket answers %q, %v", got, err)
	}
}

// A server behind that changes the protocol unasked, or to another than was asked for, has
// failed; the connection of the client ends with that.
func TestProtocolsChangedFromBehind(t *testing.T) {
	t.Parallel()
	answers := make(chan string, 1)
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer listener.Close()
	go func() {
		for {
			conn, err := listener.Accept()
			if err != nil {
				return
			}
			go func() {
				defer conn.Close()
				if _, err := http.ReadRequest(bufio.NewReader(conn)); err == nil {
					io.WriteString(conn, <-answers)
					io.Copy(io.Discard, conn) // until it is hung up
				}
			}()
		}
	}()
	dir := t.TempDir()
	write(t, dir, "doors.yaml",
		fmt.Sprintf("sources: [ { path: /, proxy: %q } ]\ndoors: [ { path: /**, admit: public } ]\n", "http://"+listener.Addr().String()))
	s := start(t, dir)
	const asked = "GET / HTTP/1.1\r\nHost: x\r\nConnection: Upgrade\r\nUpgrade: websocket\r\nSec-WebSocket-Version: " +
		"13\r\nSec-WebSocket-Key: dGhlIHNhbXBsZSBub25jZQ==\r\n\r\n"
	for name, test := range map[string]struct{ request, answer string }{
		"unasked": {"GET / HTTP/1.1\r\nHost: x\r\n\r\n",
			"HTTP/1.1 101 Switching Protocols\r\nConnection: Upgrade\r\nUpgrade: h2c\r\n\r\n"},
		"unasked WebSocket": {"GET / HTTP/1.1\r\nHost: x\r\n\r\n", "HTTP/1.1 101 Switching Protocols\r\nConnection: Upgrade\r\nUpgrade: " +
			"websocket\r\nSec-WebSocket-Accept: s3pPLMBiTxaQ9kYGzzhZRbK+xOo=\r\n\r\n"},
		"another protocol": {asked, "HTTP/1.1 101 Switching Protocols\r\nConnection: Upgrade\r\nUpgrade: h2c\r\nSec-WebSocket-Accept: " +
			"s3pPLMBiTxaQ9kYGzzhZRbK+xOo=\r\n\r\n"},
		"no accept": {asked, "HTTP/1.1 101 Switching Protocols\r\nConnection: Upgrade\r\nUpgrade: websocket\r\n\r\n"},
		"a wrong accept": {asked, "HTTP/1.1 101 Switching Protocols\r\nConnection: Upgrade\r\nUpgrade: websocket\r\nSec-WebSocket-Accept: " +
			"AAAAAAAAAAAAAAAAAAAAAAAAAAA=\r\n\r\n"},
	} {
		conn := s.dial(t)
		answers <- test.answer
		conn.SetDeadline(time.Now().Add(10 * time.Second))
		io.WriteString(conn, test.request)
		all, err := io.ReadAll(conn)
		if !strings.HasPrefix(string(all), "HTTP/1.1 502 ") || err != nil && !errors.Is(err, syscall.ECONNRESET) {
			t.Errorf("%s: %v %.200s", name, err, all)
		}
		conn.Close()
	}
}

// The names that servers make variables of, spelled in ways that some of them take for others'.
var claims = []string{
	"Ostiarius-User", "Ostiarius_User", "Ostiarius.User", "Ostiarius~User", "Ostiarius!User", "OSTIARIUS_USER", "Ostiarius-Roles",
	"Ostiarius.Roles",
	"X-Forwarded-For", "X.Forwarded.For", "X_Forwarded_For", "X!Forwarded!For", "X-Forwarded-User", "Forwarded", "X-Real-IP",
	"X_Real_IP", "X.Real.IP", "True-Client-IP", "Client-IP",
	"Remote-User", "Remote_User", "X-Remote-User", "X-Original-URL", "X-Rewrite-URL", "X_Original_URL", "X-HTTP-Method-Override",
	"X.HTTP.Method.Override", "X-HTTP-Method", "Proxy",
}

// shownTo sends a request with all claims and returns the variables that a server behind has of it.
func shownTo(t *testing.T, conn net.Conn, path string) string {
	t.Helper()
	defer conn.Close()
	conn.SetDeadline(time.Now().Add(10 * time.Second))
	fmt.Fprintf(conn, "GET %s HTTP/1.1\r\nHost: marram.example\r\nConnection: close\r\nX-Free: claimed-free\r\n", path)
	for _, name := range claims {
		fmt.Fprintf(conn, "%s: claimed\r\n", name)
	}
	io.WriteString(conn, "\r\n")
	resp, err := http.ReadResponse(bufio.NewReader(conn), nil)
	if err != nil {
		t.Fatal(err)
	}
	text, err := io.ReadAll(resp.Body)
	if err != nil || resp.StatusCode != 200 {
		t.Fatalf("%s %v %s", resp.Status, err, text)
	}
	return string(text)
}

var claimedVariable = regexp.MustCompile(`(?m)^[A-Z_]+=claimed\r?$`)

func TestVariablesOfServersBehind(t *testing.T) {
	t.Parallel()
	dir := shortDir(t)
	write(t, dir, "www/env.cgi", "#!/bin/sh\nprintf 'Content-Type: text/plain\\r\\n\\r\\n'\nenv\n")
	if err := os.Chmod(filepath.Join(dir, "www/env.cgi"), 0o755); err != nil {
		t.Fatal(err)
	}
	write(t, dir, "www/env.php", `<?php header("Content-Type: text/plain"); foreach ($_SERVER as $k => $v) if (is_string($v)) echo "$k=$v\n";`)
	socket, php := filepath.Join(dir, "l.sock"), freePort(t)
	write(t, dir, "lighttpd.conf", fmt.Sprintf("server.document-root = %q\nserver.bind = %q\nserver.modules = (\"mod_cgi\")\ncgi.assign "+
		"= (\".cgi\" => \"\")\n", filepath.Join(dir, "www"), socket))
	serverProgram(t, "unix", socket, "/usr/sbin/lighttpd", "-D", "-f", filepath.Join(dir, "lighttpd.conf"))
	serverProgram(t, "tcp", php, "/usr/bin/php", "-S", php, "-t", filepath.Join(dir, "www"))
	write(t, dir, "doors.yaml", fmt.Sprintf("sources:\n  - { path: /env.cgi, proxy: %q }\n  - { path: /env.php, proxy: %q }\ndoors: [ { "+
		"path: /**, admit: public } ]\n", "unix:"+socket, "http://"+php))
	s, strict := start(t, dir), start(t, dir, "--odd-fields", "refuse")
	for path, at := range map[string][2]string{"/env.cgi": {"unix", socket}, "/env.php": {"tcp", php}} {
		direct, err := net.Dial(at[0], at[1])
		if err != nil {
			t.Fatal(err)
		}
		if seen := claimedVariable.FindAllString(shownTo(t, direct, path), -1); len(seen) < 8 ||
			!strings.Contains(strings.Join(seen, "\n"), "HTTP_OSTIARIUS_USER=claimed") {
			t.Fatalf("%s: the server believes only %q of anybody, so this test shows nothing", path, seen)
		}
		shown := shownTo(t, s.dial(t), path)
		if seen := claimedVariable.FindAllString(shown, -1); len(seen) > 0 {
			t.Errorf("%s: the server behind believes %q", path, seen)
		}
		for _, want := range []string{"HTTP_X_FREE=claimed-free", "HTTP_X_FORWARDED_FOR=127.0.0.1", "HTTP_OSTIARIUS_DOOR=/%2A%2A"} {
			if !strings.Contains(shown, want) {
				t.Errorf("%s: %q is missing in\n%s", path, want, shown)
			}
		}
		for name, want := range map[string]int{"X.Odd": 400, "X_Odd": 400, "X-Fine": 200} {
			if status, _, _ := raw(t, strict.URL, "GET "+path+" HTTP/1.1\r\nHost: x\r\n"+name+": 1\r\nConnection: close\r\n\r\n"); status != want {
				t.Errorf("%s with %s, odd fields refused: %d", path, name, status)
			}
		}
	}
}

// dial opens a connection to the service, over TLS if it speaks that.
func (p *Process) dial(t *testing.T) net.Conn {
	t.Helper()
	conn, err := dialService(p.URL)
	if err != nil {
		t.Fatal(err)
	}
	return conn
}

// nginx runs it with a configuration for one server.
func nginx(t *testing.T, network, address, server string) {
	t.Helper()
	dir := shortDir(t)
	listen := address
	if network == "unix" {
		listen = "unix:" + address
	}
	write(t, dir, "nginx.conf", fmt.Sprintf("daemon off;\nmaster_process off;\nerror_log stderr;\npid %s/pid;\nevents {}\nhttp "+
		"{\naccess_log off;\nclient_body_temp_path %[1]s/b;\nproxy_temp_path %[1]s/p;\nfastcgi_temp_path %[1]s/f;\nuwsgi_temp_path "+
		"%[1]s/u;\nscgi_temp_path %[1]s/s;\nserver { listen %s; %s }\n}\n", dir, listen, server))
	serverProgram(t, network, address, "/usr/sbin/nginx", "-p", dir, "-c", filepath.Join(dir, "nginx.conf"), "-e", "stderr")
}

// nginx leads from a directory without a slash to its own port, which is around the guard.
func TestRedirectsOfAServerBehind(t *testing.T) {
	t.Parallel()
	dir := shortDir(t)
	write(t, dir, "www/closed/index.html", "inside")
	if err := filepath.WalkDir(dir,
		func(path string, _ fs.DirEntry, err error) error { return errors.Join(err, os.Chmod(path, 0o755)) }); err != nil {
		t.Fatal(err)
	}
	port, socket := freePort(t), filepath.Join(dir, "n.sock")
	nginx(t, "tcp", port, "root "+filepath.Join(dir, "www")+";")
	nginx(t, "unix", socket, "root "+filepath.Join(dir, "www")+";")
	write(t, dir, "doors.yaml", fmt.Sprintf("sources:\n  - { path: /, proxy: %q }\n  - { path: /part, proxy: %[1]q, strip-prefix: true "+
		"}\n  - { path: /sock, proxy: %q, strip-prefix: true }\ndoors: [ { path: /**, admit: public } ]\n", "http://"+port, "unix:"+socket))
	s := start(t, dir)
	_, inner, _ := net.SplitHostPort(port)
	resp, err := http.DefaultTransport.RoundTrip(must(http.NewRequest("GET", "http://"+port+"/closed", nil)))
	if err != nil || !strings.Contains(resp.Header.Get("Location"), ":"+inner+"/closed/") {
		t.Fatalf("nginx does not lead to its own port (%v %v), so this test shows nothing", resp, err)
	}
	for path, want := range map[string]string{"/closed": "/closed/", "/part/closed": "/part/closed/", "/sock/closed": "/sock/closed/"} {
		for _, host := range []string{"marram.example", "marram.example:8460", "127.0.0.1"} {
			status, location, _ := raw(t, s.URL, "GET "+path+" HTTP/1.1\r\nHost: "+host+"\r\nConnection: close\r\n\r\n")
			if status != 301 || location != want {
				t.Errorf("%s at %s: %d %s, want %s", path, host, status, location, want)
			}
		}
	}
}

func must[T any](v T, err error) T {
	if err != nil {
		panic(err)
	}
	return v
}

// Behind nginx, which sets X-Forwarded-For and hands on a stranger's Forwarded and X-Real-IP, doors
// for a network open only to who comes from there.
func TestAddressBehindAServerInFront(t *testing.T) {
	t.Parallel()
	dir := shortDir(t)
	write(t, dir, "site/index.html", "home")
	write(t, dir, "site/staff/index.html", "staff")
	write(t, dir, "doors.yaml", "sources: [ { path: /, files: ./site } ]\ndoors: [ { path: /, admit: public }, { path: /staff/**, "+
		"admit: { network: 10.0.0.0/8 } } ]\n")
	for name, args := range map[string][]string{
		"declared":                {"--trusted-peer", "127.0.0.1"},
		"declared, another field": {"--trusted-peer", "127.0.0.1", "--address-from", "forwarded"}, "not declared": nil,
	} {
		s := start(t, dir, args...)
		front := filepath.Join(dir, fmt.Sprintf("%d.sock", len(name)))
		nginx(t, "unix", front, "location / { proxy_pass "+s.URL+
			"; proxy_set_header Host $host; proxy_set_header X-Forwarded-For \"$proxy_add_x_forwarded_for\"; }")
		for _, claim := range []string{"", "Forwarded: for=10.1.2.3\r\n", "X-Real-IP: 10.1.2.3\r\n", "X-Forwarded-For: 10.1.2.3\r\n",
			"X-Forwarded-For: 10.1.2.3\r\nX-Forwarded-For: 10.1.2.3\r\n", "Client-IP: 10.1.2.3\r\n"} {
			conn, err := net.Dial("unix", front)
			if err != nil {
				t.Fatal(err)
			}
			status, _ := first(t, conn, "GET /staff/ HTTP/1.1\r\nHost: marram.example\r\nConnection: close\r\n"+claim+"\r\n")
			conn.Close()
			// nginx has no address of a client at a socket ("unix:"), so nobody has one here; only
			// where Forwarded is believed, and nobody in front sets it, a stranger chooses.
			believed := strings.HasPrefix(claim, "Forwarded") && name == "declared, another field"
			if strings.HasPrefix(status, "200") != believed {
				t.Errorf("%s, with %q: %s", name, claim, status)
			}
		}
	}
}
