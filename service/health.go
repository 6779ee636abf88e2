package service

import (
	"context"
	"encoding/json"
	"net/http"
	"sync"
	"time"

	"ostiarius/service/base/guard"
)

// health says how the service is, to anybody: without paths, names or the texts of errors.
func (s *Service) health(w http.ResponseWriter, r *http.Request) {
	health := struct {
		Status string     `json:"status"` // "ok" or "degraded"
		Reason string     `json:"reason,omitempty"`
		Since  *time.Time `json:"since,omitempty"`
	}{Status: "ok"}
	if p := s.policy.Pending(); p != nil && p.Stuck {
		health.Status, health.Reason, health.Since = "degraded", "the policy file is not in force", &p.Since
	}
	w.Header().Set("Content-Type", "application/json")
	w.Header().Set("Cache-Control", "no-store")
	json.NewEncoder(w).Encode(health)
}

// live says that the process answers, to whatever starts it again if it does not.
func (s *Service) live(w http.ResponseWriter, _ *http.Request) { sayReady(w, true) }

// readyNow says whether requests may be led here: the records can be read, and the service does not stop.
func (s *Service) readyNow(w http.ResponseWriter, r *http.Request) {
	sayReady(w, !s.stopping.Load() && s.ready.ask(time.Now(), func() bool {
		ctx, done := context.WithTimeout(context.WithoutCancel(r.Context()), readWithin)
		defer done()
		return s.store.Ping(ctx) == nil
	}))
}

func sayReady(w http.ResponseWriter, ready bool) {
	w.Header().Set("Content-Type", "application/json")
	w.Header().Set("Cache-Control", "no-store")
	status := "ok"
	if !ready {
		status = "not ready"
		w.WriteHeader(http.StatusServiceUnavailable)
	}
	json.NewEncoder(w).Encode(map[string]string{"status": status})
}

// How long the records may take to be read, and for how long what came of it holds: anybody may ask.
const (
	readWithin = 2 * time.Second
	readyFor   = time.Second
)

// readiness is what was last found. The zero readiness is that nothing was.
type readiness struct {
	mu    sync.Mutex
	at    time.Time
	ready bool
}

func (r *readiness) ask(now time.Time, look func() bool) bool {
	r.mu.Lock()
	defer r.mu.Unlock()
	if d := now.Sub(r.at); d <= -readyFor || d >= readyFor {
		r.ready = look()
		r.at = now
	}
	return r.ready
}

// doorOf is the door that decided, as it is written; "" if none did.
func doorOf(t *guard.Turn) string {
	if t.Door == nil {
		return ""
	}
	return t.Door.Written
}
