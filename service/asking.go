package service

import (
	"bufio"
	"bytes"
	"context"
	"errors"
	"io"
	"log/slog"
	"net"
	"net/http"
	"net/textproto"
	"net/url"
	"runtime/debug"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"golang.org/x/net/http/httpguts"
)

// Web servers that ask at each door ask again and again on a few connections, always in the same small form: a GET without a body,
// answered without one. A server of net/http does much for each request that such a question does not need; it would cost more than
// what is decided. So the connections of declared peers begin in an asking, which answers questions, with all the handlers of the
// site, and hands a connection on to the server with the first request that is none.

// An asking is a listener: it answers questions itself, and what it returns are the other connections.
type asking struct {
	net.Listener
	at      []byte                // how a question begins, such as "GET /door/decide"
	peer    func(c net.Conn) bool // whether it is a declared peer's
	handler http.Handler
	base    func(c net.Conn) context.Context
	log     *slog.Logger
	others  chan net.Conn
	closed  chan struct{}
	stop    func() // once

	mu    sync.Mutex
	conns map[*questions]bool
	last  atomic.Bool // no more questions are answered on a connection than the one that has come
}

// Limits of a connection.
const (
	firstQuestion = 10 * time.Second // as ReadHeaderTimeout of the server
	nextQuestion  = 2 * time.Minute  // as its IdleTimeout
)

func newAsking(l net.Listener, at string, peer func(net.Conn) bool, handler http.Handler, base func(net.Conn) context.Context,
	log *slog.Logger) *asking {
	a := &asking{
		Listener: l, at: []byte("GET " + at), peer: peer, handler: handler, base: base, log: log, others: make(chan net.Conn),
		closed: make(chan struct{}), conns: map[*questions]bool{},
	}
	a.stop = sync.OnceFunc(func() { close(a.closed) })
	go a.take()
	return a
}

// take takes connections and tells those of peers from others.
func (a *asking) take() {
	defer a.stop()
	for {
		c, err := a.Listener.Accept()
		switch {
		case errors.Is(err, net.ErrClosed):
			return
		case err != nil: // what the system will have room for again
			a.log.Error("a connection could not be taken", "error", err)
			select {
			case <-time.After(50 * time.Millisecond):
			case <-a.closed:
				return
			}
		case a.peer(c):
			q := &questions{a: a, conn: c, in: bufio.NewReaderSize(c, maxHeader+4096)}
			a.mu.Lock()
			a.conns[q] = true
			a.mu.Unlock()
			go q.serve()
		default:
			a.hand(c)
		}
	}
}

// hand hands a connection on to the server.
func (a *asking) hand(c net.Conn) {
	select {
	case a.others <- c:
	case <-a.closed:
		c.Close()
	}
}

// Accept returns the next connection for the server.
func (a *asking) Accept() (net.Conn, error) {
	select {
	case c := <-a.others:
		return c, nil
	case <-a.closed:
		return nil, net.ErrClosed
	}
}

// Close takes no more connections, and ends those on which nothing is asked at the moment.
func (a *asking) Close() error {
	a.last.Store(true)
	err := a.Listener.Close()
	a.idle()
	return err
}

// idle ends the connections on which nothing is asked at the moment.
func (a *asking) idle() {
	a.mu.Lock()
	defer a.mu.Unlock()
	for q := range a.conns {
		if q.waits.Load() {
			q.conn.SetReadDeadline(time.Now())
		}
	}
}

// Questions are a connection on which questions are asked.
type questions struct {
	a     *asking
	conn  net.Conn
	in    *bufio.Reader
	waits atomic.Bool // for the next question

	blank  *http.Request // what is the same of all
	head   bytes.Reader  // of a question
	text   *bufio.Reader
	answer plainAnswer
}

