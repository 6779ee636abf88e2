package source

import (
	"fmt"
	"slices"
	"sync"
	"testing"

	"ostiarius/core/place"
)

// What was seen is told, the newest thousand at least and two thousand at most, and nothing that could be a secret.
func TestSeen(t *testing.T) {
	var s Seen
	if got := s.Places(); len(got) != 0 {
		t.Errorf("%v", got)
	}
	for _, path := range []string{"/", "/b", "/a", "/b", "/reset/4f1d9a0c77e2b8d3", "/reset/aGVsbGZgdabcybGQgaGVsbGxgdabcybGQ",
		"/reset/550e8400-e29b-41d4-a716-446655440000", "/tour-of-the-lamp-room-in-2026", "/photo_20261125_1.jpg",
		"/a/" + string(make([]byte, 300))} {
		s.note(place.Place{Path: path, Slash: path == "/b"})
	}
	var paths []string
	for _, p := range s.Places() {
		paths = append(paths, p.Path)
		if p.Slash != (p.Path == "/b") {
			t.Errorf("%+v", p)
		}
	}
	if !slices.Equal(paths, []string{"/", "/a", "/b", "/photo_20261125_1.jpg", "/tour-of-the-lamp-room-in-2026"}) {
		t.Errorf("%q", paths)
	}
	var all sync.WaitGroup
	for turn := range 4 {
		all.Go(func() {
			for i := range 3000 {
				s.note(place.Place{Path: fmt.Sprintf("/%d/%d", turn, i)})
				if i%1000 == 0 {
					s.Places()
				}
			}
		})
	}
	all.Wait()
	if n := len(s.Places()); n < mostSeen || n > 2*mostSeen {
		t.Errorf("%d are remembered", n)
	}
}
