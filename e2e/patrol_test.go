package e2e

import (
	"context"
	"encoding/json"
	"fmt"
	"maps"
	"net"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"ostiarius/client"
	"ostiarius/patrol"
)

// patrolled runs the command and reads what it has found.
func patrolled(t *testing.T, want int, args ...string) patrol.Result {
	t.Helper()
	code, out, errOut := run(t, "", append([]string{"patrol", "-o", "json"}, args...)...)
	var r patrol.Result
	if err := json.Unmarshal([]byte(out), &r); err != nil {
		t.Fatalf("exit %d, %v: %s%s", code, err, out, errOut)
	}
	if code != want {
		for _, f := range r.Findings {
			t.Errorf("%s %s at %s as %s: %s", f.Severity, f.Rule, f.Path, f.As, f.Message)
		}
		t.Fatalf("exit %d, want %d %s", code, want, errOut)
	}
	return r
}

func findingOf(r patrol.Result, rule, path string) *patrol.Finding {
	for i := range r.Findings {
		if f := &r.Findings[i]; f.Rule == rule && f.Path == path {
			return f
		}
	}
	return nil
}

// The demo is as it should be.
func TestPatrolOfTheDemo(t *testing.T) {
	t.Parallel()
	data, err := os.MkdirTemp("", "data")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { os.RemoveAll(data) })
	s, err := Start("demo", "--listen", "127.0.0.1:0", "--data", data)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { s.Stop() })
	counted := func() map[string]int64 {
		var today client.Today
		bySocket(t, data, "/today", &today)
		all := map[string]int64{}
		for _, hour := range today.Hours {
			for outcome, n := range hour.Outcomes {
				all[outcome] += n
			}
		}
		return all
	}
	before := counted()
	report := filepath.Join(t.TempDir(), "report.html")
	r := patrolled(t, 0, s.URL, "--data", data, "--report", report)
	if r.Visited < 100 || len(r.Visitors) < 10 || r.Requests < r.Visited*len(r.Visitors) {
		t.Errorf("%d addresses as %v with %d requests", r.Visited, r.Visitors, r.Requests)
	}
	page, err := os.ReadFile(report)
	if err != nil || !strings.Contains(string(page), "nothing was found") {
		t.Errorf("the report: %v", err)
	}
	events, err := client.New(data).Activity(t.Context(), client.ActivityQuery{Limit: 1000})
	if err != nil {
		t.Fatal(err)
	}
	for _, kind := range []string{"walk begun", "walk ended"} {
		if !slices.ContainsFunc(events, func(e client.ActivityRecord) bool { return string(e.Kind) == kind }) {
			t.Errorf("there is no record of %q", kind)
		}
	}
	// It is listed, and counted as nobody: neither those whom it was judged as, nor the stranger who comes with nothing.
	var listed client.Patrols
	bySocket(t, data, "/patrols", &listed)
	if len(listed.Patrols) != 1 || listed.Patrols[0].By == "" || listed.Patrols[0].Visited != r.Visited || listed.Patrols[0].Found != 0 {
		t.Errorf("listed: %+v", listed)
	}
	if after := counted(); !maps.Equal(before, after) {
		t.Errorf("counted before %v, and then %v", before, after)
	}
}

// bySocket asks the API of the service whose data directory is data.
func bySocket(t *testing.T, data, path string, into any) {
	t.Helper()
	by := &http.Client{Transport: &http.Transport{DialContext: func(ctx context.Context, _, _ string) (net.Conn, error) {
		return new(net.Dialer).DialContext(ctx, "unix", filepath.Join(data, "ostiarius.sock"))
	}}}
	defer by.CloseIdleConnections()
	resp, err := by.Get("http://ostiarius/api/v1" + path)
	if err != nil {
		t.Fatal(err)
	}
	defer resp.Body.Close()
	if err := json.NewDecoder(resp.Body).Decode(into); err != nil || resp.StatusCode != 200 {
		t.Fatalf("%s: %d %v", path, resp.StatusCode, err)
	}
}

