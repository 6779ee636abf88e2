package e2e

import (
	"bufio"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"errors"
	"fmt"
	"io"
	"math/big"
	"net"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"ostiarius/client"
)

// Killed in the middle of it, the service starts again with all that it has confirmed:
// sign-ins hold, sign-outs too, accounts and grants are there, and nothing is half done.
func TestKilledWhilePeopleSignIn(t *testing.T) {
	data, err := os.MkdirTemp("", "kill")
	if err != nil {
		t.Fatal(err)
	}
	defer os.RemoveAll(data)
	const crew = "kettle-moth-anvil"
	in, out := map[string]string{}, map[string]bool{} // token -> name; tokens that were signed out
	granted := map[string]bool{}                      // accounts that were added and then given a role
	for round := range 4 {
		s, err := Start("demo", "--listen", "127.0.0.1:0", "--data", data)
		if err != nil {
			t.Fatal(err)
		}
		people := newPerson(t, s.URL)
		me := func(token string) string { return people.get("/door/me", "Cookie", "ostiarius-session="+token).body }
		for token, name := range in {
			if body := me(token); !strings.Contains(body, `"name":"`+name+`"`) {
				t.Errorf("round %d: a confirmed session of %s is gone: %s", round, name, body)
			}
		}
		for token := range out {
			if body := me(token); !strings.Contains(body, `"signedIn":false`) {
				t.Errorf("round %d: somebody who signed out is signed in: %s", round, body)
			}
		}
		api := client.New(data)
		for name := range granted {
			if p, err := client.ShowPerson.Ask(t.Context(), api, client.ByName{Name: name}); err != nil || fmt.Sprint(p.Roles) != "[keeper]" {
				t.Errorf("round %d: the grant of %s is %v, %v", round, name, p.Roles, err)
			}
		}
		stranger := &http.Client{CheckRedirect: people.http.CheckRedirect} // without cookies
		var mu sync.Mutex
		var working sync.WaitGroup
		stop := make(chan struct{})
		signIns, signOuts, grants := 0, 0, 0
		enough := make(chan struct{})
		count := func(n *int) { // with mu held
			if *n++; signIns > 15+4*round && signOuts > 3*round && grants > 3*round {
				select {
				case <-enough:
				default:
					close(enough)
				}
			}
		}
		for worker := range 50 {
			working.Go(func() {
				name := fmt.Sprintf("crew-%d", worker)
				if round == 0 && worker < 45 {
					for {
						_, err := client.AddPerson.Ask(t.Context(), api, client.NewPerson{Name: name, Password: crew})
						var busy *client.Problem
						if errors.As(err, &busy) && busy.Wait > 0 { // 45 passwords are hashed at once
							time.Sleep(time.Duration(busy.Wait) * time.Second)
							continue
						}
						if err != nil {
							t.Errorf("%s: %v", name, err)
							return
						}
						break
					}
				}
				for i := 0; ; i++ {
					select {
					case <-stop:
						return
					default:
					}
					if worker >= 45 && i < 10 {
						who := fmt.Sprintf("hand-%d-%d-%d", round, worker, i)
						if _, err := client.AddPerson.Ask(t.Context(), api, client.NewPerson{Name: who}); err != nil {
							continue
						}
						if client.GrantRole.Do(t.Context(), api, client.NewGrant{Account: who, Role: "keeper"}) == nil {
							mu.Lock()
							granted[who] = true
							count(&grants)
							mu.Unlock()
						}
						continue
					}
					if worker >= 45 {
						return
					}
					resp, err := stranger.PostForm(s.URL+"/door/sign-in", url.Values{"username": {name}, "password": {crew}})
					if err != nil {
						return
					}
					resp.Body.Close()
					token := ""
					for _, c := range resp.Cookies() {
						if c.Name == "ostiarius-session" {
							token = c.Value
						}
					}
					if token == "" {
						continue // too many at once
					}
					if i%2 == 0 {
						mu.Lock()
						in[token] = name
						count(&signIns)
						mu.Unlock()
						continue
					}
					req, _ := http.NewRequest("POST", s.URL+"/door/sign-out", nil)
					req.Header.Set("Cookie", "ostiarius-session="+token)
					resp, err = stranger.Do(req)
					if err != nil {
						return
					}
					resp.Body.Close()
					if resp.StatusCode == http.StatusSeeOther {
						mu.Lock()
						out[token] = true
						count(&signOuts)
						mu.Unlock()
					}
				}
			})
		}
		select {
		case <-enough:
		case <-time.After(60 * time.Second):
			s.Kill()
			t.Fatal("too little was confirmed in a minute")
		}
		s.Kill()
		close(stop)
		working.Wait()
	}
	if len(in) < 60 || len(out) < 12 || len(granted) < 20 {
		t.Errorf("only %d sign-ins, %d sign-outs and %d grants were confirmed", len(in), len(out), len(granted))
	}
}

