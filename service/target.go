package service

import (
	"net/http"
	"time"
)

// HTTP/2 has no request line, so what stands in :path is not read as one; a server behind would read it so. What could not stand in
// a request line is refused, and so is a request that names two hosts (RFC 9113, sections 8.1.1 and 8.3.1).
func wrongTarget(r *http.Request) string {
	target := r.RequestURI
	for i := 0; i < len(target); i++ {
		if c := target[i]; c <= ' ' || c == '#' || c == 0x7f || c >= 0x80 && r.ProtoMajor > 1 {
			return "its address has characters that must be percent-encoded"
		}
	}
	if r.ProtoMajor < 2 {
		return ""
	}
	if r.Method != http.MethodConnect && target != "*" && (target == "" || target[0] != '/') {
		return "its :path is none"
	}
	for _, host := range r.Header["Host"] {
		if host != r.Host {
			return "it names two hosts"
		}
	}
	return ""
}

// A stream is the ResponseWriter of a request of HTTP/2, whose connection may be alive while nothing is taken of this one answer.
// It is hung up on then.
type stream struct {
	http.ResponseWriter
	conn  *http.ResponseController
	since time.Time // when the limit was set
}

// How long a client may take nothing of a stream. The limit is set anew while it gets on, but not with each piece.
var streamUntaken = mostUntaken

func (s *stream) Write(p []byte) (int, error) {
	s.limit()
	return s.ResponseWriter.Write(p)
}

func (s *stream) limit() {
	if now := time.Now(); now.Sub(s.since) > streamUntaken/24 {
		s.since = now
		s.conn.SetWriteDeadline(now.Add(streamUntaken))
	}
}

// FlushError is for http.ResponseController.
func (s *stream) FlushError() error {
	s.limit()
	return s.conn.Flush()
}

// Flush is for http.Flusher.
func (s *stream) Flush() { s.FlushError() }

// Unwrap is for http.ResponseController.
func (s *stream) Unwrap() http.ResponseWriter { return s.ResponseWriter }
