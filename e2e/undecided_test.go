package e2e

import (
	"fmt"
	"io"
	"math/rand/v2"
	"net"
	"net/url"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"
)

// bytesOf sends a request as it stands, and returns what comes back. With half, the client then sends nothing more, and says so.
func bytesOf(t *testing.T, address, request string, half bool) string {
	t.Helper()
	return bytesWithin(t, address, request, half, 5*time.Second)
}

func bytesWithin(t *testing.T, address, request string, half bool, patience time.Duration) string {
	t.Helper()
	conn, err := net.Dial("tcp", address)
	if err != nil {
		t.Fatal(err)
	}
	defer conn.Close()
	conn.SetDeadline(time.Now().Add(patience))
	io.WriteString(conn, request)
	if half {
		conn.(*net.TCPConn).CloseWrite()
	}
	answer, _ := io.ReadAll(io.LimitReader(conn, 1<<20))
	return string(answer)
}

// closedBeside are the directories of besidePolicy that a stranger sees nothing of.
var closedBeside = []string{"rota", "log", "office", "press", "secret", "vault", "lan", "visit/private"}

func oneOf[T any](lot *rand.Rand, from []T) T { return from[lot.IntN(len(from))] }

// spelled writes a path in another way, of which some mean the same to some programs.
func spelled(lot *rand.Rand, path string) string {
	for range 1 + lot.IntN(3) {
		at := lot.IntN(len(path) + 1)
		switch lot.IntN(8) {
		case 0: // a letter, escaped
			if at = lot.IntN(len(path)); path[at] != '%' {
				path = path[:at] + fmt.Sprintf(oneOf(lot, []string{"%%%02x", "%%%02X", "%%25%02x"}), path[at]) + path[at+1:]
			}
		case 1:
			path = path[:at] + oneOf(lot,
				[]string{"/", "//", "/./", "/x/../", "/x/%2e%2e/", "/.%2e/", "%2f", "%5c", "\\", ";x", ";", "%00", "%20", "%09", ".", "#"}) + path[at:]
		case 2:
			path = oneOf(lot, []string{"/leaflets/..", "/visit/%2e%2e", "/app/open/..", "//", "/.", "/leaflets/..;", "/visit/x/../.."}) + path
		case 3:
			path = strings.ToUpper(path[:at]) + path[at:]
		case 4:
			path += oneOf(lot, []string{"?", "?x", "?/visit/", "/", "//", "/.", "%3f", "?%00", "\t"})
		case 5:
			path = strings.TrimSuffix(path, "/")
		}
		if path == "" {
			path = "/"
		}
	}
	return path
}

// spelledHost writes a host in another way, of which some mean the same to some programs.
func spelledHost(lot *rand.Rand, host string) string {
	return oneOf(lot, []string{host, strings.ToUpper(host), host + ".", host + ":80", host + ":", host + ".:443", " " + host,
		host + " ", "\t" + host,
		host + ",www.example", "www.example," + host, "www.example, " + host, "x@" + host, host + "/", host + "%00", "[" + host + "]",
		host + "\\", "ADMIN.example."})
}

