package e2e

import (
	"encoding/base64"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"net/url"
	"os"
	"path/filepath"
	"reflect"
	"regexp"
	"strings"
	"testing"

	"github.com/gorilla/websocket"

	"ostiarius/client"
)

const besidePolicy = `
site: Marram Point
roles: { keeper: , trustee: { includes: [keeper] } }
keyrings: { outer: { realm: "Trust office" } }
shared: { press-kit: }
passes: { recordings: { downloads: 1 } }
unlisted: hide
doors:
  - { path: [/, /visit/**, /leaflets/**, "/app/open/**"], admit: public }
  - { path: [/rota/**, /app/**], admit: signed-in }
  - { path: /visit/private/**, admit: nobody }
  - { path: /log/**, admit: { role: keeper }, otherwise: { refused: { go: /visit/ } } }
  - { path: /office/**, admit: { keyring: outer, role: trustee } }
  - { path: /press/**, admit: { shared: press-kit } }
  - { path: /secret/**, admit: { role: trustee }, otherwise: hide }
  - { path: /recordings/**, admit: { pass: recordings } }
  - { path: /vault/**, admit: { role: keeper, proof-within: 1h } }
  - { path: /lan/**, admit: { network: 192.0.2.0/24 } }
  - { path: /app/open/hidden, admit: { role: trustee }, otherwise: hide }
`

// besideFiles is what a web server serves that guards it by asking.
func besideFiles(t *testing.T, policy string) (dir string) {
	t.Helper()
	dir = shortDir(t)
	write(t, dir, "doors.yaml", policy)
	for _, name := range []string{"visit", "visit/private", "leaflets", "rota", "log", "office", "press", "secret", "vault", "lan"} {
		write(t, dir, "www/"+name+"/index.html", "content of "+name)
	}
	write(t, dir, "www/index.html", "content of home")
	write(t, dir, "www/rota/week.txt", "0123456789")
	write(t, dir, "www/recordings/bell.mp3", "a bell")
	write(t, dir, "www/recordings/horn.mp3", "a horn")
	if err := os.Chmod(dir, 0o755); err != nil {
		t.Fatal(err)
	}
	return dir
}

// applicationBeside is an application behind the web server: it says what it is told, counts what is sent, and speaks over WebSocket.
func applicationBeside(t *testing.T) string {
	t.Helper()
	upgrader := websocket.Upgrader{}
	s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		switch {
		case websocket.IsWebSocketUpgrade(r):
			conn, err := upgrader.Upgrade(w, r, nil)
			if err != nil {
				return
			}
			defer conn.Close()
			for {
				kind, text, err := conn.ReadMessage()
				if err != nil || conn.WriteMessage(kind, text) != nil {
					return
				}
			}
		case strings.HasSuffix(r.URL.Path, "/hidden"), strings.HasSuffix(r.URL.Path, "/gone"):
			http.Error(w, "nothing at "+r.URL.Path, http.StatusNotFound)
		case r.Method == http.MethodPost:
			n, err := io.Copy(io.Discard, r.Body)
			fmt.Fprintf(w, "content: %d bytes from %s, %v", n, r.Header.Get("Ostiarius-User"), err)
		default:
			w.Header().Set("Cache-Control", "public, max-age=600")
			var odd []string
			for name, values := range r.Header {
				if strings.HasPrefix(strings.ToLower(name), "ostiarius") && name != "Ostiarius-Door" && name != "Ostiarius-Identity" &&
					strings.Join(values, "") != "" {
					odd = append(odd, name+"="+strings.Join(values, "|"))
				}
			}
			fmt.Fprintf(w, "content for %q, roles %q, signed %t; %d", r.Header.Get("Ostiarius-User"), r.Header.Get("Ostiarius-Roles"),
				strings.Count(r.Header.Get("Ostiarius-Identity"), ".") == 2, len(odd))
		}
	}))
	t.Cleanup(s.Close)
	return strings.TrimPrefix(s.URL, "http://")
}

