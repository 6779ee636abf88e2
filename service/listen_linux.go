package service

import (
	"context"
	"net"
	"syscall"
	"time"

	"golang.org/x/sys/unix"
)

// listen returns a listener whose connections end when the other end has taken nothing of what
// was sent to it for that long, so that clients who do not read hold none for ever (RFC 5482
// has this limit for TCP). It costs a request nothing: the system keeps it, and one that cannot
// does without. One that was handed over is taken before the address is.
func listen(handed *inherited, address string, untaken time.Duration) (net.Listener, error) {
	limit := func(_, _ string, c syscall.RawConn) error {
		return c.Control(func(fd uintptr) {
			unix.SetsockoptInt(int(fd), unix.IPPROTO_TCP, unix.TCP_USER_TIMEOUT, int(untaken.Milliseconds()))
		})
	}
	if l := handed.take(address); l != nil {
		if conn, ok := l.(syscall.Conn); ok {
			if raw, err := conn.SyscallConn(); err == nil {
				limit("", "", raw)
			}
		}
		return l, nil
	}
	limits := net.ListenConfig{Control: limit}
	limits.SetMultipathTCP(false) // which does not know the limit
	return limits.Listen(context.Background(), "tcp", address)
}
