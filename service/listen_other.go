//go:build !linux

package service

import (
	"net"
	"time"
)

// listen returns a listener. How long a client may take nothing is the system's business here.
func listen(handed *inherited, address string, _ time.Duration) (net.Listener, error) {
	if l := handed.take(address); l != nil {
		return l, nil
	}
	return net.Listen("tcp", address)
}
