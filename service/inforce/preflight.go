package inforce

import (
	"net/http"
	"strings"

	"ostiarius/core/policy"
	"ostiarius/service/guard"
)

// Preflight answers the question of a browser whether a script of another origin may send a request (Fetch standard, section 3.3.6),
// where signing in is asked for, and reports whether it did. Browsers send it without credentials, so nobody could ever be admitted with
// it; and the server behind alone knows whose scripts it talks to.
//
// The server gets the address, the origin and what it is asked for, and nothing else of the request. Of its answer the visitor gets the
// fields that this is about, and nothing else.
func (p *Policy) Preflight(w http.ResponseWriter, r *http.Request, away *guard.TurnedAway) bool {
	if r.Method != http.MethodOptions || r.Header.Get("Origin") == "" || r.Header.Get("Access-Control-Request-Method") == "" ||
		away.Decision.Outcome != policy.Challenge || away.Walk != nil {
		return false
	}
	handler, _ := p.server(p.House(), away)
	if handler == nil {
		return false
	}
	ask, err := guard.Instead(r.Context(), r, away.Book, away.Address)
	if err != nil {
		return false
	}
	ask.Method, ask.Header, ask.URL.RawQuery = http.MethodOptions, http.Header{}, ""
	for _, name := range []string{"Origin", "Access-Control-Request-Method", "Access-Control-Request-Headers"} {
		if values, is := r.Header[name]; is {
			ask.Header[name] = values
		}
	}
	t := guard.TurnOf(ask)
	t.Place, t.Door, t.Public, t.Visitor.From = away.Place, away.Door, false, away.Visitor.From
	told := &heard{header: http.Header{}}
	handler.ServeHTTP(told, ask)
	if told.status < 200 || told.status > 299 {
		return false
	}
	for name, values := range told.header {
		if strings.HasPrefix(name, "Access-Control-") || name == "Vary" {
			w.Header()[name] = values
		}
	}
	w.WriteHeader(http.StatusNoContent)
	return true
}

// heard is an answer of which nothing but its head is kept.
type heard struct {
	header http.Header
	status int
}

func (h *heard) Header() http.Header { return h.header }

func (h *heard) WriteHeader(status int) {
	if h.status == 0 && status >= 200 {
		h.status = status
	}
}

func (h *heard) Write(b []byte) (int, error) {
	h.WriteHeader(http.StatusOK)
	return len(b), nil
}
