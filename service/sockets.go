package service

import (
	"errors"
	"fmt"
	"io/fs"
	"net"
	"os"
	"path/filepath"
	"syscall"
)

// openSocket takes the socket at path. One that is left over from a process that has
// ended is replaced.
func openSocket(path string) (net.Listener, error) {
	if len(path) > 100 {
		return nil, fmt.Errorf("the path of the socket, %s, is too long for a socket; choose a shorter data directory with --data", path)
	}
	if conn, err := net.Dial("unix", path); err == nil {
		conn.Close()
		return nil, fmt.Errorf("another service is running on the data directory %s; stop it, or choose another directory with --data",
			filepath.Dir(path))
	}
	if err := os.Remove(path); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return nil, err
	}
	return listenUnix(path, 0o177)
}

// openFrontSocket takes the socket at which servers in front are. Its group may write to it as well, so that a web server under a name
// of its own can be let in.
func openFrontSocket(path string) (net.Listener, error) {
	if len(path) > 100 {
		return nil, fmt.Errorf("the path %s is too long for a socket; choose a shorter one with --front-socket", path)
	}
	info, err := os.Lstat(path)
	switch {
	case err == nil && info.Mode().Type() != fs.ModeSocket:
		return nil, fmt.Errorf("%s is there and no socket; name another file with --front-socket", path)
	case err == nil:
		if conn, err := net.Dial("unix", path); err == nil {
			conn.Close()
			return nil, fmt.Errorf("another service is running at the socket %s; stop it, or choose another with --front-socket", path)
		}
		if err := os.Remove(path); err != nil {
			return nil, err
		}
	}
	return listenUnix(path, 0o117)
}

// listenUnix makes a socket, whose file's mode is the permission from the beginning.
func listenUnix(path string, mask int) (net.Listener, error) {
	old := syscall.Umask(mask)
	defer syscall.Umask(old)
	return net.Listen("unix", path)
}
