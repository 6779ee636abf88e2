//go:build !linux

package guard

import (
	"net"
	"net/http"
	"syscall"
)

// ClientGone is not known here: what stalls ends with the limit of the server behind.
func ClientGone(*http.Request, int64) bool { return false }

type connKey struct{}

func rawOf(net.Conn) syscall.RawConn { return nil }