// slow starts a server that answers when it is released, and tells when it is asked.
func slow(t *testing.T) (address string, began, release chan struct{}) {
	t.Helper()
	began, release = make(chan struct{}, 1), make(chan struct{})
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	behind := http.Server{Handler: http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		began <- struct{}{}
		<-release
		io.WriteString(w, "finished")
	})}
	go behind.Serve(listener)
	t.Cleanup(func() { behind.Close() })
	return "http://" + listener.Addr().String(), began, release
}

// fetch sends a request and returns the body of the answer when it is there.
func fetch(url string) <-chan string {
	body := make(chan string, 1)
	go func() {
		resp, err := http.Get(url)
		if err != nil {
			body <- err.Error()
			return
		}
		defer resp.Body.Close()
		text, _ := io.ReadAll(resp.Body)
		body <- string(text)
	}()
	return body
}

// A request under way finishes under the policy that it began with.
func TestApplyLetsRequestsFinish(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	behind, began, release := slow(t)
	text := func(admit string) string {
		return "sources: [{path: /, proxy: '" + behind + "'}]\ndoors: [{path: /**, admit: " + admit + "}]\n"
	}
	write(t, dir, "doors.yaml", text("public"))
	write(t, dir, "closed.yaml", text("nobody"))
	s := start(t, dir)
	body := fetch(s.URL + "/slow")
	<-began
	if code, _, errOut := run(t, "", "apply", filepath.Join(dir, "closed.yaml"), "--data", s.Data); code != 0 {
		t.Fatal(errOut)
	}
	newPerson(t, s.URL).is("/slow", 403, "")
	close(release)
	if got := <-body; got != "finished" {
		t.Errorf("the request under way got %q", got)
	}
}

// An interrupt lets requests under way finish, and what was recorded is there afterwards.
func TestInterruptLetsRequestsFinish(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	behind, began, release := slow(t)
	write(t, dir, "doors.yaml", "sources: [{path: /, proxy: '"+behind+"'}]\ndoors: [{path: /**, admit: public}]\n")
	data, _ := os.MkdirTemp("", "stop")
	defer os.RemoveAll(data)
	s, err := Start("serve", "--policy", filepath.Join(dir, "doors.yaml"), "--listen", "127.0.0.1:0", "--data", data)
	if err != nil {
		t.Fatal(err)
	}
	body := fetch(s.URL + "/slow")
	<-began
	stopped := make(chan error)
	go func() { stopped <- s.Stop() }()
	eventually(t, func() bool { // no new connections are taken
		c, err := net.Dial("tcp", strings.TrimPrefix(s.URL, "http://"))
		if err == nil {
			c.Close()
		}
		return err != nil
	})
	close(release)
	if got := <-body; got != "finished" {
		t.Errorf("the request under way got %q", got)
	}
	if err := <-stopped; err != nil {
		t.Errorf("the process ended with %v", err)
	}
	if _, err := os.Stat(filepath.Join(data, "ostiarius.sock")); !os.IsNotExist(err) {
		t.Errorf("the socket is left behind: %v", err)
	}
}

func TestDemoSurvivesARestart(t *testing.T) {
	data, _ := os.MkdirTemp("", "again")
	defer os.RemoveAll(data)
	s, err := Start("demo", "--listen", "127.0.0.1:0", "--data", data)
	if err != nil {
		t.Fatal(err)
	}
	for _, want := range []string{"agnes", agnes, "steward", "tide-gauge", "Three things to try", filepath.Join(data, "doors.yaml")} {
		if !strings.Contains(s.Output, want) {
			t.Errorf("the demo does not print %q:\n%s", want, s.Output)
		}
	}
	p := newPerson(t, s.URL)
	p.signIn("walt", walt, "")
	at, _ := url.Parse(s.URL)
	cookies := p.http.Jar.Cookies(at)
	if code, _, errOut := run(t, "", "people", "remove", "sunniva", "--data", data); code != 0 {
		t.Fatal(errOut)
	}
	write(t, data, "site/rota/index.html", "my own rota")
	if err := s.Stop(); err != nil {
		t.Fatal(err)
	}
	if s, err = Start("demo", "--listen", "127.0.0.1:0", "--data", data); err != nil {
		t.Fatal(err)
	}
	defer s.Stop()
	p = newPerson(t, s.URL)
	if a := p.get("/rota/", "Cookie", cookies[0].Name+"="+cookies[0].Value); a.status != 200 || a.body != "my own rota" {
		t.Errorf("after the restart: %d %q", a.status, a.body)
	}
	if a := p.signIn("sunniva", sunniva, ""); a.status != 422 {
		t.Errorf("a removed account came back: %d", a.status)
	}
	for _, name := range []string{"ostiarius.sock", "records/ostiarius.db"} {
		if info, err := os.Stat(filepath.Join(data, name)); err != nil || info.Mode().Perm() != 0o600 {
			t.Errorf("%s: %v %v", name, info.Mode(), err)
		}
	}
	if text, err := os.ReadFile(filepath.Join(data, "records/ostiarius.db")); err != nil ||
		strings.Contains(string(text), cookies[0].Value) || strings.Contains(string(text), walt) {
		t.Errorf("the records hold a token or a password: %v", err)
	}
}

