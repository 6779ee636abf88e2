package service

import (
	"context"
	"fmt"
	"io"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"net/netip"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"testing"

	"ostiarius/core/secret"
	"ostiarius/service/guard"
	"ostiarius/service/people"
)

// A guarded site for benchmarks, with the token of somebody whom it admits.
type guarded struct {
	*Service
	dir   string
	token string
}

func benchService(b *testing.B, cost secret.Cost, peers ...netip.Prefix) *guarded {
	b.Helper()
	dir := b.TempDir()
	for name, text := range map[string]string{
		"site/rota/week.html": strings.Repeat("<p>guides, hands and soup</p>\n", 140),
		"doors.yaml":          "roles: {keeper: }\nsources: [{path: /, files: ./site}]\ndoors: [{path: /**, admit: {role: keeper}}]\n",
	} {
		if err := os.MkdirAll(filepath.Dir(filepath.Join(dir, name)), 0o755); err != nil {
			b.Fatal(err)
		}
		if err := os.WriteFile(filepath.Join(dir, name), []byte(text), 0o644); err != nil {
			b.Fatal(err)
		}
	}
	s, err := Open(Settings{
		Policy: filepath.Join(dir, "doors.yaml"), Listen: "127.0.0.1:0", Data: filepath.Join(dir, "d"),
		Log: slog.New(slog.DiscardHandler), Cost: cost, Peers: peers,
	})
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
	if _, err := s.register.Add(ctx, "bench", people.NewAccount{Name: "ines", Password: "seven-brass-prisms", Roles: []string{"keeper"}}); err != nil {
		b.Fatal(err)
	}
	in, err := s.register.SignIn(ctx, "ines", "seven-brass-prisms", people.Origin{}, false)
	if err != nil {
		b.Fatal(err)
	}
	return &guarded{s, dir, in.Token}
}

var cheap = secret.Cost{Memory: 64, Passes: 1, Threads: 1}

var perSecond = regexp.MustCompile(`Requests/sec:\s+([0-9.]+)`)

// rate returns how many requests a second wrk gets answered with success.
func rate(b *testing.B, seconds int, url string, headers ...string) float64 {
	b.Helper()
	if _, err := exec.LookPath("wrk"); err != nil {
		b.Skip("wrk is not here; `make bench` installs it")
	}
	args := []string{"-t1", "-c32", fmt.Sprintf("-d%ds", seconds)}
	for _, h := range headers {
		args = append(args, "-H", h)
	}
	out, err := exec.Command("wrk", append(args, url)...).CombinedOutput()
	found := perSecond.FindSubmatch(out)
	if err != nil || found == nil || strings.Contains(string(out), "Non-2xx") {
		b.Fatalf("wrk: %v\n%s", err, out)
	}
	n, err := strconv.ParseFloat(string(found[1]), 64)
	if err != nil {
		b.Fatal(err)
	}
	return n
}

// against measures a baseline and what is compared with it in turns, seven times, so that
// the machine's moods hit both alike, and reports the medians and that of the ratios.
func against(b *testing.B, baseline, measured func() float64) {
	var base, rates, ratios []float64
	for b.Loop() {
		base, rates, ratios = nil, nil, nil
		for range 7 {
			base = append(base, baseline())
			rates = append(rates, measured())
			ratios = append(ratios, rates[len(rates)-1]/base[len(base)-1])
		}
	}
	for name, values := range map[string][]float64{"req/s-baseline": base, "req/s": rates, "ratio": ratios} {
		slices.Sort(values)
		b.ReportMetric(values[len(values)/2], name)
	}
}

// What guarding costs: a trivial handler bare, and behind the guard with a session; a file
// from http.FileServer, and from the guarded site.
func BenchmarkGuard(b *testing.B) {
	s := benchService(b, cheap)
	cookie := "Cookie: ostiarius-session=" + s.token
	trivial := http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) { io.WriteString(w, "the lamp is lit\n") })
	bare := httptest.NewServer(trivial)
	defer bare.Close()
	behind := *s.guard
	house := &guard.House{Book: s.policy.Book(), Site: trivial}
	behind.House = func() *guard.House { return house }
	guardedTrivial := httptest.NewServer(&behind)
	defer guardedTrivial.Close()
	files := httptest.NewServer(http.FileServer(http.Dir(filepath.Join(s.dir, "site"))))
	defer files.Close()
	b.Run("session", func(b *testing.B) {
		against(b, func() float64 { return rate(b, 1, bare.URL, cookie) }, func() float64 { return rate(b, 1, guardedTrivial.URL, cookie) })
	})
	b.Run("file", func(b *testing.B) {
		against(b, func() float64 { return rate(b, 1, files.URL+"/rota/week.html", cookie) }, func() float64 { return rate(b, 1, s.URL()+"/rota/week.html", cookie) })
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
  return wrk.format("POST", "/door/sign-in", { ["Content-Type"] = "application/x-www-form-urlencoded", ["X-Forwarded-For"] = from }, "username=name" .. n .. "&password=not-this-one")
end`), 0o600); err != nil {
		b.Fatal(err)
	}
	against(b, func() float64 { return rate(b, 1, page, cookie) }, func() float64 {
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
