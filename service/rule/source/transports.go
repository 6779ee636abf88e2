package source

import (
	"net"
	"net/http"
	"sync"
	"time"

	"ostiarius/core/policy"
)

// Transports are the connections to servers behind. They are kept from one version of the policy to the next, where a source is as it was.
type Transports struct {
	mu    sync.Mutex
	known map[route]*http.Transport
}

// A route is what a connection to a server behind depends on.
type route struct {
	proxy   string
	timeout time.Duration
}

func routeOf(s *policy.Source) route { return route{s.Proxy, timeoutOf(s)} }

// of returns the transport of a source, made by open if there is none.
func (t *Transports) of(s *policy.Source, open func() *http.Transport) *http.Transport {
	if t == nil {
		return open()
	}
	t.mu.Lock()
	defer t.mu.Unlock()
	at := routeOf(s)
	if t.known[at] == nil {
		if t.known == nil {
			t.known = map[route]*http.Transport{}
		}
		t.known[at] = open()
	}
	return t.known[at]
}

// Keep closes the connections of all sources but those of a Book. What is under way on them is finished.
func (t *Transports) Keep(book *policy.Book) {
	t.mu.Lock()
	defer t.mu.Unlock()
	used := map[route]bool{}
	for i := range book.Sources {
		used[routeOf(&book.Sources[i])] = true
	}
	for at, transport := range t.known {
		if !used[at] {
			transport.CloseIdleConnections()
			delete(t.known, at)
		}
	}
}

// CloseIdle closes the connections that nobody uses at the moment.
func (t *Transports) CloseIdle() {
	t.mu.Lock()
	defer t.mu.Unlock()
	for _, transport := range t.known {
		transport.CloseIdleConnections()
	}
}

// A pressed is a connection to a server behind that fails when the server takes nothing for a while of what is sent to it.
type pressed struct {
	net.Conn
	limit time.Duration
}

func (c *pressed) Write(p []byte) (int, error) {
	c.SetWriteDeadline(time.Now().Add(c.limit))
	return c.Conn.Write(p)
}

// CloseWrite hands on that nothing more is sent.
func (c *pressed) CloseWrite() error {
	if half, ok := c.Conn.(interface{ CloseWrite() error }); ok {
		return half.CloseWrite()
	}
	return nil
}
