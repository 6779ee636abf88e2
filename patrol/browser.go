package patrol

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/url"
	"os"
	"os/exec"
	"strings"
	"time"
)

// A Browser draws pages with headless Chromium. All that it asks for goes through a proxy of ours, which sends GET and HEAD alone,
// and those only to the hosts of the walk; a script that tries to leave, or to send, gets nothing.
type Browser struct{ program string }

// NewBrowser returns a Browser. The error says that none is installed.
func NewBrowser() (*Browser, error) {
	for _, name := range []string{"chromium-headless-shell", "chromium", "chromium-browser", "google-chrome"} {
		if program, err := exec.LookPath(name); err == nil {
			return &Browser{program}, nil
		}
	}
	return nil, errors.New("pages can be drawn only where Chromium is installed; install it, or leave --browser away")
}

// How long a page may take to be drawn.
const drawnWithin = 15 * time.Second

// Draw returns a page as its scripts have made it.
func (b *Browser) Draw(ctx context.Context, address *url.URL, fields http.Header, hosts map[string]bool) ([]byte, error) {
	if address.Scheme != "http" {
		return nil, errors.New("only pages over plain HTTP are drawn")
	}
	ctx, cancel := context.WithTimeout(ctx, drawnWithin)
	defer cancel()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return nil, err
	}
	between := &http.Server{Handler: &through{fields: fields, hosts: hosts, transport: &http.Transport{}}, ReadHeaderTimeout: drawnWithin}
	go between.Serve(l)
	defer between.Close()
	home, err := os.MkdirTemp("", "patrol-")
	if err != nil {
		return nil, err
	}
	defer os.RemoveAll(home)
	c := exec.CommandContext(ctx, b.program, "--headless", "--no-sandbox", "--disable-gpu", "--disable-quic", "--no-first-run",
		"--disable-background-networking", "--disable-component-update", "--disable-sync",
		"--user-data-dir="+home, "--proxy-server=http://"+l.Addr().String(), "--proxy-bypass-list=<-loopback>",
		"--virtual-time-budget=4000", "--dump-dom", address.String())
	c.WaitDelay = time.Second
	var out bytes.Buffer
	c.Stdout = &bounded{&out, mostBytes}
	if err := c.Run(); err != nil && out.Len() == 0 {
		return nil, fmt.Errorf("the page was not drawn: %w", err)
	}
	return out.Bytes(), nil
}

// bounded writes no more than a limit.
type bounded struct {
	to   *bytes.Buffer
	left int
}

func (b *bounded) Write(p []byte) (int, error) {
	n := min(len(p), b.left)
	b.left -= n
	b.to.Write(p[:n])
	return len(p), nil
}

// through is the proxy that a browser is given.
type through struct {
	fields    http.Header
	hosts     map[string]bool
	transport *http.Transport
}

func (t *through) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	if r.Method != http.MethodGet && r.Method != http.MethodHead || r.URL.Scheme != "http" || !t.hosts[hostOf(r.URL)] ||
		changing.MatchString(r.URL.Path) {
		http.Error(w, "not on this walk", http.StatusForbidden)
		return
	}
	out := r.Clone(r.Context())
	out.RequestURI = ""
	for _, name := range []string{"Connection", "Proxy-Connection", "Keep-Alive", "Te", "Trailer", "Upgrade"} {
		out.Header.Del(name)
	}
	for name, values := range t.fields {
		if name == "Cookie" && out.Header.Get("Cookie") != "" {
			values = []string{strings.Join(values, "; ") + "; " + out.Header.Get("Cookie")}
		}
		out.Header[name] = values
	}
	answer, err := t.transport.RoundTrip(out)
	if err != nil {
		http.Error(w, "no answer", http.StatusBadGateway)
		return
	}
	defer answer.Body.Close()
	for name, values := range answer.Header {
		w.Header()[name] = values
	}
	w.WriteHeader(answer.StatusCode)
	io.Copy(w, io.LimitReader(answer.Body, 8<<20))
}
