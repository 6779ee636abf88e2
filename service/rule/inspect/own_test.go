package inspect

import (
	"net"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"ostiarius/core/policy/read"
)

// No source gives away what is the service's own, whatever the path to it is called.
func TestNoSourceGivesTheServiceAway(t *testing.T) {
	dir := t.TempDir()
	for _, name := range []string{"data/ostiarius.db", "data/ostiarius.db-wal", "data/inner/x", "key/key.pem", "site/index.html",
		"doors/doors.yaml", "hard/index.html", "soft/index.html", "data-but-not-it/index.html"} {
		if err := os.MkdirAll(filepath.Dir(filepath.Join(dir, name)), 0o755); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(filepath.Join(dir, name), []byte(name), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	for to, from := range map[string]string{"linked": "data", "site-link": "site"} {
		if err := os.Symlink(filepath.Join(dir, from), filepath.Join(dir, to)); err != nil {
			t.Fatal(err)
		}
	}
	if err := os.Link(filepath.Join(dir, "data/ostiarius.db"), filepath.Join(dir, "hard/picture.png")); err != nil {
		t.Fatal(err)
	}
	listener, err := net.Listen("unix", filepath.Join(dir, "data/s.sock"))
	if err != nil {
		t.Fatal(err)
	}
	defer listener.Close()
	if err := os.Symlink(filepath.Join(dir, "data/s.sock"), filepath.Join(dir, "other.sock")); err != nil {
		t.Fatal(err)
	}
	web, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer web.Close()
	_, port, _ := net.SplitHostPort(web.Addr().String())
	own := Own{
		Paths: []string{filepath.Join(dir, "data"), filepath.Join(dir, "key/key.pem")}, Socket: filepath.Join(dir, "data/s.sock"),
		Listens: func() []net.Addr { return []net.Addr{web.Addr()} },
	}
	for source, rule := range map[string]string{
		"files: ../site": "", "files: ../site-link": "", "files: ../data-but-not-it": "", "files: ../soft": "",
		"files: ../data": "gives-itself-away", "files: ../data/inner": "gives-itself-away", "files: ..": "gives-itself-away",
		"files: ../linked": "gives-itself-away", "files: ../linked/inner": "gives-itself-away",
		"files: ../key": "gives-itself-away", "files: .": "gives-itself-away", "files: ../doors": "gives-itself-away",
		"files: ../site/../data": "gives-itself-away", "files: /": "gives-itself-away", "files: ../hard": "gives-itself-away",
		"proxy: 'unix:../data/s.sock'": "leads-to-itself", "proxy: 'unix:../other.sock'": "leads-to-itself",
		"proxy: 'unix:../linked/s.sock'": "leads-to-itself", "proxy: 'unix:../app.sock'": "",
		"proxy: 'http://127.0.0.1:" + port + "'": "leads-to-itself", "proxy: 'http://localhost:" + port + "'": "leads-to-itself",
		"proxy: 'http://127.0.0.9:" + port + "'": "leads-to-itself", "proxy: 'http://127.0.0.1:1'": "",
	} {
		book, findings := read.Parse("doors.yaml", []byte("sources: [{path: /, "+source+"}]\ndoors: [{path: /**, admit: public}]"))
		if book == nil {
			t.Fatal(source, findings)
		}
		var got []string
		for _, f := range own.check(book, filepath.Join(dir, "doors/doors.yaml")) {
			got = append(got, f.Rule)
		}
		if strings.Join(got, " ") != rule {
			t.Errorf("%s: %q, want %q", source, got, rule)
		}
	}
}

func TestCheckFindsMissingDirectories(t *testing.T) {
	dir := t.TempDir()
	os.WriteFile(filepath.Join(dir, "file"), nil, 0o644)
	os.Mkdir(filepath.Join(dir, "site"), 0o755)
	text := "sources:\n  - { path: /, files: site }\n  - { path: /a, files: nowhere }\n  - { path: /b, files: file }\n  - { path: /c, " +
		"proxy: 'http://127.0.0.1:1' }\ndoors: [{path: /, admit: public}]"
	book, findings := read.Parse("doors.yaml", []byte(text))
	if book == nil {
		t.Fatal(findings)
	}
	found := checkSources(book, filepath.Join(dir, "doors.yaml"), Own{ConsoleApart: true})
	if len(found) != 2 || found[0].Line != 3 || !strings.Contains(found[0].Message, "no directory") || found[1].Line != 4 ||
		!strings.Contains(found[1].Message, "is a file") {
		t.Errorf("%+v", found)
	}
}
