package guard

import (
	"io"
	"net/http"
	"time"
)

// The longest time that a client may send nothing of a body that it has announced.
const usualBodyIdle = 30 * time.Second

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
