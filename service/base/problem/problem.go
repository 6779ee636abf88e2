// Package problem answers programs with what is wrong (RFC 9457).
package problem

import (
	"encoding/json"
	"net/http"

	"ostiarius/client"
)

// Write answers with p, whose type and title it sets. Nothing of it is stored by caches.
func Write(w http.ResponseWriter, p client.Problem) {
	p.Type, p.Title = "about:blank", http.StatusText(p.Status)
	h := w.Header()
	h.Set("Content-Type", "application/problem+json")
	h.Set("Cache-Control", "private, no-store")
	h.Set("X-Content-Type-Options", "nosniff")
	w.WriteHeader(p.Status)
	json.NewEncoder(w).Encode(p)
}
