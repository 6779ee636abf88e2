package policy

import "time"

// Sessions say how long sessions last. Zero is no end.
type Sessions struct {
	Idle       time.Duration // without a request
	Lifetime   time.Duration // from sign-in
	Remembered time.Duration // from sign-in, for people who asked to stay signed in
}

// RoleSessions say how long sessions of people with a role last. A negative limit is not
// said there.
type RoleSessions struct {
	Role string
	Sessions
}

// Unsaid are limits of which nothing is said.
var Unsaid = Sessions{Idle: -1, Lifetime: -1, Remembered: -1}

// SessionsFor returns how long a session of somebody with these roles lasts: each limit as
// the roles say it, the shortest if several do, or else as it is for everybody.
func (b *Book) SessionsFor(granted []string) Sessions {
	if len(b.SessionsOf) == 0 {
		return b.Sessions
	}
	s := Unsaid
	shortest := func(a, other time.Duration) time.Duration {
		if other < 0 || a > 0 && other == 0 || a > 0 && a < other {
			return a
		}
		return other
	}
	for _, r := range b.SessionsOf {
		if b.has(granted, r.Role) {
			s.Idle, s.Lifetime, s.Remembered = shortest(s.Idle, r.Idle), shortest(s.Lifetime, r.Lifetime), shortest(s.Remembered, r.Remembered)
		}
	}
	for _, limit := range []struct{ set, usual *time.Duration }{{&s.Idle, &b.Sessions.Idle}, {&s.Lifetime, &b.Sessions.Lifetime},
		{&s.Remembered, &b.Sessions.Remembered}} {
		if *limit.set < 0 {
			*limit.set = *limit.usual
		}
	}
	return s
}

// LongestSessions returns limits that no session outlives, whatever roles somebody has.
func (b *Book) LongestSessions() Sessions {
	s := b.Sessions
	longest := func(a, other time.Duration) time.Duration {
		if a == 0 || other == 0 {
			return 0
		}
		return max(a, other)
	}
	for _, r := range b.SessionsOf {
		s.Idle, s.Lifetime, s.Remembered = longest(s.Idle, r.Idle), longest(s.Lifetime, r.Lifetime), longest(s.Remembered, r.Remembered)
	}
	return s
}
