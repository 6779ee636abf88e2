package faults

import (
	"bytes"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"fmt"
	"io"
	"math/big"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"golang.org/x/net/http2"
	"golang.org/x/net/http2/hpack"
)

// With as many connections open as the system allows, nobody is told that a page is not there: whoever comes is answered, or told
// to try again; and when the others have gone, all is as before.
func TestOutOfDescriptors(t *testing.T) {
	t.Parallel()
	s := newSite(t, "")
	s.use(StartWithFiles(90, s.args...))
	s.add("ines", "keeper")
	cookie := s.signIn("ines")
	for i := range 50 { // too large to be read at once, so each takes a descriptor
		s.write(fmt.Sprintf("site/log/%d.txt", i), strings.Repeat("fog ", 50_000))
	}
	address := strings.TrimPrefix(s.process.URL, "http://")
	var held []net.Conn
	for range 150 { // with half a request each, so that they are not idle
		c, err := net.DialTimeout("tcp", address, 5*time.Second)
		if err != nil {
			t.Fatal(err)
		}
		fmt.Fprintf(c, "GET / HTTP/1.1\r\nHost: %s\r\n", address)
		held = append(held, c)
	}
	for i := range 30 {
		fresh := &http.Client{Transport: &http.Transport{DisableKeepAlives: true}, Timeout: 20 * time.Second}
		a := ask(fresh, "GET", fmt.Sprintf("%s/log/%d.txt", s.process.URL, i), cookie, nil)
		switch {
		case a.err != nil || a.status == 200:
		case a.status != 503 || a.header.Get("Retry-After") == "" || strings.Contains(a.body, "fog fog"):
			t.Errorf("%d %v %.80s", a.status, a.header, a.body)
		}
	}
	for _, c := range held {
		c.Close()
	}
	eventually(t, "a page is answered again", func() bool { return s.get("/log/7.txt", cookie).status == 200 })
	if log := s.process.Log(); !strings.Contains(log, "fewer files may be open") ||
		!strings.Contains(log, "as many files and connections are open") {
		t.Errorf("the log does not say it: %s", log)
	}
}

// Idle connections are closed before anybody is turned away.
func TestIdleConnectionsGoFirst(t *testing.T) {
	t.Parallel()
	s := newSite(t, "")
	s.use(StartWithFiles(90, s.args...))
	address := strings.TrimPrefix(s.process.URL, "http://")
	answered := 0
	for range 150 {
		c, err := net.DialTimeout("tcp", address, 5*time.Second)
		if err != nil {
			t.Fatal(err)
		}
		defer c.Close()
		fmt.Fprintf(c, "GET / HTTP/1.1\r\nHost: %s\r\n\r\n", address)
		c.SetReadDeadline(time.Now().Add(10 * time.Second))
		got := make([]byte, 15)
		if _, err := io.ReadFull(c, got); err == nil && string(got) == "HTTP/1.1 200 OK" {
			answered++
		}
	}
	if answered < 140 {
		t.Errorf("%d of 150 were answered", answered)
	}
}

// The service is started anew, and nobody who comes meanwhile is refused, where somebody else holds the socket.
func TestTakenOver(t *testing.T) {
	t.Parallel()
	l := must(net.Listen("tcp", "127.0.0.1:0"))(t).(*net.TCPListener)
	defer l.Close()
	s := newSite(t, "")
	for i, arg := range s.args {
		if arg == "127.0.0.1:0" {
			s.args[i] = l.Addr().String()
		}
	}
	s.use(StartWithSocket(l, s.args...))
	var stop atomic.Bool
	var asked atomic.Int64
	var under sync.WaitGroup
	for range 4 {
		under.Go(func() {
			fresh := &http.Client{Transport: &http.Transport{DisableKeepAlives: true}, Timeout: 30 * time.Second}
			for !stop.Load() {
				if a := ask(fresh, "GET", "http://"+l.Addr().String()+"/", "", nil); a.err != nil || a.status != 200 {
					t.Errorf("%d %v", a.status, a.err)
				}
				asked.Add(1)
			}
		})
	}
	for range 3 {
		before := asked.Load()
		s.stop()
		s.use(StartWithSocket(l, s.args...))
		eventually(t, "it answers", func() bool { return asked.Load() > before+10 })
	}
	stop.Store(true)
	under.Wait()
	if asked.Load() < 30 {
		t.Errorf("only %d were asked", asked.Load())
	}
}

