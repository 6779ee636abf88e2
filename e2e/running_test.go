package e2e

import (
	"bufio"
	"crypto/tls"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"syscall"
	"testing"
)

// What whoever runs the service reads: its log, a line for each request, and whether it lives and is ready.
func TestLogsAndHealth(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	text, err := os.ReadFile("../docs/running.md")
	if err != nil {
		t.Fatal(err)
	}
	documented := string(text)
	behind := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Content-Type", "text/event-stream")
		fmt.Fprint(w, "data: one\n\n")
		w.(http.Flusher).Flush()
		<-r.Context().Done() // what was sent has arrived without an end
	}))
	defer behind.Close()
	write(t, dir, "site/index.html", "<h1>The Point</h1>")
	write(t, dir, "site/big.bin", strings.Repeat("fog ", 100_000))
	write(t, dir, "doors.yaml", fmt.Sprintf("sources: [ { path: /, files: ./site }, { path: /live, proxy: %q }, { path: /dead, proxy: "+
		"\"http://127.0.0.1:1\" } ]\ndoors: [ { path: /**, admit: public }, { path: /rota/**, admit: signed-in } ]\n", behind.URL))
	logs := filepath.Join(dir, "access.log")
	s := start(t, dir, "--log", "json", "--access-log", logs, "--access-log-form", "json", "--metrics-from", "127.0.0.0/8")
	run(t, "seven-brass-prisms\n", "people", "add", "ines", "--password-stdin", "--data", s.Data)
	p := newPerson(t, s.URL)
	p.is("/", 200, "")
	p.signIn("ines", "wrong-brass-prisms", "/")
	p.signIn("a-password-in-the-wrong-field", "x", "/")
	cookie := p.signIn("ines", "seven-brass-prisms", "/rota/").header.Get("Set-Cookie")
	_, token, _ := strings.Cut(cookie, "=")
	token, _, _ = strings.Cut(token, ";")
	if len(token) < 40 {
		t.Fatal(cookie)
	}
	p.is("/rota/?k=a-secret-of-a-page", 404, "")
	p.is("/big.bin", 200, "")
	stream, err := http.Get(s.URL + "/live")
	if err != nil {
		t.Fatal(err)
	}
	if line, err := bufio.NewReader(stream.Body).ReadString('\n'); line != "data: one\n" {
		t.Errorf("%q %v", line, err)
	}
	stream.Body.Close()
	for path, want := range map[string]string{"/door/health/live": "ok", "/door/health/ready": "ok", "/door/health": "ok"} {
		if a := p.get(path); a.status != 200 || !strings.Contains(a.body, want) {
			t.Errorf("%s: %d %s", path, a.status, a.body)
		}
	}

	p.is("/dead", 502, "")
	metrics := p.get("/door/metrics").body
	for _, want := range []string{
		`ostiarius_requests_total{outcome="admit"} `, `ostiarius_password_tries_total{result="right"} 1`,
		`ostiarius_password_tries_total{result="wrong"} 2`,
		`ostiarius_password_tries_total{result="slowed"} 0`, "ostiarius_hashing_waiting 0", "ostiarius_policy_version 1",
		"ostiarius_policy_stuck 0", "ostiarius_unwritten 0",
		"ostiarius_sessions 1", `ostiarius_messages{state="waiting"} 0`, "ostiarius_judging_seconds_count ",
		`ostiarius_upstream_failures_total{proxy="http://127.0.0.1:1"} 1`,
		fmt.Sprintf("ostiarius_upstream_seconds_count{proxy=%q} 1", behind.URL), "ostiarius_build_info{version=",
	} {
		if !strings.Contains(metrics, "\n"+want) {
			t.Errorf("the metrics lack %s", want)
		}
	}
	for _, name := range regexp.MustCompile(`(?m)^# TYPE (ostiarius_\S+)`).FindAllStringSubmatch(metrics, -1) {
		if !strings.Contains(documented, "`"+name[1]) {
			t.Errorf("%s is not in docs/running.md", name[1])
		}
	}

	type line struct {
		Client, Account, Method, Path, Outcome, Door string
		Status                                       int
		Bytes                                        int64
	}
	lines := func(file string) (all []line) {
		text, _ := os.ReadFile(file)
		for _, one := range strings.Split(strings.TrimSpace(string(text)), "\n") {
			var l line
			if json.Unmarshal([]byte(one), &l) == nil {
				all = append(all, l)
			}
		}
		return all
	}
	find := func(file, path string, status int) (found line) {
		t.Helper()
		eventually(t, func() bool {
			for _, l := range lines(file) {
				if l.Path == path && l.Status == status {
					found = l
					return true
				}
			}
			return false
		})
		return found
	}
	if l := find(logs, "/rota/", 404); l.Account != "ines" || l.Client != "127.0.0.1" || l.Door != "/rota/**" || l.Outcome != "admit" {
		t.Errorf("%+v", l)
	}
	if l := find(logs, "/big.bin", 200); l.Bytes != 400_000 {
		t.Errorf("%+v", l)
	}
	find(logs, "/live", 200)
	if err := os.Rename(logs, logs+".1"); err != nil {
		t.Fatal(err)
	}
	if err := s.cmd.Process.Signal(syscall.SIGHUP); err != nil {
		t.Fatal(err)
	}
	eventually(t, func() bool { _, err := os.Stat(logs); return err == nil })
	p.is("/?again", 200, "")
	find(logs, "/", 200)

	both := s.Log()
	for _, file := range []string{logs, logs + ".1"} {
		text, err := os.ReadFile(file)
		if err != nil {
			t.Fatal(err)
		}
		both += string(text)
	}
	for _, secret := range []string{"a-secret-of-a-page", "a-password-in-the-wrong-field", "seven-brass-prisms", "wrong-brass-prisms", token} {
		if strings.Contains(both, secret) {
			t.Errorf("%q is in a log", secret)
		}
	}
	said := map[string]int{}
	for _, one := range strings.Split(strings.TrimSpace(s.Log()), "\n") {
		var l struct{ Msg, Account, Network, Reason, Level string }
		if err := json.Unmarshal([]byte(one), &l); err != nil {
			t.Errorf("%s: %v", one, err)
		}
		said[strings.TrimSpace(l.Msg+" "+l.Account+" "+l.Reason)]++
	}
	for _, want := range []string{"listening", "sign-in failed ines wrong password", "sign-in failed  unknown account"} {
		if said[want] != 1 {
			t.Errorf("%q is said %d times in %v", want, said[want], said)
		}
	}
}