// besides are the web servers, each with what its configuration needs: it runs one for the files of dir, with what connect has written to
// the file, and returns its address.
var besides = map[string]struct {
	from string
	run  func(t *testing.T, dir, snippet, application string) (base string)
}{
	"nginx": {"x-original-uri", func(t *testing.T, dir, snippet, application string) string {
		address := freePort(t)
		nginx(t, "tcp", address, fmt.Sprintf(`root %s/www; include %s; client_max_body_size 0;
			location / { }
			location /app/ {
				proxy_pass http://%s; proxy_http_version 1.1; proxy_request_buffering off; proxy_intercept_errors on;
				proxy_set_header Upgrade $http_upgrade; proxy_set_header Connection $http_connection;
				proxy_set_header Ostiarius-User $ostiarius_user; proxy_set_header Ostiarius-Roles $ostiarius_roles; proxy_set_header
				  Ostiarius-Door $ostiarius_door; proxy_set_header Ostiarius-Identity $ostiarius_identity;
			}`, dir, snippet, application))
		return "http://" + address
	}},
	"caddy": {"x-forwarded-uri", func(t *testing.T, dir, snippet, application string) string {
		address := freePort(t)
		_, port, _ := strings.Cut(address, ":")
		write(t, dir, "Caddyfile", fmt.Sprintf("{\n admin off\n auto_https off\n}\nhttp://:%s {\n bind 127.0.0.1\n import %s\n handle "+
			"/app/* {\n  reverse_proxy %s {\n   @missing status 404\n   handle_response @missing {\n    error 404\n   }\n  }\n }\n root * "+
			"%s/www\n file_server\n}\n", port, snippet, application, dir))
		serverProgram(t, "tcp", address, "/usr/bin/env", "XDG_DATA_HOME="+dir, "XDG_CONFIG_HOME="+dir, "/usr/bin/caddy", "run",
			"--config", filepath.Join(dir, "Caddyfile"), "--adapter", "caddyfile")
		return "http://" + address
	}},
	"haproxy": {"x-forwarded-uri", func(t *testing.T, dir, snippet, application string) string {
		address, files := freePort(t), freePort(t)
		nginx(t, "tcp", files, "root "+dir+"/www;") // it serves no files itself
		text, err := os.ReadFile(snippet)
		if err != nil {
			t.Fatal(err)
		}
		front, back, _ := strings.Cut(string(text), "\nbackend ")
		to := regexp.MustCompile(`server ostiarius (\S+)`).FindStringSubmatch(back)[1]
		_, lua, errOut := run(t, "", "connect", "haproxy", "--script", "--identity", "stock", "--policy",
			filepath.Join(dir, "doors.yaml"), "--to", "http://"+to)
		if lua == "" {
			t.Fatal(errOut)
		}
		write(t, dir, "ostiarius.lua", lua)
		write(t, dir, "haproxy.cfg", fmt.Sprintf("global\n lua-load %s/ostiarius.lua\ndefaults\n mode http\n option abortonclose\n timeout "+
			"connect 5s\n timeout client 60s\n timeout server 60s\n timeout tunnel 60s\nfrontend site\n bind %s\n%s\n use_backend application "+
			"if { path_beg /app/ }\n default_backend files\nbackend %s\nbackend application\n server one %s\nbackend files\n server one %s\n",
			dir, address, front, back, application, files))
		serverProgram(t, "tcp", address, "/usr/sbin/haproxy", "-f", filepath.Join(dir, "haproxy.cfg"))
		return "http://" + address
	}},
	"apache": {"x-original-uri", apache},
}

// apache runs Apache for a site, with what is included in its virtual host.
func apache(t *testing.T, dir, snippet, application string) string {
	t.Helper()
	address := freePort(t)
	text, err := os.ReadFile(snippet)
	if err != nil {
		t.Fatal(err)
	}
	provider := regexp.MustCompile(`AuthnzFcgiDefineProvider .*`).Find(text) // as its first lines say
	conf := "ServerRoot " + dir + "\nPidFile " + dir + "/pid\nErrorLog " + dir + "/error\nMutex file:" + dir + "\nListen " + address +
		"\nServerName localhost\nUser www-data\nGroup www-data\n"
	for _, module := range []string{"mpm_event", "authn_core", "authz_core", "authz_user", "authnz_fcgi", "headers", "setenvif", "dir",
		"mime", "proxy", "proxy_http", "proxy_wstunnel", "alias"} {
		conf += "LoadModule " + module + "_module /usr/lib/apache2/modules/mod_" + module + ".so\n"
	}
	conf += fmt.Sprintf("TypesConfig /etc/mime.types\n%s\n<VirtualHost %s>\nDocumentRoot %s/www\n<Directory %[3]s/www>\nRequire all "+
		"granted\n</Directory>\n<Location /app/>\nProxyErrorOverride On 404\n</Location>\nProxyPass /app/live ws://%s/app/live "+
		"upgrade=websocket\nProxyPass /app/ http://%[4]s/app/ nocanon\nInclude %s\n</VirtualHost>\n",
		provider, address, dir, application, snippet)
	write(t, dir, "apache.conf", conf)
	serverProgram(t, "tcp", address, "/usr/sbin/apache2", "-f", filepath.Join(dir, "apache.conf"), "-DFOREGROUND")
	return "http://" + address
}

