package e2e

import (
	"net/http"
	"path/filepath"
	"reflect"
	"strings"
	"testing"
)

// Files of a public directory, about which nothing is asked at all: nginx gives them out as the content says. Everything else is asked
// about, and what is public of it goes on without Ostiarius too.
func TestPublicContentOfNginx(t *testing.T) {
	t.Parallel()
	dir := besideFiles(t, besidePolicy)
	content := filepath.Join(dir, "public.conf")
	write(t, dir, "public.conf", "root "+filepath.Join(dir, "www")+"; index index.html;")
	s := start(t, dir, "--trusted-peer", "127.0.0.1/32", "--decide-from", "x-original-uri")
	policy := filepath.Join(dir, "doors.yaml")
	if code, _, errOut := run(t, "", "connect", "nginx", "--policy", policy, "--content", content); code != 2 ||
		!strings.Contains(errOut, "--skip-public") {
		t.Errorf("without --skip-public: %d %s", code, errOut)
	}
	write(t, dir, "app.conf", "proxy_pass http://127.0.0.1:1;")
	for file, want := range map[string]string{
		filepath.Join(dir, "none.conf"): "no such file", filepath.Join(dir, "app.conf"): `"proxy_pass" is none of the directives`,
	} {
		if code, out, errOut := run(t, "", "connect", "nginx", "--policy", policy, "--skip-public", "--content", file); code != 1 ||
			out != "" || !strings.Contains(errOut, want) {
			t.Errorf("%s: %d %s %s", file, code, out, errOut)
		}
	}
	code, out, errOut := run(t, "", "connect", "nginx", "--policy", policy, "--to", s.URL, "--skip-public", "--content", content)
	if code != 0 {
		t.Fatal(errOut)
	}
	if !strings.Contains(out, "location /leaflets/ {") || strings.Contains(out, "location /visit/") {
		t.Errorf("directories with a closed one inside are asked about, and no others:\n%s", out)
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
	is("a stranger", "/leaflets/", 200, "content of leaflets")
	is("a stranger", "/leaflets/index.html", 200, "content of leaflets")
	is("a stranger", "/leaflets/nothing", 404, "")
	is("a stranger", "/visit/private/", 403, "")
	is("a stranger", "/rota/", 303, "")
	is("a stranger", "/visit/../rota/week.txt", 303, "")
	is("a stranger", "/visit/..%2frota/week.txt", 400, "")
	for _, out := range []string{"/leaflets/..%2frota/week.txt", "/leaflets/.%2e/rota/week.txt", "/leaflets%2f../rota/week.txt",
		"/leaflets//../rota/week.txt", "/leaflets/./../rota/week.txt", "/leaflets../rota/week.txt"} {
		if a := p.get(out, html...); a.status == 200 || strings.Contains(a.body, "0123456789") {
			t.Errorf("%s: %d %.80q", out, a.status, a.body)
		}
	}
	hidden, missing := is("a stranger", "/secret/", 404, ""), is("a stranger", "/leaflets/nothing", 404, "")
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
	if code, out, errOut := run(t, "", "connect", "--check", "http://"+address, "--policy", policy); code != 0 ||
		!strings.Contains(out, "The doors work") {
		t.Errorf("%d %s %s", code, out, errOut)
	}
	s.Kill()
	for path, content := range map[string]string{"/": "home", "/visit/": "visit", "/leaflets/": "leaflets"} {
		is("without Ostiarius", path, 200, "content of "+content)
	}
	is("without Ostiarius", "/rota/", 500, "")
}
