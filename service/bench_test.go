package service

import (
	"context"
	"encoding/base64"
	"fmt"
	"io"
	"log"
	"log/slog"
	"net"
	"net/http"
	"net/http/httptest"
	"net/http/httputil"
	"net/netip"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"runtime"
	"slices"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"ostiarius/core/message"
	"ostiarius/core/secret"
	"ostiarius/core/words"
	"ostiarius/service/base/guard"
	"ostiarius/service/base/hashing"
	"ostiarius/service/held/passes"
	"ostiarius/service/held/shared"
	"ostiarius/service/keep/mail"
	"ostiarius/service/who/people"
	"ostiarius/service/who/sessions"
	"ostiarius/store"
)

// A guarded site for benchmarks, with the token of somebody whom it admits.
type guarded struct {
	*Service
	dir   string
	token string
}

func benchService(b *testing.B, cost secret.Cost, peers ...netip.Prefix) *guarded {
	b.Helper()
	return benchServiceOf(b, Settings{Cost: cost, Front: &guard.Front{Peers: peers}})
}

// benchServiceOf is benchService with other settings too.
func benchServiceOf(b *testing.B, settings Settings) *guarded {
	b.Helper()
	dir := b.TempDir()
	for name, text := range map[string]string{
		"site/rota/week.html":  strings.Repeat("<p>guides, hands and soup</p>\n", 140),
		"site/open/week.html":  strings.Repeat("<p>guides, hands and soup</p>\n", 140),
		"site/open/site.css":   strings.Repeat("p { color: #123; }\n", 50),
		"site/handed/week.bin": strings.Repeat("guides, hands and soup\n", 180),
		"doors.yaml": "roles: {keeper: }\nshared: {kit: }\npasses: {files: }\nsources: [{path: /, files: ./site}, {path: /app, " +
			"proxy: 'unix:app.sock'}]\ndoors:\n  - {path: /**, admit: {role: keeper}}\n  - {path: [/open, /open/**], admit: public}\n  - " +
			"{path: /basic, admit: {role: keeper}, ask: basic}\n  - {path: /unlocked, admit: {shared: kit}}\n  - {path: /handed/**, admit: " +
			"{any: [{role: keeper}, {pass: files}]}}\n",
	} {
		if err := os.MkdirAll(filepath.Dir(filepath.Join(dir, name)), 0o755); err != nil {
			b.Fatal(err)
		}
		if err := os.WriteFile(filepath.Join(dir, name), []byte(text), 0o644); err != nil {
			b.Fatal(err)
		}
	}
	settings.Policy, settings.Listen, settings.Data = filepath.Join(dir, "doors.yaml"), "127.0.0.1:0", filepath.Join(dir, "d")
	settings.Log, settings.HashApart = slog.New(slog.DiscardHandler), hashing.Command(hashWorker)
	s, err := Open(settings)
	if err != nil {
		b.Fatal(err)
	}
	ctx, stop := context.WithCancel(context.Background())
	done := make(chan error)
	go func() { done <- s.Serve(ctx) }()
	b.Cleanup(func() {
		stop()
		<-done
		s.Close()
	})
	if _, err := s.rooms.People.Add(ctx, "bench",
		people.NewAccount{Name: "ines", Password: "seven-brass-prisms", Roles: []string{"keeper"}}); err != nil {
		b.Fatal(err)
	}
	in, err := s.rooms.SignIn.SignIn(ctx, "ines", "seven-brass-prisms", sessions.Origin{}, false)
	if err != nil {
		b.Fatal(err)
	}
	return &guarded{s, dir, in.Token}
}

const hashWorker = "hash-worker"

// The benchmarks are their own workers.
func TestMain(m *testing.M) {
	if len(os.Args) == 2 && os.Args[1] == hashWorker {
		if err := hashing.Work(os.Stdin, os.Stdout); err != nil {
			os.Exit(1)
		}
		return
	}
	os.Exit(m.Run())
}

var cheap = secret.Cost{Memory: 64, Passes: 1, Threads: 1}

var perSecond = regexp.MustCompile(`Requests/sec:\s+([0-9.]+)`)

// A measure is how many requests a second wrk got answered with success, and how much
// processor time this process needed for each, in microseconds.
type measure struct{ rate, cpu float64 }

