package e2e

import (
	"fmt"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"ostiarius/client"
)

// The examples of the documentation check who is calling, and refuse whatever was not signed for that request.
func TestIdentityIsChecked(t *testing.T) {
	t.Parallel()
	text, err := os.ReadFile(filepath.Join(Root(), "docs", "identity.md"))
	if err != nil {
		t.Fatal(err)
	}
	for language, file := range map[string]string{"go": "main.go", "js": "main.mjs", "python": "main.py"} {
		t.Run(language, func(t *testing.T) {
			t.Parallel()
			example := regexp.MustCompile("(?s)```" + language + "\n(.*?)```").FindSubmatch(text)
			if example == nil {
				t.Fatal("there is no example")
			}
			dir := t.TempDir()
			write(t, dir, file, string(example[1]))
			address := freePort(t)
			write(t, dir, "doors.yaml", fmt.Sprintf("roles: { keeper: }\nsources: [ { path: /, proxy: \"http://%s\", identity: stock }, { "+
				"path: /other, proxy: \"http://%[1]s\", identity: another, strip-prefix: true }, { path: /none, proxy: \"http://%[1]s\" }, { "+
				"path: /short, proxy: \"http://%[1]s\", identity: stock, strip-prefix: true } ]\ndoors:\n  - { path: /**, admit: public }\n  - { "+
				"path: /log/**, admit: signed-in }\n", address))
			s := start(t, dir)
			command, args := map[string]string{"js": "node", "python": "/usr/bin/python3"}[language], []string{filepath.Join(dir, file)}
			if language == "go" {
				command, args = filepath.Join(dir, "server"), nil
				build := exec.Command("go", "build", "-o", command, filepath.Join(dir, file))
				build.Dir = Root()
				if out, err := build.CombinedOutput(); err != nil {
					t.Fatalf("%v: %s", err, out)
				}
			}
			serverProgram(t, "tcp", address, command, append(args, s.URL+"/door/keys", address)...)
			if _, err := client.AddPerson.Ask(t.Context(), client.New(s.Data),
				client.NewPerson{Name: "käthe", Password: "seven-brass-prisms", Roles: []string{"keeper"}}); err != nil {
				t.Fatal(err)
			}
			p, stranger := newPerson(t, s.URL), newPerson(t, s.URL)
			p.signIn("käthe", "seven-brass-prisms", "")
			for _, test := range []struct {
				who    *person
				path   string
				status int
				body   string
			}{
				{p, "/log/today?x=1&y=%2f", 200, `hello "käthe"`},
				{p, "/short/today?x=1", 200, `hello "käthe"`},
				{stranger, "/open", 200, `hello ""`},
				{p, "/other/x", 403, "nobody"}, // signed for another server
				{p, "/none/x", 403, "nobody"},  // not signed
			} {
				if a := test.who.get(test.path); a.status != test.status || a.body != test.body {
					t.Errorf("%s: %d %s, want %d %s", test.path, a.status, a.body, test.status, test.body)
				}
			}
			// Around Ostiarius, with nothing, or with a token that somebody has made up.
			for _, token := range []string{"", "a.b.c", "eyJhbGciOiJub25lIn0.eyJzdWIiOiJpbmVzIn0."} {
				req, _ := http.NewRequest("GET", "http://"+address+"/log/today", nil)
				req.Header.Set("Ostiarius-Identity", token)
				answer, err := http.DefaultClient.Do(req)
				if err != nil {
					t.Fatal(err)
				}
				answer.Body.Close()
				if answer.StatusCode != 403 {
					t.Errorf("%q: %d", token, answer.StatusCode)
				}
			}
			if a := p.get("/door/keys"); a.status != 200 || strings.Contains(a.body, `"d":`) || !strings.Contains(a.body, `"crv":"Ed25519"`) {
				t.Errorf("keys: %d %s", a.status, a.body)
			}
		})
	}
}