// serve answers questions until the connection is over, or belongs to the server.
func (q *questions) serve() {
	a, handed := q.a, false
	defer func() {
		if wrong := recover(); wrong != nil && wrong != http.ErrAbortHandler {
			a.log.Error("a question could not be answered", "error", wrong, "stack", string(debug.Stack()))
		}
		a.mu.Lock()
		delete(a.conns, q)
		a.mu.Unlock()
		if !handed {
			q.conn.Close()
		}
	}()
	q.blank = (&http.Request{
		Method: http.MethodGet, ProtoMajor: 1, Body: http.NoBody, RemoteAddr: q.conn.RemoteAddr().String(),
	}).WithContext(a.base(q.conn))
	q.text = bufio.NewReader(&q.head)
	for patience := firstQuestion; ; patience = nextQuestion {
		q.waits.Store(true)
		q.conn.SetReadDeadline(time.Now().Add(patience))
		if a.last.Load() && patience == nextQuestion {
			return
		}
		begins, err := q.in.Peek(len(a.at) + 1)
		q.waits.Store(false)
		if err != nil {
			if len(begins) > 0 && errors.Is(err, io.EOF) {
				q.refuse(http.StatusBadRequest, "it is cut off")
			}
			return
		}
		if next := begins[len(a.at)]; !bytes.HasPrefix(begins, a.at) || next != ' ' && next != '?' {
			q.conn.SetReadDeadline(time.Time{})
			handed = true
			a.hand(&begun{q.conn, q.in})
			return
		}
		r, wrong := q.read()
		if wrong != "" {
			status := http.StatusBadRequest
			if wrong == tooLong {
				status = http.StatusRequestHeaderFieldsTooLarge
			}
			q.refuse(status, wrong)
			return
		}
		if r == nil {
			return
		}
		q.answer.reset(r.Close || a.last.Load())
		a.handler.ServeHTTP(&q.answer, r)
		if _, err := q.conn.Write(q.answer.whole()); err != nil || q.answer.last {
			return
		}
	}
}

// read reads a question; nil if it does not come, or what is wrong with it.
func (q *questions) read() (r *http.Request, wrong string) {
	q.conn.SetReadDeadline(time.Now().Add(firstQuestion))
	for {
		read, _ := q.in.Peek(q.in.Buffered())
		end, err := readHead(read)
		if errors.Is(err, errNoHead) {
			if len(read) >= maxHeader {
				return nil, tooLong
			}
			if _, err := q.in.Peek(len(read) + 1); errors.Is(err, io.EOF) {
				return nil, "it is cut off"
			} else if err != nil {
				return nil, ""
			}
			continue
		}
		if err != nil {
			return nil, err.Error()
		}
		r, wrong := q.parse(read[:end])
		q.in.Discard(end)
		return r, wrong
	}
}

// parse makes a request of a head that readHead has found to be one (RFC 9112, sections 3 and 5). It begins as a question does.
func (q *questions) parse(head []byte) (r *http.Request, wrong string) {
	const malformed = "its header is malformed"
	line, fields, _ := bytes.Cut(head, []byte("\n"))
	target, version, ok := strings.Cut(strings.TrimPrefix(strings.TrimSuffix(string(line), "\r"), "GET "), " ")
	if !ok || version != "HTTP/1.1" && version != "HTTP/1.0" || strings.Trim(target, plainTarget) != "" {
		return nil, malformed
	}
	q.head.Reset(fields)
	q.text.Reset(&q.head)
	header, err := textproto.NewReader(q.text).ReadMIMEHeader()
	if err != nil {
		return nil, malformed
	}
	r = new(http.Request)
	*r = *q.blank
	r.Header, r.RequestURI, r.Proto, r.ProtoMinor = http.Header(header), target, version, int(version[7]-'0')
	r.URL = &url.URL{}
	r.URL.Path, r.URL.RawQuery, _ = strings.Cut(target, "?")
	for name, values := range r.Header {
		for _, value := range values {
			if !httpguts.ValidHeaderFieldName(name) || !httpguts.ValidHeaderFieldValue(value) {
				return nil, malformed
			}
		}
	}
	if length := r.Header["Content-Length"]; len(length) > 0 && (len(length) > 1 || length[0] != "0") ||
		len(r.Header["Transfer-Encoding"]) > 0 {
		return nil, "it has a body"
	}
	r.Host = r.Header.Get("Host")
	if delete(r.Header, "Host"); !httpguts.ValidHostHeader(r.Host) || r.Host == "" && r.ProtoMinor > 0 {
		return nil, "it names no host"
	}
	r.Close = r.ProtoMinor == 0 || httpguts.HeaderValuesContainsToken(r.Header["Connection"], "close")
	return r, ""
}

// plainTarget are the characters that the address of a question may have.
const plainTarget = "ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789-._~/?&=:%"

