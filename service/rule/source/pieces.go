package source

import (
	"errors"
	"io"
	"net/http"
	"time"
)

// A client of HTTP/2 has many requests on one connection, and may take nothing of an answer for as long as it likes.
// What waits then must be little: a piece of the answer, and no open file.

// pieceSize is how much of an answer is read before it can be sent, in bytes.
const pieceSize = 8 << 10

// inPieces has an answer copied with a small buffer.
type inPieces struct{ http.ResponseWriter }

// ReadFrom copies in pieces.
func (w inPieces) ReadFrom(from io.Reader) (int64, error) {
	return io.CopyBuffer(struct{ io.Writer }{w.ResponseWriter}, struct{ io.Reader }{from}, make([]byte, pieceSize))
}

// Unwrap is for http.ResponseController.
func (w inPieces) Unwrap() http.ResponseWriter { return w.ResponseWriter }

// pieces are the buffers of answers that are handed on in pieces. Each serves one answer: a writer of HTTP/2 that has
// failed may still use it.
type pieces struct{}

func (pieces) Get() []byte { return make([]byte, pieceSize) }
func (pieces) Put([]byte)  {}

// errChanged says that a file has changed while it was sent.
var errChanged = errors.New("the file has changed while it was sent")

// A reopened file is open only while a piece of it is read.
type reopened struct {
	open     func() (*opened, error)
	modified time.Time
	size, at int64
}

// reopen closes a file, and returns what reads it anew.
func (f *Files) reopen(name string, file *opened) (io.ReadSeeker, error) {
	if f.fold {
		real, err := f.realName(name)
		if err != nil {
			return nil, err
		}
		name = real
	}
	file.Close()
	return &reopened{open: func() (*opened, error) {
		if f.fold {
			return f.root.open(name)
		}
		return f.open(name)
	}, modified: file.modified, size: file.size}, nil
}

func (r *reopened) Read(b []byte) (n int, err error) {
	if r.at >= r.size {
		return 0, io.EOF
	}
	file, err := r.open()
	if err != nil {
		return 0, err
	}
	defer file.Close()
	if !file.modified.Equal(r.modified) || file.size != r.size {
		return 0, errChanged
	}
	if _, err := file.Seek(r.at, io.SeekStart); err != nil {
		return 0, err
	}
	n, err = file.Read(b[:min(len(b), pieceSize)])
	r.at += int64(n)
	return n, err
}

// Seek is for io.Seeker.
func (r *reopened) Seek(offset int64, whence int) (int64, error) {
	switch whence {
	case io.SeekCurrent:
		offset += r.at
	case io.SeekEnd:
		offset += r.size
	}
	if offset < 0 {
		return 0, errors.New("a place before the file")
	}
	r.at = offset
	return offset, nil
}
