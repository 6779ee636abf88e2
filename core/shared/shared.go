// Package shared holds the rules of shared passwords: each opens one or several doors for all who have it.
package shared

import (
	"encoding/hex"
	"time"

	"ostiarius/core/secret"
)

// A Password is one that opens what a name of the policy stands for. A name has one of them, and for a while those
// before it, so that whoever has them can change over.
type Password struct {
	ID     int64
	Name   string // in the policy
	Hash   string
	MadeAt time.Time
	MadeBy string
	Until  time.Time // zero for no end
	UsedAt time.Time // roughly; zero for never
}

// MostValid is the most passwords that a name can have at a time.
const MostValid = 3

// Counts reports whether the password counts at a time.
func (p *Password) Counts(now time.Time) bool { return p.Until.IsZero() || now.Before(p.Until) }

// An Unlock is that somebody has typed a shared password in a browser.
type Unlock struct {
	Hash     secret.TokenHash // of the token in the cookie
	Name     string           // of the shared password
	Password int64            // which of them it was
	MadeAt   time.Time
	Network  string // from where
	Agent    string // the browser's own words about itself
	Account  string // of who was signed in there; "" for nobody
}

// Handle names an unlock without giving it away.
func (u *Unlock) Handle() string { return hex.EncodeToString(u.Hash[:10]) }

// Alive reports whether an unlock that ends at a time, zero for never, holds now. One that seems to have been made
// in the future, since the clock went back, does not hold where its age matters.
func (u *Unlock) Alive(now, ends time.Time) bool {
	return ends.IsZero() || now.Before(ends) && !u.MadeAt.After(now.Add(slack))
}

// How far the clock may go back without anybody noticing.
const slack = time.Minute

// A Telling is that somebody was told a shared password.
type Telling struct {
	Name    string // of the shared password
	Address string
	At      time.Time
	Actor   string
}
