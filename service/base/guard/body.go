package guard

import (
	"io"
	"net/http"
	"sync/atomic"
	"time"
)

// The longest time that a client may send nothing of a body that it has announced, and how long
// what nobody reads may still come before the connection is closed.
const (
	usualBodyIdle = 30 * time.Second
	unreadFor     = 5 * time.Second
)

// endsConnection reports whether a request must be the last on its connection, because a
// server in front may see another end of it than we do: one with a transfer coding, of which
// net/http does not tell whether it had a Content-Length too, and one of HTTP/1.0, of which it
// does not tell whether it had a coding (RFC 9112, section 6.1: such a connection must be
// closed after the answer). What then looks like a next request is not read.
func endsConnection(r *http.Request) bool {
	return r.ProtoMajor == 1 && (r.ContentLength < 0 || r.ProtoMinor == 0)
}

// A body is what a client sends with a request. Reading it fails when nothing comes for a
// while, so that a slow client does not hold a connection for ever; however long it takes as a
// whole, it may come.
//
// net/http reads what a handler leaves of a body before it lets the answer go, and waits for it
// without end. So an answer that begins before the body is over says that the connection ends
// with it, and is sent at once.
type body struct {
	io.ReadCloser
	http.ResponseWriter
	conn  *http.ResponseController
	idle  time.Duration
	left  int64 // bytes of the length that was announced; negative for an unknown one
	one   bool  // HTTP/1, where an answer can say that the connection ends
	begun bool  // the answer has begun
	over  atomic.Bool
	done  func()      // called once when the body is over, or nobody will read it
	ended atomic.Bool // done has been called
}

// receive returns the body of a request, nil if it has none. It is the ResponseWriter of the
// request from then on.
func (g *Guard) receive(w http.ResponseWriter, r *http.Request) *body {
	if r.ContentLength == 0 || r.Body == nil || r.Body == http.NoBody {
		return nil
	}
	idle := g.BodyIdle
	if idle == 0 {
		idle = usualBodyIdle
	}
	return &body{
		ReadCloser: r.Body, ResponseWriter: w, conn: http.NewResponseController(w), idle: idle, left: r.ContentLength, one: r.ProtoMajor == 1,
	}
}

func (b *body) Read(p []byte) (int, error) {
	b.conn.SetReadDeadline(time.Now().Add(b.idle))
	n, err := b.ReadCloser.Read(p)
	if b.left > 0 {
		b.left = max(0, b.left-int64(n))
	}
	if err != nil || b.left == 0 {
		// The body is over. What is read from now on is the next request; to wait for that is
		// the server's business.
		b.over.Store(err == nil || err == io.EOF)
		b.conn.SetReadDeadline(time.Time{})
		b.end()
	}
	return n, err
}

func (b *body) end() {
	if b.done != nil && b.ended.CompareAndSwap(false, true) {
		b.done()
	}
}

// begin is called before the answer begins.
func (b *body) begin() {
	if b.begun {
		return
	}
	b.begun = true
	if b.one && !b.over.Load() {
		b.Header().Set("Connection", "close")
	}
}

// finish is called when the request has been answered.
func (b *body) finish() {
	b.begin()
	if !b.over.Load() {
		b.conn.SetReadDeadline(time.Now().Add(unreadFor))
	}
	b.end()
}

func (b *body) WriteHeader(status int) {
	if status >= 200 || status == http.StatusSwitchingProtocols {
		b.begin()
	}
	b.ResponseWriter.WriteHeader(status)
}

func (b *body) Write(p []byte) (int, error) {
	b.begin()
	return b.ResponseWriter.Write(p)
}

// ReadFrom has the system copy files, where it can.
func (b *body) ReadFrom(from io.Reader) (int64, error) {
	b.begin()
	if to, ok := b.ResponseWriter.(io.ReaderFrom); ok {
		return to.ReadFrom(from)
	}
	return io.Copy(struct{ io.Writer }{b.ResponseWriter}, from)
}

func (b *body) Flush() { b.FlushError() }

// FlushError is for http.ResponseController.
func (b *body) FlushError() error {
	b.begin()
	return b.conn.Flush()
}

// Unwrap is for http.ResponseController.
func (b *body) Unwrap() http.ResponseWriter { return b.ResponseWriter }