// connected runs Ostiarius beside a web server.
func connected(t *testing.T, name string, flags ...string) (s *Process, base, dir string) {
	t.Helper()
	return connectedBy(t, besidePolicy, name, flags...)
}

func connectedBy(t *testing.T, policy, name string, flags ...string) (s *Process, base, dir string) {
	t.Helper()
	server := besides[name]
	dir = besideFiles(t, policy)
	authorizer := freePort(t)
	s = start(t, dir, "--trusted-peer", "127.0.0.1/32", "--decide-from", server.from, "--authorizer", authorizer)
	code, out, errOut := run(t, "",
		append([]string{"connect", name, "--policy", filepath.Join(dir, "doors.yaml"), "--to", s.URL, "--authorizer", authorizer}, flags...)...)
	if code != 0 {
		t.Fatal(errOut)
	}
	write(t, dir, "snippet", out)
	base = server.run(t, dir, filepath.Join(dir, "snippet"), applicationBeside(t))
	service := client.New(s.Data)
	for _, p := range []client.NewPerson{{Name: "ines", Password: "seven-brass-prisms", Roles: []string{"keeper"}},
		{Name: "käthe", Password: "quiet-harbour-ledger", Roles: []string{"trustee"}}, {Name: "walt", Password: "paint-and-lentil-soup"}} {
		if _, err := client.AddPerson.Ask(t.Context(), service, p); err != nil {
			t.Fatal(err)
		}
	}
	run(t, "copper-kettle-moss\n", "shared", "set", "press-kit", "--password-stdin", "--data", s.Data)
	run(t, "lantern-oil-and-rope\n", "keyrings", "add", "outer", "office", "--password-stdin", "--data", s.Data)
	return s, base, dir
}

// The whole road, at real web servers.
func TestBeside(t *testing.T) {
	t.Parallel()
	for name := range besides {
		for _, flags := range [][]string{nil, {"--skip-public", "--identity", "stock"}} {
			if name == "haproxy" && flags == nil {
				continue // its client takes 40 ms for each question
			}
			t.Run(name+strings.Join(flags, " "), func(t *testing.T) {
				t.Parallel()
				besideRoad(t, name, flags...)
			})
		}
	}
}

func basicOf(name, password string) string {
	return "Basic " + base64.StdEncoding.EncodeToString([]byte(name+":"+password))
}

