// Package keyring holds the rules of keyrings: named lists of HTTP Basic credentials that
// belong to a place and not to an account.
package keyring

import "time"

// An Entry is a name and the hash of its password.
type Entry struct {
	Keyring  string
	Name     string
	Hash     string
	Note     string
	Disabled bool
	MadeAt   time.Time
	MadeBy   string
	UsedAt   time.Time // roughly; zero for never
	Until    time.Time // zero for no end
	OldHash  string    // of the password before, while it still counts
	OldUntil time.Time
}

// An Over is the error for a name and its right password that open nothing any more.
type Over struct {
	Name     string
	Until    time.Time // when it ended; zero if it was disabled
	Disabled bool
	Second   bool // a second factor is asked of the account, which cannot be shown so
}

func (o *Over) Error() string {
	if o.Disabled {
		return "the name is disabled"
	}
	if o.Second {
		return "a second factor is needed, which cannot be shown so"
	}
	return "the name has ended"
}

// MostHashes is the most hashes that the passwords of one name can have at a time.
const MostHashes = 2

// Hashes returns the hashes that a password may have at the time now: none if the entry
// has ended or is disabled, two while a password is being replaced.
func (e *Entry) Hashes(now time.Time) []string {
	if e.Disabled || !e.Until.IsZero() && !now.Before(e.Until) {
		return nil
	}
	if e.OldHash != "" && now.Before(e.OldUntil) {
		return []string{e.Hash, e.OldHash}
	}
	return []string{e.Hash}
}

// Changes returns when next the entry begins to take other passwords by itself, after now;
// zero for never.
func (e *Entry) Changes(now time.Time) (next time.Time) {
	for _, t := range []time.Time{e.Until, e.OldUntil} {
		if t.After(now) && (next.IsZero() || t.Before(next)) {
			next = t
		}
	}
	return next
}