const patrolPolicy = `
roles: { keeper: , trustee: { includes: [keeper] } }
keyrings: { outer: { realm: "Trust office" } }
shared: { press-kit: }
sources: [ { path: /, files: ./www } ]
unlisted: hide
doors:
  - { path: [/, /visit/**], admit: public }
  - { path: /rota/**, admit: signed-in }
  - { path: /log/**, admit: { role: keeper } }
  - { path: /office/**, admit: { keyring: outer, role: trustee } }
  - { path: /press/**, admit: { shared: press-kit } }
`

func patrolSite(t *testing.T, more ...string) (s *Process, dir string) {
	t.Helper()
	dir = shortDir(t)
	write(t, dir, "doors.yaml", patrolPolicy+strings.Join(more, ""))
	for _, name := range []string{"visit", "rota", "log", "office", "press"} {
		write(t, dir, "www/"+name+"/index.html",
			"<!doctype html><title>"+name+"</title><p>All that is to be read about "+name+", for those who may.</p>")
	}
	write(t, dir, "www/log/week.pdf", "%PDF-1.7 the log of the week")
	write(t, dir, "www/index.html", `<!doctype html><title>home</title><a href="/visit/">Visit</a> <a href="/rota/">Rota</a>`)
	return start(t, dir, "--trusted-peer", "127.0.0.1/32", "--decide-from", "x-forwarded-uri"), dir
}

// A cache in front that keeps by address alone gives a stranger what somebody else has got.
func TestPatrolFindsACacheInFront(t *testing.T) {
	t.Parallel()
	s, dir := patrolSite(t)
	if r := patrolled(t, 0, "--data", s.Data); len(r.Findings) > 0 || r.Visited < 10 {
		t.Fatalf("%+v", r)
	}
	address := freePort(t)
	write(t, dir, "nginx.conf", fmt.Sprintf(`daemon off; master_process off; error_log stderr; pid %[1]s/pid;
events {}
http {
  access_log off; client_body_temp_path %[1]s/b; proxy_temp_path %[1]s/p; fastcgi_temp_path %[1]s/f; uwsgi_temp_path %[1]s/u;
    scgi_temp_path %[1]s/s;
  proxy_cache_path %[1]s/cache keys_zone=all:1m;
  server { listen %[2]s; location / { proxy_pass %[3]s; proxy_set_header Host $http_host; proxy_cache all; proxy_cache_key $uri;
    proxy_ignore_headers Cache-Control Set-Cookie Vary Expires; proxy_cache_valid 200 5m; } }
}
`, dir, address, s.URL))
	serverProgram(t, "tcp", address, "/usr/sbin/nginx", "-p", dir, "-c", filepath.Join(dir, "nginx.conf"), "-e", "stderr")
	r := patrolled(t, 1, "http://"+address, "--data", s.Data)
	for _, path := range []string{"/log/", "/rota/", "/office/"} {
		f := findingOf(r, "differs", path)
		if f == nil || f.As != "anonymous" || len(f.Requests) != 2 || f.Requests[0].Status != 200 || f.Door == "" {
			t.Errorf("at %s: %+v", path, f)
		}
	}
	if findingOf(r, "differs", "/visit/") != nil {
		t.Error("a public page may be kept")
	}
}

// A route of the web server that is not guarded is found, with what the policy says there.
func TestPatrolFindsARouteBeside(t *testing.T) {
	s, dir := patrolSite(t)
	_, snippet, errOut := run(t, "", "connect", "caddy", "--policy", filepath.Join(dir, "doors.yaml"), "--to", s.URL)
	if snippet == "" {
		t.Fatal(errOut)
	}
	write(t, dir, "snippet", snippet)
	t.Setenv("XDG_DATA_HOME", t.TempDir())
	t.Setenv("XDG_CONFIG_HOME", t.TempDir())
	serve := func(name, before string) string {
		address := freePort(t)
		_, port, _ := strings.Cut(address, ":")
		write(t, dir, name, fmt.Sprintf("{\n admin off\n auto_https off\n order handle before forward_auth\n}\nhttp://:%s {\n bind "+
			"127.0.0.1\n root * %s/www\n %s\n import %[2]s/snippet\n file_server\n}\n", port, dir, before))
		serverProgram(t, "tcp", address, "/usr/bin/caddy", "run", "--config", filepath.Join(dir, name), "--adapter", "caddyfile")
		return "http://" + address
	}
	if r := patrolled(t, 0, serve("right", ""), "--data", s.Data); r.Visited < 10 {
		t.Fatalf("%+v", r)
	}
	r := patrolled(t, 1, serve("wrong", "@documents path *.pdf\n handle @documents {\n file_server\n }"), "--data", s.Data)
	f := findingOf(r, "differs", "/log/week.pdf")
	if f == nil || !strings.Contains(f.Door, "keeper") || !strings.Contains(f.Message, "challenge") {
		t.Errorf("%+v", r.Findings)
	}
}

