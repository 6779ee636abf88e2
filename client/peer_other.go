//go:build !linux

package client

import "net"

// trust relies on the mode of the socket's directory.
func trust(net.Conn, string) error { return nil }
