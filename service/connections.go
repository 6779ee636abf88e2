package service

import (
	"io"
	"net"
	"sync"
	"sync/atomic"

	"ostiarius/core/throttle"
	"ostiarius/service/base/guard"
)

// How many connections there may be: in all, and of one network a quarter of that, so that
// there is room for others whatever one network does. Declared peers stand for many clients and
// are bounded only with all. Of requests whose bodies have not come yet there may be a quarter as
// many, and of one network a quarter of that.
const (
	usualConnections = 8192
	shareOfNetwork   = 4
	shareOfBodies    = 4
)

// A boundListener takes no more connections than there is room for. One too many is closed at
// once, before a byte of it is read.
type boundListener struct {
	net.Listener
	bound *throttle.Bound
	front *guard.Front
	spare *spare
	plain bool          // HTTP is spoken on its connections, without TLS
	open  *atomic.Int64 // connections that are being taken, or were taken and are not closed
}

func (l boundListener) Accept() (net.Conn, error) {
	l.open.Add(1) // before it is taken: a service that ends must not overlook one that comes at that moment
	for {
		c, err := l.Listener.Accept()
		if isSpent(err) {
			if !l.spare.shed() {
				l.spare.turnAway(l.Listener, l.plain)
			}
			continue
		}
		if err != nil {
			l.open.Add(-1)
			return nil, err
		}
		from := guard.PeerOf(c)
		network := throttle.NetworkOf(from)
		if !l.bound.Take(network, l.front.Trusts(from)) {
			c.Close()
			continue
		}
		return &boundConn{Conn: c, give: sync.OnceFunc(func() {
			l.bound.Give(network)
			l.open.Add(-1)
		})}, nil
	}
}

// A boundConn gives its place back when it is closed.
type boundConn struct {
	net.Conn
	give func()
}

func (c *boundConn) Close() error {
	defer c.give()
	return c.Conn.Close()
}

// NetConn returns the connection within, as that of package tls does.
func (c *boundConn) NetConn() net.Conn { return c.Conn }

// ReadFrom has the system copy files, where it can.
func (c *boundConn) ReadFrom(from io.Reader) (int64, error) {
	if to, ok := c.Conn.(io.ReaderFrom); ok {
		return to.ReadFrom(from)
	}
	return io.Copy(struct{ io.Writer }{c.Conn}, from)
}

// CloseWrite tells the other end that nothing more is written.
func (c *boundConn) CloseWrite() error {
	if half, ok := c.Conn.(interface{ CloseWrite() error }); ok {
		return half.CloseWrite()
	}
	return nil
}