// Over plain HTTP, challenges are answered with their files and nothing else is; all else is led to HTTPS.
func TestChallenges(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	write(t, dir, "site/index.html", "x")
	write(t, dir, "doors.yaml", "sources: [{path: /, files: ./site}]\ndoors: [{path: /**, admit: nobody}]\n")
	write(t, dir, "acme/LoqXcYV8q5ONbJQxbmR7SCTNo3tiAXDfowyjxAjEuX0", "a proof")
	write(t, dir, "secret.txt", "a secret")
	write(t, dir, "acme/below/file", "below")
	if err := os.Symlink(filepath.Join(dir, "secret.txt"), filepath.Join(dir, "acme/link")); err != nil {
		t.Fatal(err)
	}
	cert, key := certificate(t, dir)
	s := start(t, dir, "--tls-cert", cert, "--tls-key", key, "--redirect-http", "127.0.0.1:0", "--acme-files", filepath.Join(dir, "acme"))
	_, plain, _ := strings.Cut(s.Output, "redirecting ")
	plain, _, _ = strings.Cut(plain, " to HTTPS")
	at := "/.well-known/acme-challenge/"
	for target, want := range map[string]string{
		at + "LoqXcYV8q5ONbJQxbmR7SCTNo3tiAXDfowyjxAjEuX0": "200 a proof",
		at + "other":                  "404",
		at:                            "404",
		at + "link":                   "404",
		at + "below":                  "404",
		at + "below/file":             "404",
		at + "../secret.txt":          "404",
		at + "..%2fsecret.txt":        "404",
		at + "%2e%2e/secret.txt":      "404",
		"/":                           "308",
		"/.well-known/acme-challenge": "308",
		"/x" + at + "link":            "308",
	} {
		status, _, body := raw(t, plain, "GET "+target+" HTTP/1.1\r\nHost: marram.example\r\nConnection: close\r\n\r\n")
		if got := fmt.Sprint(status, " ", body); !strings.HasPrefix(got, want) || strings.Contains(body, "secret") && status != 308 {
			t.Errorf("%s: %s", target, got)
		}
	}
	https := &http.Client{Transport: &http.Transport{TLSClientConfig: &tls.Config{InsecureSkipVerify: true}}}
	resp, err := https.Get(s.URL + at + "LoqXcYV8q5ONbJQxbmR7SCTNo3tiAXDfowyjxAjEuX0")
	if err != nil {
		t.Fatal(err)
	}
	if body, _ := io.ReadAll(resp.Body); strings.Contains(string(body), "a proof") {
		t.Errorf("past the doors: %d %s", resp.StatusCode, body)
	}
	for _, args := range [][]string{{"--acme-files", dir},
		{"--tls-cert", cert, "--tls-key", key, "--redirect-http", "127.0.0.1:0", "--acme-files", filepath.Join(dir, "none")}} {
		code, _, errOut := run(t, "",
			append([]string{"serve", "--policy", filepath.Join(dir, "doors.yaml"), "--listen", "127.0.0.1:0", "--data",
				filepath.Join(dir, "d")}, args...)...)
		if code != 1 || !strings.Contains(errOut, "--acme-files") {
			t.Errorf("%q: %d %s", args, code, errOut)
		}
	}
}
