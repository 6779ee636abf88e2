// Package session holds the rules of sessions: how long they last.
package session

import (
	"encoding/hex"
	"slices"
	"strings"
	"time"

	"ostiarius/core/factor"
	"ostiarius/core/secret"
)

// A Session is one sign-in on one device.
type Session struct {
	Hash       secret.TokenHash // of the token in the cookie
	Account    int64
	MadeAt     time.Time
	SeenAt     time.Time // of the latest request, roughly
	ProvedAt   time.Time // when its owner last proved to be that, with something one can sign in with
	How        Proof     // and how
	Shown      factor.Times
	Remembered bool   // the person asked to stay signed in
	Network    string // from where it was made
	Agent      string // the browser's own words about itself
	Rights     string // the roles for which the token was made, see Rights
	Family     string // what all tokens of the session have in common
}

// A Proof is a way to prove who one is, as it is recorded: the name of a factor.Kind.
type Proof string

// Prove notes that the owner of the session has shown a proof.
func (s *Session) Prove(k factor.Kind, at time.Time) {
	s.Shown = s.Shown.At(k, at)
	if k.Opens() {
		s.ProvedAt, s.How = at, Proof(k.String())
	}
}

// Unprove takes a proof back that was shown in the session. What was shown besides still counts.
func (s *Session) Unprove(k factor.Kind) {
	s.Shown[k] = time.Time{}
	if s.How != Proof(k.String()) {
		return
	}
	s.ProvedAt, s.How = time.Time{}, ""
	for other, at := range s.Shown {
		if factor.Kind(other).Opens() && at.After(s.ProvedAt) {
			s.ProvedAt, s.How = at, Proof(factor.Kind(other).String())
		}
	}
}

// Proofs names what was shown in the session, such as "password code".
func (s *Session) Proofs() string {
	if (s.Shown == factor.Times{}) {
		return string(s.How) // of a version before
	}
	return s.Shown.Kinds().String()
}

// Keep has the session keep what was shown in another of the same owner, as far as it was not shown in this one.
func (s *Session) Keep(before *Session) {
	for k, at := range before.Shown {
		if s.Shown[k].IsZero() {
			s.Shown[k] = at
		}
	}
}

// Factors returns what the owner of the session has shown, and how long ago. Of the password alone it is nothing: that is
// what ProofAge says.
func (s *Session) Factors(now time.Time) factor.Shown {
	if s.OnlyPassword() {
		return factor.Shown{}
	}
	return s.Shown.Shown(now)
}

// OnlyPassword reports whether nothing but the password was shown.
func (s *Session) OnlyPassword() bool {
	return s.Shown == factor.Times{} || s.Shown == factor.Times{}.At(factor.Password, s.Shown[factor.Password])
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

// Bounds returns, for the sessions that hold at the time now, since when they were made, last used, and made
// if they are remembered; zero for any time. It is Alive as a question to records, but for a clock that
// went back.
func (l Limits) Bounds(now time.Time) (made, seen, remembered time.Time) {
	since := func(d time.Duration) time.Time {
		if d == 0 {
			return time.Time{}
		}
		return now.Add(-d)
	}
	return since(l.Lifetime), since(l.Idle), since(l.Remembered)
}

// Slack is how far the clock may go back without anybody noticing. Clocks are set right by
// seconds all the time; a time that lies further in the future than that is none from which an age
// could be taken.
const Slack = time.Minute

// Alive reports whether the session still holds at the time now, when it was last used at
// the time seen. Where it matters how old it is, or how long it was not used, a time in the future,
// since the clock went back, is as good as too long ago.
func (s *Session) Alive(now, seen time.Time, l Limits) bool {
	until, idle := s.Term(l)
	latest := now.Add(Slack)
	return (until.IsZero() || now.Before(until) && !s.MadeAt.After(latest)) && (idle == 0 || now.Sub(seen) < idle && !seen.After(latest))
}

// Unknown is the age of a proof whose time cannot be known.
const Unknown = factor.Unknown

// ProofAge returns how long ago the latest proof was. If that lies in the future, since the
// clock went back, it is Unknown.
func (s *Session) ProofAge(now time.Time) time.Duration {
	if s.ProvedAt.After(now) {
		return Unknown
	}
	return now.Sub(s.ProvedAt)
}
