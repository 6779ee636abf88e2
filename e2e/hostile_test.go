package e2e

import (
	"fmt"
	"net"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"testing"

	"ostiarius/core/place"
)

// No spelling of an address leads a stranger to what is closed; and whatever is let
// through reaches the source as the place that was judged. The site is as open as can be:
// only the office is closed.
func TestHostileSpellings(t *testing.T) {
	t.Parallel()
	echo := http.Server{Handler: http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		path, _, _ := strings.Cut(r.RequestURI, "?")
		fmt.Fprintf(w, "echo:%s", path)
	})}
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	go echo.Serve(listener)
	defer echo.Close()
	text, err := os.ReadFile(filepath.Join("testdata", "hostile.txt"))
	if err != nil {
		t.Fatal(err)
	}
	for _, rules := range []string{"", "semicolons: allowed\n", "case: insensitive\n"} {
		dir := t.TempDir()
		write(t, dir, "site/office/secret.txt", "SECRET")
		write(t, dir, "site/visit/index.html", "visit")
		write(t, dir, "site/index.html", "home")
		write(t, dir, "doors.yaml",
			rules+"unlisted: public\nsources:\n  - { path: /, files: ./site }\n  - { path: /echo, proxy: 'http://"+listener.Addr().String()+"' }\n"+
				"doors: [ { path: [/office/**, /echo/office/**], admit: nobody } ]\n")
		s := start(t, dir)
		spellings := 0
		statuses := map[int]int{}
		for line := range strings.Lines(string(text)) {
			if strings.HasPrefix(line, "#") {
				continue
			}
			quoted, err := strconv.QuotedPrefix(line)
			if err != nil {
				t.Fatalf("%s: %v", line, err)
			}
			target, _ := strconv.Unquote(quoted)
			note := strings.TrimSpace(line[len(quoted):])
			host := "127.0.0.1"
			if quotedHost, ok := strings.CutPrefix(note, "host "); ok {
				if host, err = strconv.Unquote(quotedHost); err != nil {
					t.Fatalf("%s: %v", line, err)
				}
			}
			spellings++
			targets := []string{target}
			if note == "" {
				targets = append(targets, "/echo"+target)
			}
			for _, target := range targets {
				for _, method := range []string{"GET", "HEAD", "POST", "get", "CONNECT"} {
					if method != "GET" && spellings%17 != 0 {
						continue // the method makes no difference to how a path is read; a sample shows it
					}
					request := method + " " + target + " HTTP/1.1\r\nHost: " + host + "\r\nConnection: close\r\n\r\n"
					status, _, body := raw(t, s.URL, request)
					statuses[status]++
					if strings.Contains(body, "SECRET") {
						t.Errorf("%s%q from host %q shows the secret", rules, request, host)
					}
					if status >= 500 {
						t.Errorf("%s%q: %d", rules, request, status)
					}
					received, echoed := strings.CutPrefix(body, "echo:")
					if !echoed || status != 200 {
						continue
					}
					_, path, _ := place.SplitTarget(target)
					judged, slash, err := place.Canonical(path,
						place.Rules{FoldCase: strings.Contains(rules, "case"), Semicolons: strings.Contains(rules, "semi")})
					if err != nil {
						t.Errorf("%s%q was let through although it cannot be read: %v", rules, target, err)
						continue
					}
					got, err := url.PathUnescape(received)
					if want := (place.Place{Path: judged, Slash: slash}).Address(); err != nil || got != want || strings.HasPrefix(got, "/echo/office/") {
						t.Errorf("%s%q was judged as %q, but the server behind received %q", rules, target, want, received)
					}
				}
			}
		}
		if spellings < 150 || statuses[200] == 0 || statuses[400] < 100 || statuses[403] < 20 {
			t.Errorf("%d spellings, answers %v", spellings, statuses)
		}
		t.Logf("%s%d spellings, answers %v", rules, spellings, statuses)
	}
}