func besideRoad(t *testing.T, name string, flags ...string) {
	s, base, dir := connected(t, name, flags...)
	html := []string{"Accept", "text/html"}
	gives := func(p *person, path string, status int, content string, headers ...string) answer {
		t.Helper()
		a := p.get(path, append(html, headers...)...)
		if a.status != status || !strings.Contains(a.body, content) || status != 200 && status != 206 && strings.Contains(a.body, "content ") {
			t.Errorf("%s: %d %.200q, want %d %q", path, a.status, a.body, status, content)
		}
		return a
	}
	stranger, ines, kaethe, walt := newPerson(t, base), newPerson(t, base), newPerson(t, base), newPerson(t, base)

	// A stranger.
	gives(stranger, "/", 200, "content of home")
	gives(stranger, "/visit/", 200, "content of visit")
	gives(stranger, "/visit/private/", 403, "")
	if a := gives(stranger, "/rota/?week=2", 303, ""); a.location != "/door/sign-in?next=%2Frota%2F%3Fweek%3D2" {
		t.Errorf("led to %s", a.location)
	}
	if a := stranger.get("/rota/week.txt", fetched...); a.status != 401 || !strings.Contains(a.body, `"sign-in-needed"`) ||
		a.header.Get("Content-Type") != "application/problem+json" || len(a.header.Values("WWW-Authenticate")) != 1 {
		t.Errorf("a script: %d %v %s", a.status, a.header, a.body)
	}
	if a := stranger.do("POST", "/app/x", "a=1", html...); a.status != 303 || a.location != "/door/sign-in?next=%2Fapp%2Fx&unsent" {
		t.Errorf("a form: %d %s", a.status, a.location)
	}
	if a := stranger.do("HEAD", "/rota/", "", html...); a.status != 303 {
		t.Errorf("HEAD: %d", a.status)
	}
	gives(stranger, "/lan/", 403, "", "X-Forwarded-For", "192.0.2.7", "X-Real-Ip", "192.0.2.7")
	for _, field := range []string{"Ostiarius-User", "Ostiarius-Roles", "Ostiarius-Public"} {
		if a := stranger.get("/app/open/x", field, "steward"); a.status != 400 {
			t.Errorf("%s, forged: %d %s", field, a.status, a.body)
		}
	}
	if a := stranger.get("/app/open/x", "Ostiarius_User", "steward"); a.status != 400 && !strings.HasSuffix(a.body, "; 0") {
		t.Errorf("forged: %d %s", a.status, a.body)
	}
	if a := gives(stranger, "/app/open/x", 200, `content for "", roles ""`); strings.Contains(a.header.Get("Cache-Control"), "no-store") {
		t.Errorf("what is public is not kept: %v", a.header)
	}

	// What is hidden is as what is not there, whatever is done with it: at files, and at an application.
	for _, places := range [][2]string{{"/secret/", "/visit/nothing"}, {"/secret/x.txt", "/visit/nothing.txt"},
		{"/app/open/hidden", "/app/open/gone"}} {
		for _, method := range []string{"GET", "HEAD", "POST", "PUT", "DELETE", "PATCH", "OPTIONS", "PROPFIND"} {
			if name == "apache" && method == "OPTIONS" && !strings.HasPrefix(places[0], "/app/") {
				continue // it answers 200 without looking; see docs/beside.md
			}
			for _, accept := range []string{"text/html", "application/json", "*/*"} {
				hidden, missing := stranger.do(method, places[0], "", "Accept", accept), stranger.do(method, places[1], "", "Accept", accept)
				for _, h := range []http.Header{hidden.header, missing.header} {
					h.Del("Date")
				}
				if hidden.status != missing.status || hidden.body != missing.body || !reflect.DeepEqual(hidden.header, missing.header) {
					t.Errorf("%s %v, %s:\nhidden  %d %v %.60q\nmissing %d %v %.60q", method, places, accept, hidden.status, hidden.header,
						hidden.body, missing.status, missing.header, missing.body)
				}
			}
		}
	}
	if a := stranger.do("HEAD", "/visit/nothing", "", html...); a.status != 404 || a.body != "" {
		t.Errorf("HEAD of what is missing: %d %.80q", a.status, a.body)
	}

	// Signing in, and back to the page.
	if a := ines.signIn("ines", "seven-brass-prisms", "/rota/?week=2"); a.status != 303 || a.location != "/rota/?week=2" {
		t.Fatalf("signing in: %d %s %.300s", a.status, a.location, a.body)
	}
	kaethe.signIn("käthe", "quiet-harbour-ledger", "")
	walt.signIn("walt", "paint-and-lentil-soup", "")
	if a := gives(ines, "/rota/", 200, "content of rota"); !strings.Contains(a.header.Get("Cache-Control"), "no-store") ||
		a.header.Get("Vary") == "" {
		t.Errorf("may be kept: %v", a.header)
	}
	if a := gives(ines, "/rota/week.txt", 206, "234", "Range", "bytes=2-4"); a.body != "234" {
		t.Errorf("a range: %q", a.body)
	}
	gives(ines, "/log/", 200, "content of log")
	gives(ines, "/vault/", 200, "content of vault")
	if a := gives(walt, "/log/", 303, ""); a.location != "/visit/" {
		t.Errorf("refused: led to %s", a.location)
	}
	gives(kaethe, "/secret/", 200, "content of secret")
	if a := gives(kaethe, "/app/x", 200,
		`content for "k%C3%A4the", roles "keeper, trustee", signed `+
			fmt.Sprint(len(flags) > 0)); !strings.Contains(strings.Join(a.header.Values("Cache-Control"), ", "), "no-store") {
		t.Errorf("may be kept: %v", a.header)
	}

	// Two layers.
	if a := gives(kaethe, "/office/", 401, ""); !reflect.DeepEqual(a.header.Values("WWW-Authenticate"),
		[]string{`Basic realm="Trust office", charset="UTF-8"`}) {
		t.Errorf("%v", a.header)
	}
	gives(kaethe, "/office/", 200, "content of office", "Authorization", basicOf("office", "lantern-oil-and-rope"))
	gives(ines, "/office/", 403, "", "Authorization", basicOf("office", "lantern-oil-and-rope"))
	gives(kaethe, "/office/", 401, "", "Authorization", basicOf("office", "wrong"))

	// Another role gives the session another token, which the web server hands on beside the page.
	if err := client.GrantRole.Do(t.Context(), client.New(s.Data), client.NewGrant{Account: "walt", Role: "keeper"}); err != nil {
		t.Fatal(err)
	}
	if a := gives(walt, "/log/", 200, "content of log"); len(a.header.Values("Set-Cookie")) != 1 ||
		!strings.HasPrefix(a.header.Get("Set-Cookie"), "ostiarius-session=") {
		t.Errorf("no other token: %v", a.header)
	}
	if a := gives(walt, "/log/", 200, "content of log"); a.header.Get("Set-Cookie") != "" {
		t.Errorf("another one: %v", a.header)
	}

	// A shared password, and a pass with one download.
	if a := stranger.do("POST", "/door/unlock",
		url.Values{"name": {"press-kit"}, "password": {"copper-kettle-moss"}, "next": {"/press/"}}.Encode()); a.status != 303 ||
		a.location != "/press/" {
		t.Errorf("unlocking: %d %s", a.status, a.location)
	}
	gives(stranger, "/press/", 200, "content of press")
	_, out, _ := run(t, "", "passes", "issue", "recordings", "--to", "ada@carrow.example", "--no-mail", "-o", "json", "--data", s.Data)
	var pass issuedPass
	if err := json.Unmarshal([]byte(out), &pass); err != nil {
		t.Fatalf("%v: %s", err, out)
	}
	ada := newPerson(t, base)
	// Asking about a file is no download.
	if a := ada.do("HEAD", "/recordings/horn.mp3", "", "Authorization", basicOf(pass.User, pass.Password)); a.status != 200 || a.body != "" {
		t.Errorf("HEAD with a pass: %d", a.status)
	}
	gives(ada, "/recordings/bell.mp3", 200, "a bell", "Authorization", basicOf(pass.User, pass.Password))
	gives(ada, "/recordings/bell.mp3", 206, "be", "Authorization", basicOf(pass.User, pass.Password), "Range", "bytes=2-3")
	gives(ada, "/recordings/horn.mp3", 303, "", "Authorization", basicOf(pass.User, pass.Password))

	// A WebSocket, and 200 MB.
	socket := "ws" + strings.TrimPrefix(base, "http") + "/app/live"
	if _, resp, err := websocket.DefaultDialer.Dial(socket, nil); err == nil || resp == nil || resp.StatusCode != 401 {
		t.Errorf("a stranger's WebSocket: %v %v", resp, err)
	}
	home, _ := url.Parse(base)
	conn, _, err := (&websocket.Dialer{Jar: ines.http.Jar}).Dial(socket, nil)
	if err != nil {
		t.Fatalf("%v, with %v", err, ines.http.Jar.Cookies(home))
	}
	conn.WriteMessage(websocket.TextMessage, []byte("fog"))
	if _, text, err := conn.ReadMessage(); string(text) != "fog" {
		t.Errorf("%q %v", text, err)
	}
	conn.Close()
	const large = 200 << 20
	req, _ := http.NewRequest("POST", base+"/app/log", io.LimitReader(zeros{}, large))
	req.ContentLength = large
	resp, err := ines.http.Do(req)
	if err != nil {
		t.Fatal(err)
	}
	told, _ := io.ReadAll(resp.Body)
	resp.Body.Close()
	if want := fmt.Sprintf("content: %d bytes from ines, <nil>", large); string(told) != want {
		t.Errorf("%s, want %s", told, want)
	}

	// What strangers try.
	if code, out, errOut := run(t, "", "connect", "--check", base, "--policy", filepath.Join(dir, "doors.yaml")); code != 0 ||
		!strings.Contains(out, "The doors work") {
		t.Errorf("%s%s", out, errOut)
	}

	// Signing out; and without Ostiarius nothing closed is open.
	if a := ines.do("POST", "/door/sign-out", "next=/", "Origin", base, "Sec-Fetch-Site", "same-origin"); a.status != 303 {
		t.Errorf("signing out: %d %s", a.status, a.body)
	}
	gives(ines, "/rota/", 303, "")
	s.Kill()
	for _, path := range []string{"/rota/", "/secret/", "/app/x", "/visit/private/"} {
		if a := kaethe.get(path, html...); a.status < 500 || strings.Contains(a.body, "content ") {
			t.Errorf("without Ostiarius, %s: %d %.100q", path, a.status, a.body)
		}
	}
	if len(flags) > 0 {
		gives(stranger, "/visit/", 200, "content of visit")
	}
}

