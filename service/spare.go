package service

import (
	"errors"
	"io"
	"log/slog"
	"net"
	"net/http"
	"os"
	"sync"
	"syscall"
	"time"
)

// When the process has as many files and connections open as the system allows, no more connections can be taken. A spare keeps one
// descriptor, which is lent to tell whoever comes then that there is no room, and lets go of connections that nobody uses at the
// moment.
type spare struct {
	mu   sync.Mutex
	file *os.File
	log  *slog.Logger

	shedMu  sync.Mutex
	shedAt  time.Time
	servers []*http.Server
	behind  func() // closes idle connections to servers behind
}

func newSpare(log *slog.Logger, behind func()) *spare {
	s := &spare{log: log, behind: behind}
	s.keep()
	return s
}

func (s *spare) keep() {
	if s.file == nil {
		s.file, _ = os.Open(os.DevNull)
	}
}

// serves says whose idle connections may be closed.
func (s *spare) serves(server *http.Server) {
	s.shedMu.Lock()
	defer s.shedMu.Unlock()
	s.servers = append(s.servers, server)
}

// The shortest time between two times of letting go.
const shedEvery = 50 * time.Millisecond

// shed closes all connections that are idle, unless that was done a moment ago: then it returns false.
func (s *spare) shed() bool {
	s.shedMu.Lock()
	defer s.shedMu.Unlock()
	if time.Since(s.shedAt) < shedEvery {
		return false
	}
	if time.Since(s.shedAt) > time.Minute {
		s.log.Error("as many files and connections are open as the system allows; idle ones are closed, and who comes meanwhile is told to "+
			"try again", "open files", openFiles())
	}
	s.shedAt = time.Now()
	s.behind()
	for _, server := range s.servers {
		server.SetKeepAlivesEnabled(false) // closes those that are idle
		server.SetKeepAlivesEnabled(true)
	}
	return true
}

// isSpent reports whether an error says that no more may be open.
func isSpent(err error) bool {
	return errors.Is(err, syscall.EMFILE) || errors.Is(err, syscall.ENFILE) || errors.Is(err, syscall.ENOBUFS) ||
		errors.Is(err, syscall.ENOMEM)
}

const noRoom = "HTTP/1.1 503 Service Unavailable\r\nRetry-After: 2\r\nCache-Control: no-store\r\nConnection: close\r\nContent-Type: " +
	"text/plain; charset=utf-8\r\nContent-Length: 51\r\n\r\nToo much is open at the moment. Please try again.\r\n"

// turnAway takes the connection that waits longest, if there is one, tells it that there is no room, and closes it. With speaks, it
// can be told in HTTP.
func (s *spare) turnAway(l net.Listener, speaks bool) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.file != nil {
		s.file.Close()
		s.file = nil
	}
	defer s.keep()
	const moment = 20 * time.Millisecond
	if until, ok := l.(interface{ SetDeadline(time.Time) error }); ok {
		until.SetDeadline(time.Now().Add(moment))
		defer until.SetDeadline(time.Time{})
	}
	c, err := l.Accept()
	if err != nil {
		return
	}
	defer c.Close()
	if speaks {
		c.SetDeadline(time.Now().Add(moment))
		io.WriteString(c, noRoom)
		if half, ok := c.(interface{ CloseWrite() error }); ok {
			half.CloseWrite()
		}
		io.CopyN(io.Discard, c, 64<<10) // what came and was not read would take the answer back
	}
}