// rate measures one address, with a thread of wrk for each of two cores.
func rate(b *testing.B, seconds int, url string, headers ...string) measure {
	b.Helper()
	if _, err := exec.LookPath("wrk"); err != nil {
		b.Skip("wrk is not here; `make bench` installs it")
	}
	args := []string{"-t2", "-c64", fmt.Sprintf("-d%ds", seconds)}
	for _, h := range headers {
		args = append(args, "-H", h)
	}
	before := used(b)
	out, err := exec.Command("wrk", append(args, url)...).CombinedOutput()
	after := used(b)
	found := perSecond.FindSubmatch(out)
	if err != nil || found == nil || strings.Contains(string(out), "Non-2xx") {
		b.Fatalf("wrk: %v\n%s", err, out)
	}
	n, err := strconv.ParseFloat(string(found[1]), 64)
	if err != nil {
		b.Fatal(err)
	}
	return measure{n, float64((after - before).Microseconds()) / (n * float64(seconds))}
}

// used returns the processor time that this process has used; wrk is another one.
func used(b *testing.B) time.Duration {
	var u syscall.Rusage
	if err := syscall.Getrusage(syscall.RUSAGE_SELF, &u); err != nil {
		b.Fatal(err)
	}
	return time.Duration(u.Utime.Nano() + u.Stime.Nano())
}

// against measures a baseline and what is compared with it in turns, fifteen times, so that
// the machine's moods hit both alike, and reports medians: of the rates, of their ratios,
// and of the ratios of processor time, which other programs on the machine disturb less.
func against(b *testing.B, baseline, measured func() measure) {
	var base, rates, ratios, cpu []float64
	for b.Loop() {
		base, rates, ratios, cpu = nil, nil, nil, nil
		for range 15 {
			one, other := baseline(), measured()
			base, rates = append(base, one.rate), append(rates, other.rate)
			ratios, cpu = append(ratios, other.rate/one.rate), append(cpu, one.cpu/other.cpu)
		}
	}
	for name, values := range map[string][]float64{"req/s-baseline": base, "req/s": rates, "ratio": ratios, "cpu-ratio": cpu} {
		slices.Sort(values)
		b.ReportMetric(values[len(values)/2], name)
	}
}

// trivial is the handler behind the guard, and without it the baseline. Like most handlers
// it says what it answers with.
func trivial(w http.ResponseWriter, r *http.Request) {
	w.Header().Set("Content-Type", "text/plain; charset=utf-8")
	silent(w, r)
}

// silent is the same without any header field, for which net/http makes no map.
func silent(w http.ResponseWriter, r *http.Request) {
	io.WriteString(w, "the lamp is lit\n")
}

// inFront returns the addresses of a handler, and of the same behind the guard.
func (s *guarded) inFront(b *testing.B, handler http.HandlerFunc) (bare, behind string) {
	b.Helper()
	g := *s.guard
	house := &guard.House{Book: s.policy.Book(), Site: handler}
	g.House = func() *guard.House { return house }
	servers := []*httptest.Server{httptest.NewServer(house.Site), httptest.NewUnstartedServer(nil)}
	servers[1].Listener, servers[1].Config = headedListener{servers[1].Listener}, siteServer(onlyClear(&g), nil)
	servers[1].Start()
	b.Cleanup(func() {
		for _, server := range servers {
			server.Close()
		}
	})
	return servers[0].URL, servers[1].URL
}

// What guarding costs: a trivial handler bare, and behind the guard with a session; a file
// from http.FileServer, which opens and reads it with each request and keeps nothing in memory, and from the guarded site, which keeps
// small files.
func BenchmarkGuard(b *testing.B) {
	s := benchService(b, cheap)
	cookie := "Cookie: ostiarius-session=" + s.token
	bare, behind := s.inFront(b, trivial)
	files := httptest.NewServer(http.FileServer(http.Dir(filepath.Join(s.dir, "site"))))
	defer files.Close()
	b.Run("session", func(b *testing.B) {
		against(b, func() measure { return rate(b, 1, bare, cookie) }, func() measure { return rate(b, 1, behind, cookie) })
	})
	// The hardest baseline: net/http needs about as much for the first field of an answer,
	// whoever sets it, as the guard needs for everything.
	b.Run("session-silent", func(b *testing.B) {
		bare, behind := s.inFront(b, silent)
		against(b, func() measure { return rate(b, 1, bare, cookie) }, func() measure { return rate(b, 1, behind, cookie) })
	})
	// What of it is the session: a public page of the guard, which looks at no session.
	b.Run("session-check", func(b *testing.B) {
		against(b, func() measure { return rate(b, 1, behind+"/open") }, func() measure { return rate(b, 1, behind, cookie) })
	})
	for name, path := range map[string]string{
		"file": "/rota/week.html", "file-public": "/open/week.html", "file-public-1kB": "/open/site.css",
	} {
		b.Run(name, func(b *testing.B) {
			against(b, func() measure { return rate(b, 1, files.URL+path, cookie) }, func() measure { return rate(b, 1, s.URL()+path, cookie) })
		})
	}
}

