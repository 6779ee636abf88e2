package e2e

import (
	"encoding/json"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"ostiarius/client"
)

// A program comes with an access key: to the site, to what is behind, which does not see the key, and to the commands over --server.
func TestAccessKeysAtTheService(t *testing.T) {
	t.Parallel()
	behind := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		json.NewEncoder(w).Encode(map[string]string{
			"authorization": r.Header.Get("Authorization"), "user": r.Header.Get("Ostiarius-User"), "roles": r.Header.Get("Ostiarius-Roles"),
		})
	}))
	defer behind.Close()
	dir := t.TempDir()
	policy := "roles: { keeper: , trustee: { includes: [keeper] } }\nsources: [ { path: /, proxy: \"" + behind.URL + "\" } ]\nunlisted: " +
		"public\ndoors:\n  - { path: /log/**, admit: { role: keeper } }\n  - { path: /office/**, admit: { role: trustee } }\n  - { path: " +
		"/fresh/**, admit: { role: keeper, proof-within: 10m } }\n  - { path: /feed/**, admit: { role: keeper }, ask: basic }\n"
	if err := os.WriteFile(filepath.Join(dir, "doors.yaml"), []byte(policy), 0o644); err != nil {
		t.Fatal(err)
	}
	s := start(t, dir)
	for name, role := range map[string]string{"tobias": "trustee", "agnes": "steward"} {
		if code, _, wrong := run(t, ines, "people", "add", name, "--role", role, "--password-stdin", "--data", s.Data); code != 0 {
			t.Fatal(wrong)
		}
	}
	key := func(args ...string) string {
		t.Helper()
		code, out, wrong := run(t, "", append([]string{"access-keys", "add", "--data", s.Data}, args...)...)
		if code != 0 {
			t.Fatal(wrong)
		}
		return strings.TrimSpace(out)
	}
	token := key("tobias", "--name", "report", "--role", "keeper", "--until", "3d")
	p := newPerson(t, s.URL)
	bearer := []string{"Authorization", "Bearer " + token, "Accept", "*/*"}
	if a := p.get("/log/today", bearer...); a.status != 200 || !strings.Contains(a.body, `"user":"tobias"`) ||
		!strings.Contains(a.body, `"roles":"keeper"`) || strings.Contains(a.body, token) || a.header.Get("Cache-Control") != "private, no-store" {
		t.Errorf("with a key: %d %s %v", a.status, a.body, a.header)
	}
	if a := p.get("/feed/x", bearer...); a.status != 200 || strings.Contains(a.body, token) {
		t.Errorf("where HTTP Basic is asked for: %d %s", a.status, a.body)
	}
	if a := p.get("/public", bearer...); a.status != 200 || strings.Contains(a.body, token) {
		t.Errorf("at a public place: %d %s", a.status, a.body)
	}
	if a := p.get("/office/", bearer...); a.status != 403 {
		t.Errorf("a role that the key does not carry: %d", a.status)
	}
	if a := p.get("/fresh/", bearer...); a.status != 401 {
		t.Errorf("a proof that no key is: %d %s", a.status, a.location)
	}
	if a := p.get("/door/account/access-keys", bearer...); a.status != 200 {
		t.Errorf("its account: %d", a.status)
	}
	if a := p.do("POST", "/door/account/access-keys", "name=more&role=keeper", bearer...); a.status == 200 ||
		strings.Contains(a.body, "ostiarius_key_") {
		t.Errorf("a key has made a key: %d", a.status)
	}
	if a := p.get("/log/today", "Authorization", "Bearer "+mistyped(token), "Accept", "text/html"); a.status != 401 ||
		!strings.HasPrefix(a.header.Get("WWW-Authenticate"), "Bearer realm=") ||
		!strings.HasSuffix(a.header.Get("WWW-Authenticate"), `, error="invalid_token"`) {
		t.Errorf("a wrong key: %d %v", a.status, a.header)
	}
	if a := p.get("/public", "Authorization", "Bearer somebody-elses"); !strings.Contains(a.body, "Bearer somebody-elses") {
		t.Errorf("the token of another program: %s", a.body)
	}

	commands := func(token string, args ...string) (int, string, string) {
		cmd := exec.Command(Binary(), append(args, "--server", s.URL)...)
		cmd.Env = append(os.Environ(), "OSTIARIUS_ACCESS_KEY="+token)
		var out, wrong strings.Builder
		cmd.Stdout, cmd.Stderr = &out, &wrong
		cmd.Run()
		return cmd.ProcessState.ExitCode(), out.String(), wrong.String()
	}
	administers := key("agnes", "--name", "commands", "--role", "steward")
	if code, out, wrong := commands(administers, "people", "grant", "tobias", "keeper"); code != 0 {
		t.Errorf("%d %s%s", code, out, wrong)
	}
	if code, out, _ := commands(administers, "people", "show", "tobias"); code != 0 || !strings.Contains(out, "by agnes") {
		t.Errorf("%d %s", code, out)
	}
	if code, out, _ := commands(administers, "access-keys", "list"); code != 0 || strings.Contains(out, administers) ||
		strings.Count(out, "127.0.0.1") != 2 {
		t.Errorf("%d %s", code, out)
	}
	if code, _, wrong := commands(administers, "access-keys", "add", "agnes", "--name", "another"); code != 1 ||
		!strings.Contains(wrong, "makes no access keys") {
		t.Errorf("a key has made a key: %d %s", code, wrong)
	}
	if code, _, wrong := commands(token, "people", "list"); code != 1 || strings.Contains(wrong, token) {
		t.Errorf("with a key of no steward: %d %s", code, wrong)
	}
	for _, test := range []struct{ server, token, want string }{
		{"http://marram.example", administers, "use https"}, {"marram.example", administers, "no address of a site"},
		{s.URL, "", "needs an access key"}, {s.URL, administers[:20], "mistyped"}, {"http://127.0.0.1:1", administers, "did not answer"},
	} {
		cmd := exec.Command(Binary(), "people", "list", "--server", test.server)
		cmd.Env = append(os.Environ(), "OSTIARIUS_ACCESS_KEY="+test.token)
		out, _ := cmd.CombinedOutput()
		if cmd.ProcessState.ExitCode() != 1 || !strings.Contains(string(out), test.want) || test.token != "" &&
			strings.Contains(string(out), test.token) {
			t.Errorf("%s: %s", test.server, out)
		}
	}
	_, out, _ := run(t, "", "access-keys", "list", "--data", s.Data, "-o", "json")
	var all []struct{ Handle, Name string }
	if err := json.Unmarshal([]byte(out), &all); err != nil || len(all) != 2 {
		t.Fatal(out, err)
	}
	for _, k := range all {
		if code, _, wrong := run(t, "", "access-keys", "remove", k.Handle, "--data", s.Data); code != 0 {
			t.Error(wrong)
		}
	}
	if code, _, wrong := commands(administers, "people", "list"); code != 1 || !strings.Contains(wrong, "does not take the access key") {
		t.Errorf("a key that was removed: %d %s", code, wrong)
	}
	if log := s.Log(); strings.Contains(log, "ostiarius_key_") {
		t.Errorf("a key is in the log: %s", log)
	}
}