// pairOf writes a certificate for some names, and its key.
func pairOf(t *testing.T, dir string, names ...string) (cert, key string) {
	t.Helper()
	private := must(ecdsa.GenerateKey(elliptic.P256(), rand.Reader))(t)
	template := &x509.Certificate{
		SerialNumber: big.NewInt(time.Now().UnixNano()), Subject: pkix.Name{CommonName: names[0]}, DNSNames: names,
		IPAddresses: []net.IP{net.IPv4(127, 0, 0, 1)},
		NotBefore:   time.Now().Add(-time.Hour), NotAfter: time.Now().Add(time.Hour),
	}
	der := must(x509.CreateCertificate(rand.Reader, template, template, &private.PublicKey, private))(t)
	raw := must(x509.MarshalPKCS8PrivateKey(private))(t)
	cert, key = filepath.Join(dir, "cert.pem"), filepath.Join(dir, "key.pem")
	for name, block := range map[string]*pem.Block{cert: {Type: "CERTIFICATE", Bytes: der}, key: {Type: "PRIVATE KEY", Bytes: raw}} {
		if err := os.WriteFile(name, pem.EncodeToMemory(block), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	return cert, key
}

// h2 sends one request of HTTP/2 with fields as they are given, and returns the status, or what became of the stream.
func h2(t *testing.T, s *site, fields ...string) string {
	t.Helper()
	c := must(tls.Dial("tcp", strings.TrimPrefix(s.process.URL, "https://"),
		&tls.Config{InsecureSkipVerify: true, NextProtos: []string{"h2"}}))(t)
	defer c.Close()
	c.SetDeadline(time.Now().Add(10 * time.Second))
	io.WriteString(c, http2.ClientPreface)
	f := http2.NewFramer(c, c)
	f.AllowIllegalWrites = true
	f.ReadMetaHeaders = hpack.NewDecoder(4096, nil)
	f.WriteSettings()
	var block bytes.Buffer
	encode := hpack.NewEncoder(&block)
	for i := 0; i < len(fields); i += 2 {
		encode.WriteField(hpack.HeaderField{Name: fields[i], Value: fields[i+1]})
	}
	f.WriteHeaders(http2.HeadersFrameParam{StreamID: 1, BlockFragment: block.Bytes(), EndStream: true, EndHeaders: true})
	for {
		frame, err := f.ReadFrame()
		if err != nil {
			return err.Error()
		}
		switch frame := frame.(type) {
		case *http2.MetaHeadersFrame:
			return frame.PseudoValue("status")
		case *http2.RSTStreamFrame:
			return frame.ErrCode.String()
		case *http2.GoAwayFrame:
			return "connection: " + frame.ErrCode.String()
		}
	}
}

// What could not stand in a request line does not come into one by HTTP/2.
func TestTargetsOfHTTP2(t *testing.T) {
	t.Parallel()
	var lines sync.Map
	behind := must(NewBehind(Answering(func(r *http.Request) string {
		lines.Store(r.RequestURI, true)
		return Text(200, "", "ok")
	})))(t)
	defer behind.Close()
	dir := t.TempDir()
	cert, key := pairOf(t, dir, "marram.example")
	s := newSite(t, behind.URL, "--tls-cert", cert, "--tls-key", key).start()
	usual := func(path string, more ...string) []string {
		return append([]string{":method", "GET", ":scheme", "https", ":authority", "marram.example", ":path", path}, more...)
	}
	if got := h2(t, s, usual("/open/?a=%20b")...); got != "200" {
		t.Fatal(got)
	}
	for _, path := range []string{"/open/?a b", "/open/?a=b HTTP/1.1\r\nX: y", "/open/?a#b", "/open/?caf\u00e9", "/open/?a\tb",
		"/open/\x7f", "/open/?\x01", "https://elsewhere.example/open/", "open/", "*", ""} {
		if got := h2(t, s, usual(path)...); got == "200" {
			t.Errorf("%q: %s", path, got)
		}
	}
	if got := h2(t, s, usual("/open/", "host", "elsewhere.example")...); got == "200" {
		t.Errorf("two hosts: %s", got)
	}
	if got := h2(t, s, usual("/open/", "host", "marram.example")...); got != "200" {
		t.Errorf("one host, said twice: %s", got)
	}
	lines.Range(func(line, _ any) bool {
		if line != "/open/?a=%20b" && line != "/open/" {
			t.Errorf("handed on: %q", line)
		}
		return true
	})
}

// Only names that are meant are led to HTTPS, and told to keep to it; a certificate that takes another's place at once is taken.
func TestNamesThatAreMeant(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	cert, key := pairOf(t, dir, "marram.example", "*.marram.example")
	plain := must(net.Listen("tcp", "127.0.0.1:0"))(t)
	at := plain.Addr().String()
	plain.Close()
	s := newSite(t, "", "--tls-cert", cert, "--tls-key", key, "--redirect-http", at, "--hsts", "24h").start()
	host := func(address, host string) answer {
		by := &http.Client{
			Transport:     &http.Transport{TLSClientConfig: &tls.Config{InsecureSkipVerify: true}, DisableKeepAlives: true},
			CheckRedirect: stranger.CheckRedirect, Timeout: 10 * time.Second,
		}
		r, _ := http.NewRequest("GET", address, nil)
		r.Host = host
		resp, err := by.Do(r)
		if err != nil {
			t.Fatal(err)
		}
		defer resp.Body.Close()
		return answer{status: resp.StatusCode, header: resp.Header}
	}
	for name, meant := range map[string]bool{
		"marram.example": true, "www.marram.example": true, "elsewhere.example": false, "marram.example.elsewhere.example": false,
	} {
		a := host("http://"+at+"/log/", name)
		if led := a.status == 308 && strings.HasPrefix(a.header.Get("Location"), "https://"+name+":"); led != meant {
			t.Errorf("%s: %d %v", name, a.status, a.header)
		}
		if told := host(s.process.URL+"/", name).header.Get("Strict-Transport-Security") != ""; told != meant {
			t.Errorf("%s is told to keep to HTTPS: %v", name, told)
		}
	}
	for i := range 3 { // within a second, and of the same length
		next := fmt.Sprintf("light%d.example", i)
		when := time.Now()
		pairOf(t, dir, next)
		os.Chtimes(cert, when, when.Truncate(time.Second))
		os.Chtimes(key, when, when.Truncate(time.Second))
		eventually(t, "the certificate for "+next, func() bool {
			c, err := tls.Dial("tcp", strings.TrimPrefix(s.process.URL, "https://"), &tls.Config{InsecureSkipVerify: true})
			if err != nil {
				return false
			}
			defer c.Close()
			return c.ConnectionState().PeerCertificates[0].DNSNames[0] == next
		})
	}
}
