package guard

import (
	"io"
	"net/http"
	"time"
)

// The longest time that a client may send nothing of a body that it has announced.
const usualBodyIdle = 30 * time.Second

// endsConnection reports whether a request must be the last on its connection, because a
// server in front may see another end of it than we do: one with a transfer coding, of which
// net/http does not tell whether it had a Content-Length too, and one of HTTP/1.0, of which it
// does not tell whether it had a coding (RFC 9112, section 6.1: such a connection must be
// closed after the answer). What then looks like a next request is not read.
func endsConnection(r *http.Request) bool {
	return r.ProtoMajor == 1 && (r.ContentLength < 0 || r.ProtoMinor == 0)
}

// impatient is a body whose reading fails when nothing comes for a while, so that a slow
// client does not hold a connection for ever. However long a body takes as a whole, it may
// come.
type impatient struct {
	io.ReadCloser
	conn *http.ResponseController
	idle time.Duration
}

func (b *impatient) Read(p []byte) (int, error) {
	b.conn.SetReadDeadline(time.Now().Add(b.idle))
	n, err := b.ReadCloser.Read(p)
	if err != nil {
		// The body is over. What is read from now on is the next request; to wait for that is
		// the server's business.
		b.conn.SetReadDeadline(time.Time{})
	}
	return n, err
}
