package service

import (
	"context"
	"net/http"

	"ostiarius/service/base/guard"
)

type inPlace struct{}

// inPlace answers with a page of the site, and with a status, where there is something else to say: nothing of the request
// but where it came from is asked for. It reports whether it did; it does not while it is at that already, since the page
// may not be there either.
func (s *Service) inPlace(w http.ResponseWriter, r *http.Request, page string, status int) bool {
	if r.Context().Value(inPlace{}) != nil {
		return false
	}
	house := s.policy.House()
	ask, err := guard.Instead(context.WithValue(r.Context(), inPlace{}, true), r, house.Book, page)
	if err != nil {
		return false
	}
	house.Site.ServeHTTP(&withStatus{ResponseWriter: w, status: status}, ask)
	return true
}

// withStatus answers what was found with another status.
type withStatus struct {
	http.ResponseWriter
	status int
	told   bool
}

func (w *withStatus) WriteHeader(status int) {
	if status >= 100 && status < 200 {
		w.ResponseWriter.WriteHeader(status)
		return
	}
	if status == http.StatusOK {
		h := w.Header()
		for _, field := range []string{"Etag", "Last-Modified", "Accept-Ranges"} { // of the page, which has another address
			h.Del(field)
		}
		h.Set("Cache-Control", "private, no-store")
		status = w.status
	}
	w.told = true
	w.ResponseWriter.WriteHeader(status)
}

func (w *withStatus) Write(text []byte) (int, error) {
	if !w.told {
		w.WriteHeader(http.StatusOK)
	}
	return w.ResponseWriter.Write(text)
}

// Unwrap is for http.ResponseController.
func (w *withStatus) Unwrap() http.ResponseWriter { return w.ResponseWriter }
