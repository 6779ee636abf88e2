package embed

import (
	"io"
	"net/http"
	"net/http/cookiejar"
	"net/http/httptest"
	"net/url"
	"os/exec"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"testing"
)

var perSecond = regexp.MustCompile(`Requests/sec:\s+([0-9.]+)`)

// A guarded page of a program, with a session, beside the same handler without doors; the two are measured in turns, and the medians told.
func BenchmarkEmbedded(b *testing.B) {
	if _, err := exec.LookPath("wrk"); err != nil {
		b.Skip("wrk is not here; `make bench` installs it")
	}
	page := http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Content-Type", "text/plain; charset=utf-8")
		io.WriteString(w, "the lamp is lit\n")
	})
	d := opened(b, Options{Text: text})
	bare, guarded := httptest.NewServer(page), httptest.NewServer(d.Guard(page))
	defer bare.Close()
	defer guarded.Close()
	jar, _ := cookiejar.New(nil)
	answer, err := (&http.Client{Jar: jar}).PostForm(guarded.URL+"/door/sign-in",
		url.Values{"username": {"ines"}, "password": {"seven-brass-prisms"}, "next": {"/log/"}})
	if err != nil || answer.StatusCode != 200 {
		b.Fatal(answer, err)
	}
	home, _ := url.Parse(guarded.URL)
	var cookies []string
	for _, c := range jar.Cookies(home) {
		cookies = append(cookies, c.String())
	}
	rate := func(site string) float64 {
		out, err := exec.Command("wrk", "-t2", "-c64", "-d1s", "-H", "Cookie: "+strings.Join(cookies, "; "), site+"/log/today").CombinedOutput()
		found := perSecond.FindSubmatch(out)
		if err != nil || found == nil || strings.Contains(string(out), "Non-2xx") {
			b.Fatalf("%v %s", err, out)
		}
		n, _ := strconv.ParseFloat(string(found[1]), 64)
		return n
	}
	var base, rates, ratios []float64
	for b.Loop() {
		base, rates, ratios = nil, nil, nil
		for range 15 {
			one, other := rate(bare.URL), rate(guarded.URL)
			base, rates, ratios = append(base, one), append(rates, other), append(ratios, other/one)
		}
	}
	for name, values := range map[string][]float64{"req/s-baseline": base, "req/s": rates, "ratio": ratios} {
		slices.Sort(values)
		b.ReportMetric(values[len(values)/2], name)
	}
}