func TestHTTPS(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	write(t, dir, "site/index.html", "x")
	write(t, dir, "doors.yaml", "sources: [{path: /, files: ./site}]\ndoors: [{path: /, admit: signed-in}]\n")
	cert, key := certificate(t, dir)
	s := start(t, dir, "--tls-cert", cert, "--tls-key", key)
	if !strings.HasPrefix(s.URL, "https://") {
		t.Fatal(s.URL)
	}
	run(t, "seven-brass-prisms\n", "people", "add", "ines", "--password-stdin", "--data", s.Data)
	for _, protocol := range []string{"HTTP/1.1", "HTTP/2.0"} {
		p := newPerson(t, s.URL)
		p.http.Transport = &http.Transport{TLSClientConfig: &tls.Config{InsecureSkipVerify: true}, ForceAttemptHTTP2: protocol == "HTTP/2.0"}
		a := p.signIn("ines", "seven-brass-prisms", "/")
		if c := a.header.Get("Set-Cookie"); !strings.HasPrefix(c, "__Host-ostiarius-session=") ||
			!strings.HasSuffix(c, "; Path=/; HttpOnly; Secure; SameSite=Lax") {
			t.Errorf("%s: cookie %q", protocol, c)
		}
		p.is("/", 200, "")
		if resp, err := p.http.Get(s.URL + "/"); err != nil || resp.Proto != protocol {
			t.Errorf("%s: %v %v", protocol, resp, err)
		}
	}
	address := strings.TrimPrefix(s.URL, "https://")
	if _, err := tls.Dial("tcp", address, &tls.Config{InsecureSkipVerify: true, MaxVersion: tls.VersionTLS11}); err == nil {
		t.Error("TLS 1.1 is spoken")
	}
	// One that says nothing keeps nobody out.
	silent, err := net.Dial("tcp", address)
	if err != nil {
		t.Fatal(err)
	}
	defer silent.Close()
	conn, err := tls.Dial("tcp", address, &tls.Config{InsecureSkipVerify: true})
	if err != nil {
		t.Fatal(err)
	}
	defer conn.Close()
	io.WriteString(conn, "POST / HTTP/1.1\r\nHost: x\r\nContent-Length: 5\r\nTransfer-Encoding: chunked\r\n\r\n0\r\n\r\nGET / "+
		"HTTP/1.1\r\nHost: x\r\n\r\n")
	if answers, _ := io.ReadAll(conn); !strings.HasPrefix(string(answers), "HTTP/1.1 400 ") || len(statusLine.FindAll(answers, -1)) != 1 {
		t.Errorf("both lengths, over TLS: %s", answers)
	}
	if status, _, body := raw(t, "http://"+address, "GET / HTTP/1.1\r\nHost: x\r\n\r\n"); status != 400 || !strings.Contains(body, "HTTPS") {
		t.Errorf("plain HTTP: %d %q", status, body)
	}
}

// certificate makes a certificate for marram.example and for loopback, and returns its files.
func certificate(t *testing.T, dir string) (cert, key string) {
	t.Helper()
	private, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	template := x509.Certificate{
		SerialNumber: big.NewInt(1), Subject: pkix.Name{CommonName: "marram.example"}, NotAfter: time.Now().Add(time.Hour),
		DNSNames: []string{"marram.example"}, IPAddresses: []net.IP{net.IPv4(127, 0, 0, 1), net.IPv6loopback},
	}
	public, err := x509.CreateCertificate(rand.Reader, &template, &template, &private.PublicKey, private)
	if err != nil {
		t.Fatal(err)
	}
	der, err := x509.MarshalPKCS8PrivateKey(private)
	if err != nil {
		t.Fatal(err)
	}
	write(t, dir, "cert.pem", string(pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: public})))
	write(t, dir, "key.pem", string(pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: der})))
	return filepath.Join(dir, "cert.pem"), filepath.Join(dir, "key.pem")
}

// raw sends bytes to the service and returns the status of the answer and its body.
func raw(t *testing.T, base, request string) (status int, location, body string) {
	t.Helper()
	conn, err := net.Dial("tcp", strings.TrimPrefix(base, "http://"))
	if err != nil {
		t.Fatal(err)
	}
	defer conn.Close()
	conn.SetDeadline(time.Now().Add(10 * time.Second))
	if _, err := io.WriteString(conn, request); err != nil {
		t.Fatal(err)
	}
	resp, err := http.ReadResponse(bufio.NewReader(conn), nil)
	if err != nil {
		t.Fatalf("%.80q: %v", request, err)
	}
	defer resp.Body.Close()
	text, _ := io.ReadAll(resp.Body)
	return resp.StatusCode, resp.Header.Get("Location"), string(text)
}
