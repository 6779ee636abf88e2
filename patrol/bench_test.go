package patrol

import (
	"context"
	"fmt"
	"net/http"
	"net/http/httptest"
	"net/url"
	"os"
	"os/exec"
	"strings"
	"testing"
	"time"
)

// pagesSite has pages that link to others, as many as are asked for.
func pagesSite(n int) http.Handler {
	text := strings.Repeat("The lamp turns and the tide comes in, as it has for a hundred years. ", 30)
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		i := 0
		if _, err := fmt.Sscanf(r.URL.Path, "/p%d.html", &i); err != nil && r.URL.Path != "/" || i >= n {
			http.NotFound(w, r)
			return
		}
		w.Header().Set("Content-Type", "text/html; charset=utf-8")
		w.Header().Set("Cache-Control", "no-store")
		fmt.Fprintf(w, "<!doctype html><title>Page %d</title><h1>Page %[1]d</h1><p>%s %[1]d</p>", i, text)
		for k := range 6 {
			fmt.Fprintf(w, `<a href="/p%d.html">p</a> `, (i*5+k+1)%n)
		}
	})
}

// Pages a second of a patrol as one visitor, beside wget at the same site. Wget has one connection; so has the first patrol.
func BenchmarkPatrol(b *testing.B) {
	const n = 2000
	server := httptest.NewServer(pagesSite(n))
	defer server.Close()
	for _, together := range []int{1, UsualTogether} {
		b.Run(fmt.Sprintf("patrol/connections=%d", together), func(b *testing.B) {
			for b.Loop() {
				began := time.Now()
				r, err := Run(context.Background(), Options{Sites: []*url.URL{parsed(b, server.URL+"/")}, Together: together})
				if err != nil || r.Visited < n {
					b.Fatal(r, err)
				}
				b.ReportMetric(float64(r.Visited)/time.Since(began).Seconds(), "pages/s")
			}
		})
	}
	wget, err := exec.LookPath("wget")
	if err != nil {
		b.Skip("there is no wget to compare with")
	}
	b.Run("wget/connections=1", func(b *testing.B) {
		for b.Loop() {
			memory, err := os.MkdirTemp("/dev/shm", "wget") // it reads the links of a page from the file that it has written
			if err != nil {
				b.Skip(err)
			}
			began := time.Now()
			c := exec.Command(wget, "-q", "-r", "-l", "inf", "-e", "robots=off", "--delete-after", "-nd", server.URL+"/")
			c.Dir = memory
			err = c.Run()
			took := time.Since(began)
			os.RemoveAll(memory)
			if err != nil {
				b.Fatal(err)
			}
			b.ReportMetric(n/took.Seconds(), "pages/s")
		}
	})
}
