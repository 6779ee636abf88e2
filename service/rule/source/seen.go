package source

import (
	"slices"
	"strings"
	"sync"
	"unicode"

	"ostiarius/core/place"
)

// Seen remembers places that servers behind have answered for, in memory and bounded: the last thousand or
// two. Nobody knows otherwise which there are. The zero value has seen nothing.
type Seen struct {
	mu          sync.RWMutex
	now, before map[string]bool // path -> was asked for with a slash at the end
}

// Places of which as many have been seen begin to be forgotten. Longer paths are not remembered, nor those with a
// segment that could be a secret, such as that of a link that was mailed to somebody.
const (
	mostSeen    = 1000
	longestSeen = 200
)

// isTelling reports whether a path can be shown to a steward: no segment of it is as long in one piece as a token, or
// changes as often between letters and digits.
func isTelling(path string) bool {
	if len(path) > longestSeen {
		return false
	}
	for segment := range strings.SplitSeq(path, "/") {
		run, changes, before := 0, 0, false
		for i, r := range segment {
			digit := unicode.IsDigit(r)
			if !digit && !unicode.IsLetter(r) {
				run = 0
				continue
			}
			if run++; i > 0 && digit != before {
				changes++
			}
			before = digit
			if run >= 32 || changes >= 4 && len(segment) >= 12 {
				return false
			}
		}
	}
	return true
}

// note remembers a place. Most of the time it is known already, and nothing waits.
func (s *Seen) note(p place.Place) {
	s.mu.RLock()
	_, known := s.now[p.Path]
	s.mu.RUnlock()
	if known || !isTelling(p.Path) {
		return
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if len(s.now) >= mostSeen || s.now == nil {
		s.now, s.before = make(map[string]bool, mostSeen), s.now
	}
	s.now[p.Path] = p.Slash
}

// Places returns the places that were seen lately, sorted.
func (s *Seen) Places() []place.Place {
	s.mu.RLock()
	defer s.mu.RUnlock()
	var all []place.Place
	for path, slash := range s.now {
		all = append(all, place.Place{Method: "GET", Path: path, Slash: slash})
	}
	for path, slash := range s.before {
		if _, there := s.now[path]; !there {
			all = append(all, place.Place{Method: "GET", Path: path, Slash: slash})
		}
	}
	slices.SortFunc(all, func(a, b place.Place) int { return strings.Compare(a.Path, b.Path) })
	return all
}
