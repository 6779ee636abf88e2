package service

import (
	"bytes"
	"context"
	"crypto/tls"
	"errors"
	"io"
	"net"
	"net/http"
	"sync"

	"ostiarius/service/rule/source"
)

// net/http reads some heads of requests in which another server could see another request, and
// does not tell of it: one with a length and a transfer coding, of which it takes the coding;
// one of HTTP/1.0 with a coding, which it ignores; and folded lines. RFC 9112 (sections 5.2 and
// 6.1) allows to refuse them, which is what we do: nobody sends them by accident. So a
// connection of HTTP/1 keeps the head of the request that is being read, as it came.

// A headed is a connection that keeps the head of a request.
type headed struct {
	net.Conn
	tls *tls.ConnectionState // nil without TLS

	together *[]byte // what was written and is not sent yet, while an answer is gathered; else nil

	mu   sync.Mutex
	head []byte // what came since the request began
	body int64  // bytes of the body of the request before that are still to come
	off  bool   // no more requests come
}

// The most that is kept of a connection: a head, and what the server reads ahead.
const mostHead = maxHeader + 16<<10

// The room that a connection keeps from one request to the next, in bytes.
const usualHead = 4 << 10

func (c *headed) Read(p []byte) (int, error) {
	n, err := c.Conn.Read(p)
	if n > 0 {
		c.mu.Lock()
		c.keep(p[:n])
		c.mu.Unlock()
	}
	return n, err
}

func (c *headed) keep(read []byte) {
	if c.off {
		return
	}
	skip := min(c.body, int64(len(read)))
	c.body -= skip
	read = read[skip:]
	c.head = append(c.head, read[:min(len(read), mostHead-len(c.head))]...)
}

// next looks at the head of the request that the server has just read, which announces a body of
// that length, -1 for a transfer coding, and goes on to the request behind it. The error says
// why the request must be refused; then, and after a coding, the connection must be closed.
func (c *headed) next(length int64) error {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.off {
		return nil
	}
	end, err := readHead(c.head)
	if err != nil || length < 0 {
		c.off, c.head = true, nil
		return err
	}
	behind := c.head[end:]
	skip := min(length, int64(len(behind)))
	c.body = length - skip
	if rest := behind[skip:]; len(rest) > 0 || cap(c.head) <= usualHead {
		c.head = append(c.head[:0], rest...)
	} else {
		c.head = nil // one large head is no reason to hold so much for each idle connection
	}
	return nil
}

// stop keeps nothing more: the connection speaks another protocol now.
func (c *headed) stop() {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.off, c.head = true, nil
}

var (
	errFolded  = errors.New("a line of its header is folded")
	errLengths = errors.New("it has both a length and a transfer coding")
	errCoding  = errors.New("it is of HTTP/1.0 and has a transfer coding")
	errHosts   = errors.New("it names two hosts")
	errNoHead  = errors.New("its header cannot be found")
)

// readHead returns where the head of a request ends, behind the empty line.
func readHead(b []byte) (end int, err error) {
	for end < len(b) && (b[end] == '\r' || b[end] == '\n') {
		end++ // empty lines in front are forgiven (RFC 9112, section 2.2)
	}
	length, coding, old, first, hosts := false, false, false, true, 0
	for {
		n := bytes.IndexByte(b[end:], '\n')
		if n < 0 {
			return 0, errNoHead
		}
		line := bytes.TrimSuffix(b[end:end+n], []byte("\r"))
		end += n + 1
		switch {
		case len(line) == 0:
			switch {
			case length && coding:
				return 0, errLengths
			case old && coding:
				return 0, errCoding
			case hosts > 1:
				return 0, errHosts
			}
			return end, nil
		case first:
			first, old = false, bytes.HasSuffix(line, []byte(" HTTP/1.0"))
		case line[0] == ' ' || line[0] == '\t':
			return 0, errFolded
		case line[0]|0x20 == 'c':
			length = length || isField(line, "Content-Length")
		case line[0]|0x20 == 'h':
			if isField(line, "Host") {
				hosts++
			}
		case line[0]|0x20 == 't':
			coding = coding || isField(line, "Transfer-Encoding")
		}
	}
}

func isField(line []byte, name string) bool {
	return len(line) > len(name) && line[len(name)] == ':' && bytes.EqualFold(line[:len(name)], []byte(name))
}

// NetConn returns the connection within, as that of package tls does.
func (c *headed) NetConn() net.Conn { return c.Conn }

// ReadFrom has the system copy files, where it can.
func (c *headed) ReadFrom(from io.Reader) (int64, error) {
	if to, ok := c.Conn.(io.ReaderFrom); ok {
		return to.ReadFrom(from)
	}
	return io.Copy(struct{ io.Writer }{c.Conn}, from)
}

// CloseWrite tells the other end that nothing more is written.
func (c *headed) CloseWrite() error {
	if half, ok := c.Conn.(interface{ CloseWrite() error }); ok {
		return half.CloseWrite()
	}
	return nil
}

// Where answers are gathered.
var gathering = sync.Pool{New: func() any { b := make([]byte, 0, 40<<10); return &b }}

// Gather is for source.Gatherer.
func (c *headed) Gather() { c.together = gathering.Get().(*[]byte) }

// Send is for source.Gatherer.
func (c *headed) Send() error {
	b := c.together
	c.together = nil
	_, err := c.Conn.Write(*b)
	*b = (*b)[:0]
	gathering.Put(b)
	return err
}

func (c *headed) Write(p []byte) (int, error) {
	if c.together == nil {
		return c.Conn.Write(p)
	}
	*c.together = append(*c.together, p...)
	return len(p), nil
}

type headedKey struct{}

// withHead is for http.Server.ConnContext: the connection is found in the context.
func withHead(ctx context.Context, c net.Conn) context.Context {
	if h, ok := c.(*headed); ok {
		return source.WithGatherer(context.WithValue(ctx, headedKey{}, h), h)
	}
	return ctx
}

// headState is for http.Server.ConnState.
func headState(c net.Conn, state http.ConnState) {
	if h, ok := c.(*headed); ok && state == http.StateHijacked {
		h.stop()
	}
}

// onlyClear refuses requests in whose head another server could see another request.
func onlyClear(next http.Handler) http.Handler {
	refuse := func(w http.ResponseWriter, why string) {
		w.Header().Set("Cache-Control", "no-store")
		http.Error(w, "The request cannot be read without guessing: "+why+".", http.StatusBadRequest)
	}
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if why := wrongTarget(r); why != "" {
			refuse(w, why)
			return
		}
		if r.ProtoMajor > 1 {
			w = &stream{ResponseWriter: w, conn: http.NewResponseController(w)}
		}
		if c, ok := r.Context().Value(headedKey{}).(*headed); ok {
			if r.TLS == nil {
				r.TLS = c.tls
			}
			if err := c.next(r.ContentLength); err != nil {
				w.Header().Set("Connection", "close")
				refuse(w, err.Error())
				return
			}
		}
		next.ServeHTTP(w, r)
	})
}

// A headedListener takes connections of HTTP/1 without TLS.
type headedListener struct{ net.Listener }

func (l headedListener) Accept() (net.Conn, error) {
	c, err := l.Listener.Accept()
	if err != nil {
		return nil, err
	}
	return &headed{Conn: c}, nil
}