// mistyped is a token with another last letter than it has.
func mistyped(token string) string {
	last := "a"
	if strings.HasSuffix(token, last) {
		last = "b"
	}
	return token[:len(token)-1] + last
}

// A request with the session of one account and the access key of another is nobody's, and yields no mark of the console.
func TestMixedCredentialsAreNobodys(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	write(t, dir, "site/index.html", "<title>t</title>")
	write(t, dir, "doors.yaml", "sources: [{path: /, files: ./site}]\ndoors: [{path: /, admit: signed-in}]\n")
	s := start(t, dir)
	api := client.New(s.Data)
	keys := map[string]string{}
	for _, name := range []string{"agnes", "ines"} {
		if _, err := client.AddPerson.Ask(t.Context(), api,
			client.NewPerson{Name: name, Password: agnes, Roles: []string{"steward"}}); err != nil {
			t.Fatal(err)
		}
		made, err := client.AddAccessKey.Ask(t.Context(), api, client.NewAccessKey{Account: name, Name: "x"})
		if err != nil {
			t.Fatal(err)
		}
		keys[name] = made.Token
	}
	p := newPerson(t, s.URL)
	p.signIn("ines", agnes, "")
	navigating := []string{"Sec-Fetch-Mode", "navigate", "Sec-Fetch-Dest", "document"}
	for whose, status := range map[string]int{"agnes": 401, "ines": 200} {
		bearer := []string{"Authorization", "Bearer " + keys[whose]}
		if a := p.get("/", bearer...); a.status != status {
			t.Errorf("a key of %s beside the session of ines: %d", whose, a.status)
		}
		if a := p.get("/door/console/", append(bearer, navigating...)...); strings.Contains(a.body, `name="proof"`) {
			t.Errorf("a key of %s beside the session of ines yields a mark", whose)
		}
	}
	if a := newPerson(t, s.URL).get("/door/console/", append([]string{"Authorization", "Bearer " + keys["agnes"]},
		navigating...)...); strings.Contains(a.body, `name="proof"`) {
		t.Error("a key yields a mark")
	}
	if a := p.get("/door/console/", navigating...); !strings.Contains(a.body, `name="proof"`) {
		t.Errorf("the session yields none: %d", a.status)
	}
}
