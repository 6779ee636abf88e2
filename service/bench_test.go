package service

import (
	"context"
	"io"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"ostiarius/core/secret"
	"ostiarius/service/people"
)

// BenchmarkGuardedFile sends requests over loopback for one file, to http.FileServer and
// to the guard, in one run. The requests of a second and their ratio are what counts.
func BenchmarkGuardedFile(b *testing.B) {
	dir := b.TempDir()
	site := filepath.Join(dir, "site")
	if err := os.MkdirAll(filepath.Join(site, "rota"), 0o755); err != nil {
		b.Fatal(err)
	}
	for name, text := range map[string]string{
		"site/rota/week.html": strings.Repeat("<p>guides, hands and soup</p>\n", 140),
		"doors.yaml":          "roles: {keeper: }\nsources: [{path: /, files: ./site}]\ndoors: [{path: /**, admit: {role: keeper}}]\n",
	} {
		if err := os.WriteFile(filepath.Join(dir, name), []byte(text), 0o644); err != nil {
			b.Fatal(err)
		}
	}
	s, err := Open(Settings{
		Policy: filepath.Join(dir, "doors.yaml"), Listen: "127.0.0.1:0", Data: filepath.Join(dir, "d"),
		Log: slog.New(slog.DiscardHandler), Cost: secret.Cost{Memory: 64, Passes: 1, Threads: 1},
	})
	if err != nil {
		b.Fatal(err)
	}
	defer s.Close()
	ctx, stop := context.WithCancel(context.Background())
	done := make(chan error)
	go func() { done <- s.Serve(ctx) }()
	if _, err := s.register.Add(ctx, "bench", people.NewAccount{Name: "ines", Password: "seven-brass-prisms", Roles: []string{"keeper"}}); err != nil {
		b.Fatal(err)
	}
	in, err := s.register.SignIn(ctx, "ines", "seven-brass-prisms", people.Origin{}, false)
	if err != nil {
		b.Fatal(err)
	}
	plain := httptest.NewServer(http.FileServer(http.Dir(site)))
	defer plain.Close()

	for _, target := range []struct{ name, url string }{{"FileServer", plain.URL}, {"guarded", s.URL()}} {
		b.Run(target.name, func(b *testing.B) {
			client := &http.Client{Transport: &http.Transport{MaxIdleConnsPerHost: 16}}
			b.RunParallel(func(p *testing.PB) {
				for p.Next() {
					req, _ := http.NewRequest("GET", target.url+"/rota/week.html", nil)
					req.Header.Set("Cookie", "ostiarius-session="+in.Token)
					resp, err := client.Do(req)
					if err != nil || resp.StatusCode != 200 {
						b.Error(resp, err)
						return
					}
					io.Copy(io.Discard, resp.Body)
					resp.Body.Close()
				}
			})
			b.ReportMetric(float64(b.N)/b.Elapsed().Seconds(), "req/s")
		})
	}
	stop()
	<-done
}
