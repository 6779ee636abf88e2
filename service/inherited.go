package service

import (
	"fmt"
	"net"
	"os"
	"slices"
	"strconv"
	"syscall"
)

// The system's service manager can hold the sockets on which the service listens, and hand them over at each start
// (sd_listen_fds(3): LISTEN_PID and LISTEN_FDS). Who connects while the service is started anew then waits for a moment, and is not
// refused.

// inherited are the sockets that were handed over and are not taken yet.
type inherited struct{ listeners []net.Listener }

// firstInherited is the number of the first of them.
const firstInherited = 3

// inherit takes what was handed over to this process. What was meant for another process, or is not for TCP, is left.
func inherit() (*inherited, error) {
	defer func() {
		for _, name := range []string{"LISTEN_PID", "LISTEN_FDS", "LISTEN_FDNAMES"} { // not for processes that this one starts
			os.Unsetenv(name)
		}
	}()
	all := &inherited{}
	if pid, err := strconv.Atoi(os.Getenv("LISTEN_PID")); err != nil || pid != os.Getpid() {
		return all, nil
	}
	n, err := strconv.Atoi(os.Getenv("LISTEN_FDS"))
	if err != nil || n < 0 || n > 100 {
		return all, fmt.Errorf("LISTEN_FDS is %q, and should say how many sockets are handed over", os.Getenv("LISTEN_FDS"))
	}
	for fd := firstInherited; fd < firstInherited+n; fd++ {
		syscall.CloseOnExec(fd)
		file := os.NewFile(uintptr(fd), "inherited")
		l, err := net.FileListener(file)
		file.Close()
		if err != nil {
			return all, fmt.Errorf("socket %d that was handed over cannot be listened on: %w", fd, err)
		}
		if unix, is := l.(*net.UnixListener); is {
			unix.SetUnlinkOnClose(false)
		}
		all.listeners = append(all.listeners, l)
	}
	return all, nil
}

// take returns the socket that was handed over for an address, nil if there is none.
func (i *inherited) take(address string) net.Listener {
	if i == nil {
		return nil
	}
	for at, l := range i.listeners {
		if isAddress(address, l.Addr()) {
			i.listeners = slices.Delete(i.listeners, at, at+1)
			return l
		}
	}
	return nil
}

// left returns the sockets that were not taken.
func (i *inherited) left() []net.Listener {
	if i == nil {
		return nil
	}
	return i.listeners
}

// isAddress reports whether a socket is at the address HOST:PORT.
func isAddress(address string, at net.Addr) bool {
	tcp, ok := at.(*net.TCPAddr)
	host, port, err := net.SplitHostPort(address)
	if !ok || err != nil {
		return false
	}
	if number, err := net.LookupPort("tcp", port); err != nil || number != tcp.Port || number == 0 {
		return false
	}
	if host == "" {
		return tcp.IP.IsUnspecified()
	}
	if ip := net.ParseIP(host); ip != nil {
		return ip.Equal(tcp.IP) || ip.IsUnspecified() && tcp.IP.IsUnspecified()
	}
	addresses, err := net.LookupHost(host)
	return err == nil && slices.Contains(addresses, tcp.IP.String())
}