// What was not decided is denied at each web server: whatever keeps the question from being asked or answered, nothing closed is given out.
func TestBesideServesNothingUndecided(t *testing.T) {
	t.Parallel()
	for name := range besides {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			policy := besidePolicy + "  - { path: \"/app/open/**/p/**/q\", admit: nobody }\n  - { path: /**, host: admin.example, admit: { " +
				"role: trustee } }\n"
			s, base, _ := connectedBy(t, policy, name, "--skip-public")
			u, _ := url.Parse(base)
			get := func(target, host string, more ...string) string {
				return "GET " + target + " HTTP/1.1\r\nHost: " + host + "\r\nConnection: close\r\nOstiarius_User: trustee\r\n" +
					strings.Join(more, "") + "\r\n"
			}
			fields := func(n int) string {
				var all strings.Builder
				for i := range n {
					fmt.Fprintf(&all, "X-Field-%d: x\r\n", i)
				}
				return all.String()
			}
			closed := func(what, request string, half bool) {
				t.Helper()
				if got := bytesOf(t, u.Host, request, half); strings.Contains(got, "content ") {
					t.Errorf("%s: %.200q", what, got)
				}
			}
			if got := bytesOf(t, u.Host, "GET /leaflets/ HTTP/1.1\r\nHost: "+u.Host+"\r\nConnection: close\r\n\r\n",
				false); !strings.Contains(got, "content of leaflets") {
				t.Fatalf("what is open: %.300q", got)
			}
			for _, half := range []bool{false, true} {
				for _, n := range []int{0, 70, 90, 93, 95, 96, 97, 98, 99, 100, 101, 200} {
					closed(fmt.Sprintf("%d fields, half-closed %v", n, half), get("/app/x", u.Host, fields(n)), half)
				}
			}
			for range 10 {
				closed("a client that sends nothing more", get("/rota/", u.Host), true)
				closed("a client that sends nothing more, to an application", get("/app/x", u.Host), true)
			}
			for _, host := range []string{"admin.example", "admin.example.", "ADMIN.example", "admin.example,www.example",
				"www.example,admin.example", "admin.example:80"} {
				closed("Host: "+host, get("/visit/", host), false)
				closed("for an application, Host: "+host, get("/app/open/x", host), false)
			}
			for _, request := range []string{
				"GET /rota/ HTTP/1.0\r\n\r\n", "GET /visit/ HTTP/1.0\r\n\r\n", "GET http://admin.example/visit/ HTTP/1.0\r\n\r\n",
				"GET http://admin.example/app/open/x HTTP/1.0\r\n\r\n",
				"GET /app/open/x HTTP/1.0\r\n\r\n", "GET http://admin.example/app/open/x HTTP/1.1\r\nHost: www.example\r\nConnection: close\r\n\r\n",
				"GET /visit/ HTTP/1.1\r\nHost: www.example\r\nHost: admin.example\r\nConnection: close\r\n\r\n",
				"GET /app/open/x HTTP/1.1\r\nHost:\r\nConnection: close\r\n\r\n",
				"TRACE /app/open/x HTTP/1.1\r\nHost: " + u.Host + "\r\nConnection: close\r\n\r\n",
			} {
				closed(request, request, false)
			}
			closed("a path on which an expression gives up", get("/app/open/"+strings.Repeat("p/", 3000)+"q", u.Host), false)
			// Hosts and targets made by lot, of those that are closed, spelled in ways that programs read differently.
			seed := time.Now().UnixNano()
			lot := rand.New(rand.NewPCG(uint64(seed), 1))
			for range 200 {
				host, target := u.Host, spelled(lot, "/"+oneOf(lot, closedBeside)+"/"+oneOf(lot, []string{"", "index.html", "week.txt"}))
				if lot.IntN(3) == 0 {
					host, target = spelledHost(lot, "admin.example"), spelled(lot, oneOf(lot, []string{"/visit/", "/leaflets/", "/", "/app/open/x"}))
				}
				if lot.IntN(6) == 0 {
					target = oneOf(lot, []string{"http://", "HTTP://", "https://"}) + host + target
				}
				version := oneOf(lot, []string{"1.1", "1.1", "1.0"})
				request := fmt.Sprintf("%s %s HTTP/%s\r\nHost: %s\r\nConnection: close\r\n\r\n",
					oneOf(lot, []string{"GET", "GET", "HEAD", "POST"}), target, version, host)
				got := bytesOf(t, u.Host, request, lot.IntN(4) == 0)
				for _, name := range closedBeside {
					if strings.Contains(got, "content of "+name) || strings.Contains(got, "0123456789") || host != u.Host &&
						strings.Contains(got, "content ") {
						t.Errorf("seed %d: %q\n%.300q", seed, request, got)
						break
					}
				}
			}
			// The service takes the question and does not answer, for longer than HAProxy waits.
			if err := syscall.Kill(s.Pid(), syscall.SIGSTOP); err != nil {
				t.Fatal(err)
			}
			var hang sync.WaitGroup
			for _, path := range []string{"/rota/", "/app/x"} {
				for _, half := range []bool{false, true} {
					hang.Go(func() {
						if got := bytesWithin(t, u.Host, get(path, u.Host), half, 12*time.Second); strings.Contains(got, "content ") {
							t.Errorf("%s, while the service hangs: %.200q", path, got)
						}
					})
				}
			}
			hang.Wait()
			// The service is gone.
			s.Kill()
			for _, half := range []bool{false, true} {
				closed("without the service", get("/rota/", u.Host), half)
				closed("without the service, an application", get("/app/x", u.Host), half)
			}
			if got := bytesOf(t, u.Host, "GET /leaflets/ HTTP/1.1\r\nHost: "+u.Host+"\r\nConnection: close\r\n\r\n",
				false); !strings.Contains(got, "content of leaflets") {
				t.Errorf("what is open, without the service: %.300q", got)
			}
		})
	}
}