type zeros struct{}

func (zeros) Read(p []byte) (int, error) { clear(p); return len(p), nil }

// What is forgotten in the configuration of a web server is found by asking it.
func TestConnectCheckFinds(t *testing.T) {
	dir := besideFiles(t, besidePolicy)
	s := start(t, dir, "--trusted-peer", "127.0.0.1/32", "--decide-from", "x-original-uri")
	policy := filepath.Join(dir, "doors.yaml")
	_, snippet, _ := run(t, "", "connect", "nginx", "--policy", policy, "--to", s.URL)
	write(t, dir, "snippet", snippet)
	write(t, dir, "half", strings.ReplaceAll(snippet, "error_page", "#"))
	for name, test := range map[string]struct{ server, finds string }{
		"a location that does not ask": {"include SNIPPET; location /log/ { auth_request off; }", "GET /log"},
		// out of an open place: /visit../rota
		"files by another name": {"include SNIPPET; location /visit { alias " + dir + "/www/visit/; }", ""},
		"nobody is led on":      {"include HALF;", "GET /secret"},
		"a default server without doors": {"server_name 127.0.0.1; include SNIPPET; } server { listen ADDRESS default_server; root " +
			dir + "/www; ", "Host: unknown.example"},
		"a location that redirects on its own": {"include SNIPPET; location /log { return 302 /leaflets/log.txt; }", "GET /log"},
		"the address is taken from a client": {"include SNIPPET; location /rota/ { auth_request /ask; } location = /ask { internal; " +
			"auth_request off; proxy_pass " + s.URL + "/door/decide?plain; proxy_pass_request_body off; proxy_set_header Content-Length \"\"; " +
			"proxy_set_header Host $host; proxy_set_header X-Original-Method GET; }", "X-Original-URI"},
	} {
		address := freePort(t)
		nginx(t, "tcp", address, "root "+dir+"/www; "+strings.NewReplacer("ADDRESS", address, "SNIPPET", filepath.Join(dir, "snippet"),
			"HALF", filepath.Join(dir, "half")).Replace(test.server))
		code, out, errOut := run(t, "", "connect", "--check", "http://"+address, "--policy", policy, "-o", "json")
		var told struct {
			OK    bool
			Wrong []struct{ Request, Message string }
		}
		if err := json.Unmarshal([]byte(out), &told); err != nil {
			t.Fatalf("%s: %v %s%s", name, err, out, errOut)
		}
		found := false
		for _, w := range told.Wrong {
			found = found || strings.Contains(w.Request, test.finds)
		}
		if test.finds == "" { // /visit../ is no public place, so it stays closed whatever alias makes of it
			if !told.OK || code != 0 {
				t.Errorf("%s: %s", name, out)
			}
		} else if told.OK || code != 1 || !found {
			t.Errorf("%s: %d %.1000s", name, code, out)
		}
	}
	s.Kill()
	address := freePort(t)
	nginx(t, "tcp", address, "root "+dir+"/www; include "+filepath.Join(dir, "snippet")+";")
	if code, out, _ := run(t, "", "connect", "--check", "http://"+address, "--policy", policy); code != 1 ||
		!strings.Contains(out, "may not run") {
		t.Errorf("without Ostiarius: %d %.300s", code, out)
	}
}

