package e2e

import (
	"net/http"
	"path/filepath"
	"reflect"
	"strings"
	"testing"
)

// Public pages of nginx about which nothing is asked at all, as the file says that answers for them; everything else is asked about.
func TestPublicContentOfNginx(t *testing.T) {
	t.Parallel()
	dir := besideFiles(t)
	content := filepath.Join(dir, "public.conf")
	write(t, dir, "public.conf", "root "+filepath.Join(dir, "www")+"; index index.html;")
	s := start(t, dir, "--trusted-peer", "127.0.0.1/32", "--decide-from", "x-original-uri")
	policy := filepath.Join(dir, "doors.yaml")
	if code, _, errOut := run(t, "", "connect", "nginx", "--policy", policy, "--content", content); code != 2 || !strings.Contains(errOut, "--skip-public") {
		t.Errorf("without --skip-public: %d %s", code, errOut)
	}
	if code, _, errOut := run(t, "", "connect", "nginx", "--policy", policy, "--skip-public", "--content", "/etc/x; root /"); code != 2 || !strings.Contains(errOut, "no path") {
		t.Errorf("a path that is none: %d %s", code, errOut)
	}
	code, out, errOut := run(t, "", "connect", "nginx", "--policy", policy, "--to", s.URL, "--skip-public", "--content", content)
	if code != 0 {
		t.Fatal(errOut)
	}
	write(t, dir, "snippet", out)
	address := freePort(t)
	nginx(t, "tcp", address, "root "+filepath.Join(dir, "www")+"; include "+filepath.Join(dir, "snippet")+"; location / { }")
	p := newPerson(t, "http://"+address)
	html := []string{"Accept", "text/html"}
	is := func(when, path string, status int, text string) answer {
		t.Helper()
		a := p.get(path, html...)
		if a.status != status || !strings.Contains(a.body, text) || status != 200 && strings.Contains(a.body, "content ") {
			t.Errorf("%s, %s: %d %.100q, want %d", when, path, a.status, a.body, status)
		}
		return a
	}
	is("a stranger", "/", 200, "content of home")
	is("a stranger", "/visit/", 200, "content of visit")
	is("a stranger", "/visit/private/", 403, "")
	is("a stranger", "/rota/", 303, "")
	is("a stranger", "/visit/../rota/week.txt", 303, "")
	is("a stranger", "/visit/..%2frota/week.txt", 400, "")
	hidden, missing := is("a stranger", "/secret/", 404, ""), is("a stranger", "/visit/nothing", 404, "")
	for _, h := range []http.Header{hidden.header, missing.header} {
		h.Del("Date")
	}
	if hidden.body != missing.body || !reflect.DeepEqual(hidden.header, missing.header) {
		t.Errorf("hidden  %v\nmissing %v", hidden.header, missing.header)
	}
	for _, value := range []string{"steward", "0"} { // which nginx takes for nothing where it is asked carelessly
		if a := p.get("/visit/", "Ostiarius-User", value); a.status != 400 {
			t.Errorf("a forged field, %s: %d", value, a.status)
		}
	}
	if code, out, errOut := run(t, "", "connect", "--check", "http://"+address, "--policy", policy); code != 0 || !strings.Contains(out, "The doors hold") {
		t.Errorf("%d %s %s", code, out, errOut)
	}
	s.Kill()
	is("without Ostiarius", "/visit/", 200, "content of visit")
	is("without Ostiarius", "/rota/", 500, "")
}
