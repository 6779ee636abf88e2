package e2e

import (
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
)

// The commands of the pages about Basic and proxying run as they stand there.
func TestDocumentedCommands(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	write(t, dir, "site/sensors/latest.json", "{}")
	write(t, dir, "doors.yaml", `
roles: { device: , trustee: }
keyrings: { outer: { realm: Trust office } }
sources: [ { path: /, files: ./site }, { path: /log, proxy: "http://127.0.0.1:1" } ]
doors: [ { path: /sensors/**, admit: { role: device }, ask: basic }, { path: /gate/**, admit: { keyring: outer } } ]
`)
	s := start(t, dir)
	commands := 0
	for _, page := range []string{"basic.md", "proxying.md"} {
		text, err := os.ReadFile(filepath.Join(Root(), "docs", page))
		if err != nil {
			t.Fatal(err)
		}
		for _, part := range strings.Split(string(text), "```sh\n")[1:] {
			script, _, _ := strings.Cut(part, "```")
			commands += strings.Count(script, "\n")
			c := exec.Command("bash", "-euc", script)
			c.Dir = dir
			c.Env = append(os.Environ(), "PATH="+filepath.Dir(Binary())+":"+os.Getenv("PATH"), "DATA="+s.Data, "URL="+s.URL)
			if out, err := c.CombinedOutput(); err != nil {
				t.Errorf("%s: %v\n%s\n%s", page, err, script, out)
			}
		}
	}
	if commands < 10 {
		t.Errorf("only %d commands", commands)
	}
	// Those of the page about HTTPS listen, so they are started with other addresses.
	text, err := os.ReadFile(filepath.Join(Root(), "docs", "https.md"))
	if err != nil {
		t.Fatal(err)
	}
	certificate(t, dir)
	started := 0
	for _, part := range strings.Split(string(text), "```sh\n")[1:] {
		script, _, _ := strings.Cut(part, "```")
		script = strings.NewReplacer("\\\n", " ", ":8443", ":0", ":8080", ":0", ":8460", ":0", "doors.yaml",
			filepath.Join(dir, "doors.yaml"), "cert.pem", filepath.Join(dir, "cert.pem"), "key.pem", filepath.Join(dir, "key.pem"),
			`"$DATA"`, shortDir(t)).Replace(script)
		p, err := Start(strings.Fields(script)[1:]...)
		if err != nil {
			t.Errorf("%s: %v", script, err)
			continue
		}
		started++
		if err := p.Stop(); err != nil {
			t.Error(err)
		}
	}
	if started != 2 {
		t.Errorf("%d services were started", started)
	}
}

// shortDir makes a directory whose path is short enough for a socket in it.
func shortDir(t *testing.T) string {
	t.Helper()
	dir, err := os.MkdirTemp("", "data")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { os.RemoveAll(dir) })
	return dir
}
