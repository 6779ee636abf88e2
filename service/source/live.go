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
	var used func() bool
	kind, _, _ := strings.Cut(resp.Header.Get("Content-Type"), ";")
	switch conn, _ := resp.Body.(io.ReadWriteCloser); {
	case resp.StatusCode == http.StatusSwitchingProtocols && conn != nil:
		noted := &notedConn{ReadWriteCloser: conn}
		resp.Body, used = noted, func() bool { return noted.written.Swap(false) }
	case strings.EqualFold(strings.TrimSpace(kind), "text/event-stream"):
		used = func() bool { return false }
	default:
		return
	}
	ctx, body := resp.Request.Context(), resp.Body
	go func() {
		ticker := time.NewTicker(liveCheck)
		defer ticker.Stop()
		for {
			select {
			case <-ctx.Done():
				return
			case <-ticker.C:
				if !still(ctx, used()) {
					body.Close()
					return
				}
			}
		}
	}()
}

// notedConn is a connection to a server behind that notes whether something is written to it.
type notedConn struct {
	io.ReadWriteCloser
	written atomic.Bool
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
