package source

import (
	"context"
	"errors"
	"io"
	"net/http"
	"sync/atomic"
	"time"

	"ostiarius/service/base/guard"
)

// sent is the body that a client sends, and whether it could be read.
type sent struct {
	io.ReadCloser
	bad  atomic.Bool
	read atomic.Int64 // bytes
	over atomic.Bool
}

func (s *sent) Read(p []byte) (int, error) {
	n, err := s.ReadCloser.Read(p)
	s.read.Add(int64(n))
	if err != nil {
		s.over.Store(true)
	}
	// The transport closes the body of a request that it has given up.
	if err != nil && err != io.EOF && !errors.Is(err, http.ErrBodyReadAfterClose) {
		s.bad.Store(true)
	}
	return n, err
}

// How often it is looked whether a body gets on.
var stalledCheck = 2 * time.Second

// watch looks after a request with a body: while the server behind takes nothing of it, nobody reads from the client, and so nobody
// notices that it has gone. It calls giveUp if so, or if the service stops meanwhile, and returns what ends the watch.
func (s *sent) watch(r *http.Request, stopping func() bool, giveUp context.CancelFunc) (end func()) {
	var look *time.Timer
	last, ready := int64(-1), make(chan struct{})
	look = time.AfterFunc(stalledCheck, func() {
		<-ready
		read := s.read.Load()
		if s.over.Load() || r.Context().Err() != nil {
			return
		}
		if read == last && (stopping != nil && stopping() || guard.ClientGone(r, r.ContentLength-read)) {
			giveUp()
			return
		}
		last = read
		look.Reset(stalledCheck)
	})
	close(ready)
	return func() { look.Stop() }
}
