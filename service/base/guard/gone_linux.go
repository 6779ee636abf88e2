package guard

import (
	"net"
	"net/http"
	"syscall"

	"golang.org/x/sys/unix"
)

// readAhead is more than is read ahead of a connection and not handed on yet, in bytes.
const readAhead = 128 << 10

// ClientGone reports whether the client of a request has closed its connection and can send no more of the body, of which so many bytes
// are still to come; a negative number if that is not known. It reads nothing.
func ClientGone(r *http.Request, left int64) (gone bool) {
	conn, ok := r.Context().Value(connKey{}).(syscall.RawConn)
	if !ok {
		return false
	}
	conn.Control(func(fd uintptr) {
		poll := []unix.PollFd{{Fd: int32(fd), Events: unix.POLLRDHUP}}
		if n, err := unix.Poll(poll, 0); err != nil || n == 0 {
			return
		}
		if poll[0].Revents&(unix.POLLHUP|unix.POLLERR) != 0 {
			gone = true
			return
		}
		waiting, err := unix.IoctlGetInt(int(fd), unix.TIOCINQ)
		gone = err == nil && poll[0].Revents&unix.POLLRDHUP != 0 && left > int64(waiting)+readAhead
	})
	return gone
}

type connKey struct{}

// rawOf returns the connection of the system under c, nil if there is none.
func rawOf(c net.Conn) syscall.RawConn {
	for {
		switch under := c.(type) {
		case syscall.Conn:
			raw, err := under.SyscallConn()
			if err != nil {
				return nil
			}
			return raw
		case interface{ NetConn() net.Conn }:
			c = under.NetConn()
		default:
			return nil
		}
	}
}
