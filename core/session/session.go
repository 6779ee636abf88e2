// Package session holds the rules of sessions: how long they last.
package session

import (
	"encoding/hex"
	"slices"
	"strings"
	"time"

	"ostiarius/core/secret"
)

// A Session is one sign-in on one device.
type Session struct {
	Hash       secret.TokenHash // of the token in the cookie
	Account    int64
	MadeAt     time.Time
	SeenAt     time.Time // of the latest request, roughly
	ProvedAt   time.Time // when the password was last typed
	Remembered bool      // the person asked to stay signed in
	Network    string    // from where it was made
	Agent      string    // the browser's own words about itself
	Rights     string    // the roles for which the token was made, see Rights
}

// Handle names a session without giving it away: nobody can make the token, or its hash,
// of it.
func (s *Session) Handle() string { return hex.EncodeToString(s.Hash[:10]) }

// Rights writes roles in one form, to see whether they have changed.
func Rights(roles []string) string { return strings.Join(slices.Sorted(slices.Values(roles)), " ") }

// Limits say how long sessions last. Zero is no end.
type Limits struct {
	Idle       time.Duration
	Lifetime   time.Duration
	Remembered time.Duration
}

// Term returns how long the session holds: until when whatever happens, zero for no end, and
// how long without being used, 0 for no limit. A remembered session ends when it is old, not
// when it is idle.
func (s *Session) Term(l Limits) (until time.Time, idle time.Duration) {
	longest := l.Lifetime
	if idle = l.Idle; s.Remembered {
		longest, idle = l.Remembered, 0
	}
	if longest != 0 {
		until = s.MadeAt.Add(longest)
	}
	return until, idle
}

// Alive reports whether the session still holds at the time now, when it was last used at
// the time seen. A clock that went back ends nothing.
func (s *Session) Alive(now, seen time.Time, l Limits) bool {
	until, idle := s.Term(l)
	return (until.IsZero() || now.Before(until)) && (idle == 0 || now.Sub(seen) < idle)
}

// ProofAge returns how long ago the password was typed. A clock that went back makes it
// zero, not negative.
func (s *Session) ProofAge(now time.Time) time.Duration {
	return max(0, now.Sub(s.ProvedAt))
}
