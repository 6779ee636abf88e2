package source

import (
	"net"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"ostiarius/core/policy"
)

// No source gives away what is the service's own, whatever the path to it is called.
func TestNoSourceGivesTheServiceAway(t *testing.T) {
	dir := t.TempDir()
	for _, name := range []string{"data/ostiarius.db", "data/ostiarius.db-wal", "data/inner/x", "key/key.pem", "site/index.html", "doors/doors.yaml", "hard/index.html", "soft/index.html", "data-but-not-it/index.html"} {
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
	own := Own{Paths: []string{filepath.Join(dir, "data"), filepath.Join(dir, "key/key.pem")}, Socket: filepath.Join(dir, "data/s.sock"), Listens: func() []net.Addr { return []net.Addr{web.Addr()} }}
	for source, rule := range map[string]string{
		"files: ../site": "", "files: ../site-link": "", "files: ../data-but-not-it": "", "files: ../soft": "",
		"files: ../data": "gives-itself-away", "files: ../data/inner": "gives-itself-away", "files: ..": "gives-itself-away", "files: ../linked": "gives-itself-away", "files: ../linked/inner": "gives-itself-away",
		"files: ../key": "gives-itself-away", "files: .": "gives-itself-away", "files: ../doors": "gives-itself-away", "files: ../site/../data": "gives-itself-away", "files: /": "gives-itself-away", "files: ../hard": "gives-itself-away",
		"proxy: 'unix:../data/s.sock'": "leads-to-itself", "proxy: 'unix:../other.sock'": "leads-to-itself", "proxy: 'unix:../linked/s.sock'": "leads-to-itself", "proxy: 'unix:../app.sock'": "",
		"proxy: 'http://127.0.0.1:" + port + "'": "leads-to-itself", "proxy: 'http://localhost:" + port + "'": "leads-to-itself", "proxy: 'http://127.0.0.9:" + port + "'": "leads-to-itself", "proxy: 'http://127.0.0.1:1'": "",
	} {
		book, findings := policy.Parse("doors.yaml", []byte("sources: [{path: /, "+source+"}]\ndoors: [{path: /**, admit: public}]"))
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
	// A name that turns out to be this service is refused when it is called.
	conn, err := net.Dial("tcp", web.Addr().String())
	if refused, err := own.refuse(conn, err); err != errLoop || refused != nil {
		t.Errorf("a connection to itself: %v", err)
	}
	// What this service has handed on itself does not go round.
	r := httptest.NewRequest("GET", "/", nil)
	r.Header.Set("Via", "1.1 elsewhere, 1.1 "+pseudonym)
	if w := proxied(t, "http://127.0.0.1:1", "sources: [{path: /, proxy: 'http://x'}]\ndoors: [{path: /**, admit: public}]", policy.Visitor{}, r); w.Code != 508 {
		t.Errorf("a loop: %d", w.Code)
	}
}