// buffers are a pool for copying answers.
type buffers struct{ sync.Pool }

func (b *buffers) Get() []byte     { return *b.Pool.Get().(*[]byte) }
func (b *buffers) Put(used []byte) { b.Pool.Put(&used) }

// Credentials of HTTP Basic with each request, and a server behind the proxy.
func BenchmarkBasicAndProxy(b *testing.B) {
	s := benchService(b, secret.DefaultCost)
	credentials := "Authorization: Basic " + base64.StdEncoding.EncodeToString([]byte("ines:seven-brass-prisms"))
	for name, handler := range map[string]http.HandlerFunc{"basic": trivial, "basic-silent": silent} {
		b.Run(name, func(b *testing.B) {
			bare, behind := s.inFront(b, handler)
			against(b, func() measure { return rate(b, 1, bare+"/basic", credentials) },
				func() measure { return rate(b, 1, behind+"/basic", credentials) })
		})
	}

	socket := filepath.Join(s.dir, "app.sock")
	listener, err := net.Listen("unix", socket)
	if err != nil {
		b.Fatal(err)
	}
	app := &http.Server{Handler: http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.URL.Path == "/app/gigabyte" {
			block := make([]byte, 1<<20)
			for range 1 << 10 {
				w.Write(block)
			}
			return
		}
		trivial(w, r)
	})}
	go app.Serve(listener)
	defer app.Close()
	plain := httptest.NewServer(&httputil.ReverseProxy{
		BufferPool: &buffers{sync.Pool{New: func() any { b := make([]byte, 32<<10); return &b }}}, // as many as the proxy of the site has
		ErrorLog:   log.New(io.Discard, "", 0),                                                    // of clients that have gone
		Rewrite:    func(r *httputil.ProxyRequest) { r.Out.URL.Scheme, r.Out.URL.Host = "http", "upstream" },
		Transport: &http.Transport{MaxIdleConnsPerHost: 256, DisableCompression: true,
			DialContext: func(ctx context.Context, _, _ string) (net.Conn, error) {
				return (&net.Dialer{}).DialContext(ctx, "unix", socket)
			}},
	})
	defer plain.Close()
	cookie := "Cookie: ostiarius-session=" + s.token
	b.Run("proxy", func(b *testing.B) {
		against(b, func() measure { return rate(b, 1, plain.URL+"/app/", cookie) }, func() measure { return rate(b, 1, s.URL()+"/app/", cookie) })
	})
	b.Run("gigabyte", func(b *testing.B) {
		for b.Loop() {
			var before, after runtime.MemStats
			runtime.GC()
			runtime.ReadMemStats(&before)
			req, _ := http.NewRequest("GET", s.URL()+"/app/gigabyte", nil)
			req.Header.Set("Cookie", "ostiarius-session="+s.token)
			resp, err := http.DefaultClient.Do(req)
			if err != nil {
				b.Fatal(err)
			}
			n, err := io.Copy(io.Discard, resp.Body)
			resp.Body.Close()
			if err != nil || n != 1<<30 {
				b.Fatal(n, err)
			}
			runtime.ReadMemStats(&after)
			b.ReportMetric(float64(after.Sys-before.Sys)/(1<<20), "MB-more-from-system")
			b.ReportMetric(float64(after.TotalAlloc-before.TotalAlloc)/(1<<20), "MB-allocated-in-all")
		}
	})
}

