//go:build !linux

package service

import (
	"net"
	"time"
)

// listen returns a listener. How long a client may take nothing is the system's business here.
func listen(address string, _ time.Duration) (net.Listener, error) {
	return net.Listen("tcp", address)
}