const tooLong = "its header is too long"

// refuse answers what cannot be read, and nothing after it is.
func (q *questions) refuse(status int, why string) {
	q.answer.reset(true)
	q.answer.Header().Set("Cache-Control", "no-store")
	http.Error(&q.answer, "The request cannot be read without guessing: "+why+".", status)
	q.conn.Write(q.answer.whole())
}

// begun is a connection of which something was read already.
type begun struct {
	net.Conn
	in *bufio.Reader
}

func (c *begun) Read(p []byte) (int, error) { return c.in.Read(p) }

// ReadFrom has the system copy files, where it can.
func (c *begun) ReadFrom(from io.Reader) (int64, error) {
	if to, ok := c.Conn.(io.ReaderFrom); ok {
		return to.ReadFrom(from)
	}
	return io.Copy(struct{ io.Writer }{c.Conn}, from)
}

// CloseWrite tells the other end that nothing more is written.
func (c *begun) CloseWrite() error {
	if half, ok := c.Conn.(interface{ CloseWrite() error }); ok {
		return half.CloseWrite()
	}
	return nil
}

// NetConn returns the connection within, as that of package tls does.
func (c *begun) NetConn() net.Conn { return c.Conn }

// A plainAnswer is an answer that is written in one piece.
type plainAnswer struct {
	header http.Header
	status int
	body   bytes.Buffer
	last   bool // nothing is asked after it
	text   []byte
}

func (w *plainAnswer) reset(last bool) {
	if w.header == nil {
		w.header = http.Header{}
	}
	clear(w.header)
	w.body.Reset()
	w.status, w.last = 0, last
}

// Header is for http.ResponseWriter.
func (w *plainAnswer) Header() http.Header { return w.header }

// WriteHeader is for http.ResponseWriter.
func (w *plainAnswer) WriteHeader(status int) {
	if w.status == 0 && status >= 200 {
		w.status = status
	}
}

// Write is for http.ResponseWriter.
func (w *plainAnswer) Write(p []byte) (int, error) {
	w.WriteHeader(http.StatusOK)
	return w.body.Write(p)
}

// Flush is for http.Flusher: it is written when it is whole.
func (w *plainAnswer) Flush() {}

// whole returns the answer as it is sent.
func (w *plainAnswer) whole() []byte {
	if w.status == 0 {
		w.status = http.StatusOK
	}
	b := append(w.text[:0], "HTTP/1.1 "...)
	b = strconv.AppendInt(b, int64(w.status), 10)
	b = append(append(append(b, ' '), http.StatusText(w.status)...), "\r\n"...)
	if w.body.Len() > 0 && w.header["Content-Type"] == nil {
		w.header.Set("Content-Type", http.DetectContentType(w.body.Bytes()))
	}
	for name, values := range w.header {
		switch name {
		case "Content-Length", "Transfer-Encoding", "Date":
			continue
		case "Connection":
			w.last = true // nothing else is said of it
			continue
		}
		if !httpguts.ValidHeaderFieldName(name) {
			continue
		}
		for _, value := range values {
			b = append(append(b, name...), ": "...)
			for i := 0; i < len(value); i++ {
				c := value[i]
				if c == '\r' || c == '\n' {
					c = ' ' // as net/http does
				}
				b = append(b, c)
			}
			b = append(b, "\r\n"...)
		}
	}
	b = append(append(append(b, "Date: "...), dateNow()...), "\r\n"...)
	if w.status != http.StatusNoContent && w.status != http.StatusNotModified {
		b = append(b, "Content-Length: "...)
		b = strconv.AppendInt(b, int64(w.body.Len()), 10)
		b = append(b, "\r\n"...)
	}
	if w.last {
		b = append(b, "Connection: close\r\n"...)
	}
	b = append(append(b, "\r\n"...), w.body.Bytes()...)
	w.text = b[:0]
	return b
}

// A date is the time of a second, as a field has it (RFC 9110, section 5.6.7).
type date struct {
	second int64
	text   string
}

var dated atomic.Pointer[date]

func dateNow() string {
	now := time.Now()
	if d := dated.Load(); d != nil && d.second == now.Unix() {
		return d.text
	}
	d := &date{now.Unix(), now.UTC().Format(http.TimeFormat)}
	dated.Store(d)
	return d.text
}