// What the service gives out for a walk is good for reading the site, as whom it was asked for, until it ends; and for nothing else.
func TestWalksAreBounded(t *testing.T) {
	t.Parallel()
	s, _ := patrolSite(t)
	api := client.New(s.Data)
	begun, err := client.BeginPatrol.Ask(t.Context(), api,
		client.NewPatrol{Visitors: []string{"role:keeper", "role:trustee,keyring:outer", "anonymous,shared:press-kit"}})
	if err != nil {
		t.Fatal(err)
	}
	as := func(token, method, path string) int {
		p := newPerson(t, s.URL)
		return p.do(method, path, "", "Cookie", begun.Cookie+"="+token, "Content-Type", "application/x-www-form-urlencoded").status
	}
	for _, c := range []struct {
		token        string
		method, path string
		want         int
	}{
		{begun.Tokens[0], "GET", "/log/", 200}, {begun.Tokens[0], "HEAD", "/log/", 200}, {begun.Tokens[0], "GET", "/office/", 403},
		{begun.Tokens[0], "GET", "/press/", 303},
		{begun.Tokens[1], "GET", "/office/", 200}, {begun.Tokens[2], "GET", "/press/", 200}, {begun.Tokens[2], "GET", "/rota/", 303},
		{begun.Tokens[0], "POST", "/log/", 403}, {begun.Tokens[0], "DELETE", "/log/", 403},
		{begun.Tokens[0], "GET", "/door/account", 303}, {begun.Tokens[0], "GET", "/door/api/v1/people", 303},
		{begun.Tokens[0], "GET", "/door/console/", 303},
		{strings.Repeat("A", 43), "GET", "/log/", 303}, {"", "GET", "/log/", 303},
		{begun.Tokens[0] + "; " + begun.Cookie + "=" + begun.Tokens[1], "GET", "/log/", 303},
	} {
		if got := as(c.token, c.method, c.path); got != c.want {
			t.Errorf("%s %s: %d, want %d", c.method, c.path, got, c.want)
		}
	}
	// Somebody's own session counts for nothing meanwhile, and again once the cookie is gone.
	if _, err := client.AddPerson.Ask(t.Context(), api,
		client.NewPerson{Name: "agnes", Password: "amber-lantern-shelf", Roles: []string{"steward", "trustee"}}); err != nil {
		t.Fatal(err)
	}
	p := newPerson(t, s.URL)
	p.signIn("agnes", "amber-lantern-shelf", "")
	p.is("/log/", 200, "")
	answer := p.do("POST", "/door/api/v1/walks", `{"visitors":["role:trustee"]}`, "Content-Type", "application/json",
		"X-Requested-With", "test")
	if answer.status != 403 {
		t.Errorf("a steward gets what a patrol has: %d %s", answer.status, answer.body)
	}
	if err := client.EndWalk.Do(t.Context(), api, client.ByID{ID: begun.ID}); err != nil {
		t.Fatal(err)
	}
	if got := as(begun.Tokens[0], "GET", "/log/"); got != 303 {
		t.Errorf("after its end: %d", got)
	}
	if err := client.EndWalk.Do(t.Context(), api, client.ByID{ID: begun.ID}); err == nil {
		t.Error("a walk ends twice")
	}
}