// Caddy and Apache reach the service by its socket as well.
func TestFrontSocketOfOthers(t *testing.T) {
	for _, name := range []string{"caddy", "apache"} {
		t.Run(name, func(t *testing.T) {
			server := besides[name]
			dir := besideFiles(t, besidePolicy)
			socket, authorizer := filepath.Join(dir, "front.sock"), freePort(t)
			s := start(t, dir, "--front-socket", socket, "--trusted-peer", "127.0.0.1/32", "--decide-from", server.from, "--authorizer", authorizer)
			if err := os.Chmod(socket, 0o666); err != nil { // its workers have another name
				t.Fatal(err)
			}
			_, snippet, errOut := run(t, "", "connect", name, "--policy", filepath.Join(dir, "doors.yaml"), "--to", "unix:"+socket,
				"--authorizer", authorizer)
			if snippet == "" {
				t.Fatal(errOut)
			}
			write(t, dir, "snippet", snippet)
			if _, err := client.AddPerson.Ask(t.Context(), client.New(s.Data),
				client.NewPerson{Name: "walt", Password: "paint-and-lentil-soup"}); err != nil {
				t.Fatal(err)
			}
			walt := newPerson(t, server.run(t, dir, filepath.Join(dir, "snippet"), applicationBeside(t)))
			if a := walt.get("/visit/"); a.status != 200 || a.body != "content of visit" {
				t.Errorf("%d %s", a.status, a.body)
			}
			walt.is("/rota/", 303, "/door/sign-in?next=%2Frota%2F")
			if a := walt.signIn("walt", "paint-and-lentil-soup", "/rota/"); a.status != 303 || a.location != "/rota/" {
				t.Errorf("%d %s", a.status, a.location)
			}
			if a := walt.get("/rota/"); a.status != 200 || a.body != "content of rota" {
				t.Errorf("%d %s", a.status, a.body)
			}
			walt.is("/nothing/", 404, "")
		})
	}
}