// A flood of wrong sign-ins, each from another address so that none is slowed, while
// guarded pages are asked for.
func BenchmarkFlood(b *testing.B) {
	s := benchService(b, secret.DefaultCost, netip.MustParsePrefix("127.0.0.0/8"))
	cookie := "Cookie: ostiarius-session=" + s.token
	page := s.URL() + "/rota/week.html"
	script := filepath.Join(b.TempDir(), "flood.lua")
	if err := os.WriteFile(script, []byte(`
n = 0
request = function()
  n = n + 1
  local from = "10." .. math.floor(n / 65536) % 256 .. "." .. math.floor(n / 256) % 256 .. "." .. n % 256
  return wrk.format("POST", "/door/sign-in", { ["Content-Type"] = "application/x-www-form-urlencoded", ["X-Forwarded-For"] = from
    }, "username=name" .. n .. "&password=not-this-one")
end`), 0o600); err != nil {
		b.Fatal(err)
	}
	against(b, func() measure { return rate(b, 1, page, cookie) }, func() measure {
		flood := exec.Command("wrk", "-t1", "-c16", "-d30s", "-s", script, s.URL())
		if err := flood.Start(); err != nil {
			b.Fatal(err)
		}
		defer func() {
			flood.Process.Kill()
			flood.Wait()
		}()
		return rate(b, 1, page, cookie)
	})
}

// A guarded page while 10,000 messages wait for a mail server that takes connections and says nothing, beside the same
// without any.
func BenchmarkStuckMail(b *testing.B) {
	stuck, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		b.Fatal(err)
	}
	defer stuck.Close()
	server, err := mail.ReadServer("smtp://"+stuck.Addr().String(), "door@marram.example", "")
	if err != nil {
		b.Fatal(err)
	}
	free := benchService(b, cheap)
	s := benchServiceOf(b, Settings{Cost: cheap, Front: &guard.Front{}, Mail: server})
	for i := range 10_000 {
		m := message.New(message.Recover, fmt.Sprintf("p%d@marram.example", i), "ines", words.English, time.Now())
		if err := s.store.Post(b.Context(), m, store.Activity{At: m.MadeAt, Kind: "link made"}); err != nil {
			b.Fatal(err)
		}
	}
	s.rooms.Mail.Wake()
	against(b, func() measure {
		return rate(b, 1, free.URL()+"/rota/week.html", "Cookie: ostiarius-session="+free.token)
	}, func() measure {
		return rate(b, 1, s.URL()+"/rota/week.html", "Cookie: ostiarius-session="+s.token)
	})
}

// A page that an unlock opens, and a file that is downloaded with a pass over HTTP Basic, beside the same with a
// session.
func BenchmarkHandedOut(b *testing.B) {
	s := benchService(b, cheap)
	ctx := b.Context()
	if err := s.rooms.Shared.Set(ctx, "bench", "kit", shared.Change{Password: "copper-kettle-moss"}); err != nil {
		b.Fatal(err)
	}
	token, _, err := s.rooms.Shared.Unlock(ctx, []string{"kit"}, "copper-kettle-moss", shared.Origin{}, func(string) string { return "" })
	if err != nil {
		b.Fatal(err)
	}
	issued, err := s.rooms.Passes.Issue(ctx, "bench", "files", passes.NewPass{Address: "ada@carrow.example"})
	if err != nil {
		b.Fatal(err)
	}
	session := "Cookie: ostiarius-session=" + s.token
	unlocked := "Cookie: ostiarius-unlock-kit=" + token
	pass := "Authorization: Basic " + base64.StdEncoding.EncodeToString([]byte(issued.Pass.ID+":"+issued.Password))
	_, behind := s.inFront(b, trivial)
	b.Run("unlock", func(b *testing.B) {
		against(b, func() measure { return rate(b, 1, behind+"/rota", session) },
			func() measure { return rate(b, 1, behind+"/unlocked", unlocked) })
	})
	b.Run("pass", func(b *testing.B) {
		against(b, func() measure { return rate(b, 1, behind+"/handed/x", session) },
			func() measure { return rate(b, 1, behind+"/handed/x", pass) })
	})
	b.Run("pass-file", func(b *testing.B) {
		against(b, func() measure { return rate(b, 1, s.URL()+"/handed/week.bin", session) },
			func() measure { return rate(b, 1, s.URL()+"/handed/week.bin", pass) })
	})
}