// A site that is none of ours is walked with credentials from a file; what another patrol has told is left out.
func TestPatrolWithCredentials(t *testing.T) {
	t.Parallel()
	site := http.NewServeMux()
	site.HandleFunc("/{$}", func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Content-Type", "text/html")
		fmt.Fprint(w, `<a href="/list">List</a> <a href="/old">Old</a>`)
	})
	site.HandleFunc("/list", func(w http.ResponseWriter, r *http.Request) {
		if user, password, _ := r.BasicAuth(); user != "ines" || password != "seven-brass-prisms" {
			w.Header().Set("WWW-Authenticate", `Basic realm="List"`)
			w.WriteHeader(http.StatusUnauthorized)
			return
		}
		w.Header().Set("Cache-Control", "public, max-age=60")
		fmt.Fprint(w, "the list")
	})
	server := httptest.NewServer(site)
	defer server.Close()
	base := server.URL
	dir := t.TempDir()
	write(t, dir, "visitors.yaml", "visitors:\n  - { as: ines, basic: { user: ines, password: seven-brass-prisms } }\n")
	_, out, _ := run(t, "", "patrol", base, "--visitors", filepath.Join(dir, "visitors.yaml"), "-o", "json")
	write(t, dir, "before.json", out)
	if strings.Contains(out, "seven-brass-prisms") || strings.Contains(out, "aW5lczpz") {
		t.Error("a password is told")
	}
	var r patrol.Result
	if err := json.Unmarshal([]byte(out), &r); err != nil || findingOf(r, "kept", "/list") == nil ||
		findingOf(r, "broken-link", "/") == nil || len(r.Findings) != 2 {
		t.Fatalf("%v %s", err, out)
	}
	if r := patrolled(t, 0, base, "--visitors", filepath.Join(dir, "visitors.yaml"), "--since",
		filepath.Join(dir, "before.json")); len(r.Findings) != 0 {
		t.Errorf("%+v", r.Findings)
	}
	code, sarif, _ := run(t, "", "patrol", base, "-o", "sarif")
	if code != 1 || !strings.Contains(sarif, `"ruleId": "broken-link"`) || !strings.Contains(sarif, `"version": "2.1.0"`) {
		t.Errorf("exit %d: %s", code, sarif)
	}
	for _, bad := range [][]string{{"not-a-url"}, {"http://127.0.0.1:1/"}, {base, "--visitors", filepath.Join(dir, "before.json")},
		{base, "--since", filepath.Join(dir, "visitors.yaml")}, {base, "--as", "role:keeper"}, {base, "--max", "0"}} {
		if code, _, errOut := run(t, "", append([]string{"patrol"}, bad...)...); code == 0 || errOut == "" ||
			strings.Contains(errOut, "seven-brass") {
			t.Errorf("%v: exit %d %s", bad, code, errOut)
		}
	}
}

// Pages that are drawn by script are drawn, by a browser that can leave and change nothing.
func TestPatrolDraws(t *testing.T) {
	t.Parallel()
	outside := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter,
		r *http.Request) {
		t.Errorf("a script has left for %s", r.URL)
	}))
	defer outside.Close()
	site := http.NewServeMux()
	site.HandleFunc("/{$}", func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Content-Type", "text/html")
		fmt.Fprintf(w, `<div id=all></div><script>const a = document.createElement("a"); a.href = "/dr" + "awn"; a.textContent = "x"; `+
			`all.append(a); fetch("/send", { method: "POST" }).catch(() => 0); new Image().src = %q</script>`, outside.URL+"/x.png")
	})
	site.HandleFunc("/drawn", func(w http.ResponseWriter, r *http.Request) { w.WriteHeader(http.StatusForbidden) })
	site.HandleFunc("POST /send", func(w http.ResponseWriter, r *http.Request) { t.Error("a script has sent something") })
	server := httptest.NewServer(site)
	defer server.Close()
	base := server.URL
	if r := patrolled(t, 0, base); r.Visited > 8 {
		t.Errorf("%+v", r)
	}
	if r := patrolled(t, 1, base, "--browser"); findingOf(r, "broken-link", "/") == nil {
		t.Errorf("%+v", r)
	}
}
