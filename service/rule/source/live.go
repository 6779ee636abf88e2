package source

import (
	"context"
	"io"
	"net/http"
	"strings"
	"sync/atomic"
	"time"
)

// How often it is looked whether somebody would still be admitted to an answer that goes on
// and on.
const liveCheck = 2 * time.Second

// endWithAdmission sees to it that an answer that has no end, server-sent events or another
// protocol such as WebSocket, ends when its visitor would be admitted no longer: after signing
// out, when an account is disabled or loses a role, when the policy changes. Other answers,
// which are over some day, run to their end.
//
// Still gets the context of the request, and whether the client has sent anything since it was
// last asked.
func endWithAdmission(resp *http.Response, still func(ctx context.Context, used bool) bool) {
	used, after := func() bool { return false }, liveCheck
	kind, _, _ := strings.Cut(resp.Header.Get("Content-Type"), ";")
	kind = strings.ToLower(strings.TrimSpace(kind))
	switch conn, _ := resp.Body.(io.ReadWriteCloser); {
	case resp.StatusCode == http.StatusSwitchingProtocols && conn != nil:
		noted := &notedConn{ReadWriteCloser: conn}
		resp.Body, used = noted, func() bool { return noted.written.Swap(false) }
	case kind == "text/event-stream", kind == "multipart/x-mixed-replace":
	case resp.ContentLength < 0 && resp.Body != nil && resp.Body != http.NoBody:
		after = longAnswer
	default:
		return
	}
	ctx, body := resp.Request.Context(), resp.Body
	var look *time.Timer
	ready := make(chan struct{})
	look = time.AfterFunc(after, func() {
		<-ready
		if ctx.Err() != nil {
			return
		}
		if still(ctx, used()) {
			look.Reset(liveCheck)
			return
		}
		body.Close()
	})
	close(ready)
	if conn, ok := body.(*notedConn); ok {
		conn.over = look
		return
	}
	resp.Body = &timed{body, look}
}

// longAnswer is after how long an answer of unknown length is taken for one without an end.
var longAnswer = time.Minute

// timed is the body of an answer that is looked at now and then, until it is closed.
type timed struct {
	io.ReadCloser
	look *time.Timer
}

func (t *timed) Close() error {
	t.look.Stop()
	return t.ReadCloser.Close()
}

// notedConn is a connection to a server behind that notes whether something is written to it.
type notedConn struct {
	io.ReadWriteCloser
	written atomic.Bool
	over    *time.Timer // ends with it
}

// Close closes it.
func (c *notedConn) Close() error {
	c.over.Stop()
	return c.ReadWriteCloser.Close()
}

func (c *notedConn) Write(p []byte) (int, error) {
	c.written.Store(true)
	return c.ReadWriteCloser.Write(p)
}

// CloseWrite hands on that the client sends nothing more.
func (c *notedConn) CloseWrite() error {
	if half, ok := c.ReadWriteCloser.(interface{ CloseWrite() error }); ok {
		return half.CloseWrite()
	}
	return nil
}