// At the socket for servers in front everybody is a trusted peer, and at the address nobody is.
func TestFrontSocket(t *testing.T) {
	t.Parallel()
	dir := besideFiles(t, besidePolicy)
	socket := filepath.Join(dir, "front.sock")
	s := start(t, dir, "--front-socket", socket, "--decide-from", "x-original-uri")
	if info, err := os.Stat(socket); err != nil || info.Mode().Perm() != 0o660 {
		t.Errorf("%v %v", info, err)
	}
	_, snippet, _ := run(t, "", "connect", "nginx", "--policy", filepath.Join(dir, "doors.yaml"), "--to", "unix:"+socket)
	write(t, dir, "snippet", snippet)
	address := freePort(t)
	if os.Getuid() == 0 { // its workers have another name
		if err := os.Chmod(socket, 0o666); err != nil {
			t.Fatal(err)
		}
	}
	nginx(t, "tcp", address, "root "+dir+"/www; include "+filepath.Join(dir, "snippet")+";")
	beside := newPerson(t, "http://"+address)
	if a := beside.get("/visit/"); a.status != 200 || a.body != "content of visit" {
		t.Errorf("%d %s", a.status, a.body)
	}
	beside.is("/rota/", 303, "/door/sign-in?next=%2Frota%2F")
	if a := newPerson(t, s.URL).get("/door/decide", "X-Original-Method", "GET", "X-Original-Uri", "/"); a.status != 404 {
		t.Errorf("a stranger may ask: %d", a.status)
	}
	if code, _, errOut := run(t, "", "serve", "--policy", filepath.Join(dir, "doors.yaml"), "--data", t.TempDir(), "--listen",
		"127.0.0.1:0", "--front-socket", filepath.Join(dir, "doors.yaml")); code != 1 || !strings.Contains(errOut, "no socket") {
		t.Errorf("%d %s", code, errOut)
	}
	if code, _, errOut := run(t, "", "serve", "--policy", filepath.Join(dir, "doors.yaml"), "--data", t.TempDir(), "--listen",
		"127.0.0.1:0", "--front-socket", socket); code != 1 || !strings.Contains(errOut, "another service") {
		t.Errorf("%d %s", code, errOut)
	}
}
