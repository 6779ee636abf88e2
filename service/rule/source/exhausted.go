package source

import (
	"errors"
	"net/http"
	"syscall"
)

// exhausted reports whether the system had no room to look: that says nothing of what is there.
func exhausted(err error) bool {
	for _, none := range []error{syscall.EMFILE, syscall.ENFILE, syscall.ENOMEM, syscall.ENOBUFS, syscall.EAGAIN, syscall.EIO} {
		if errors.Is(err, none) {
			return true
		}
	}
	return false
}

// Spent is what is done when the system has no room.
type Spent struct {
	Shed   func()                                                   // lets go of what nobody uses
	Answer func(w http.ResponseWriter, r *http.Request, status int) // says that it does not work now
}

func (s *Spent) shed() {
	if s != nil && s.Shed != nil {
		s.Shed()
	}
}

func (s *Spent) answer(w http.ResponseWriter, r *http.Request) {
	w.Header().Set("Retry-After", "2")
	w.Header().Set("Cache-Control", "no-store")
	if s == nil || s.Answer == nil {
		http.Error(w, "There is no room at the moment. Please try again.", http.StatusServiceUnavailable)
		return
	}
	s.Answer(w, r, http.StatusServiceUnavailable)
}
