package inforce

import (
	"bytes"
	"time"
)

// A file can be looked at while somebody writes it, and half a policy can open what all of it
// closes. Whether a text is all of it cannot be known for certain, so a text is taken the later,
// the more it would do: one that only closes soon, one that opens something when it has stood for
// a while and nobody has the file open to write it.

// writing says whether somebody has the policy file open for writing.
type writing int

const (
	unknown writing = iota
	under           // somebody has
	over            // nobody has
)

// soon is how long a text stands before it is looked into at all: editors write in several steps.
const soon = 100 * time.Millisecond

// A settling is the text of the file since it has begun to differ from what is in force. The zero
// value is that of a file that does not.
type settling struct {
	text  []byte
	first time.Time // when the file began to differ
	since time.Time // since when this text has stood
	found *found    // what was found of this text, when it was looked into
}

// look notes what stands in the file now, and reports whether it differs from what is in force.
func (s *settling) look(text, inForce []byte, now time.Time) bool {
	switch {
	case bytes.Equal(text, inForce):
		*s = settling{}
		return false
	case s.first.IsZero():
		*s = settling{text: text, first: now, since: now}
	case !bytes.Equal(text, s.text):
		*s = settling{text: text, first: s.first, since: now}
	}
	return true
}

// touched notes that the file was written, though perhaps with the same text.
func (s *settling) touched(now time.Time) { s.since = now }

// cut reports whether a text may be the beginning of another one: of the text in force, or of one
// that does not end with a line.
func cut(text, inForce []byte) bool {
	return bytes.HasPrefix(inForce, text) || !bytes.HasSuffix(text, []byte("\n"))
}

// mayLook reports whether the text is worth a look: it has stood for a moment, or the file changes
// all the time and was looked at between two changes.
func (s *settling) mayLook(now time.Time, state writing, quiet time.Duration) bool {
	return now.Sub(s.since) >= min(soon, quiet) || state == over && now.Sub(s.first) >= quiet
}

// isDue reports whether the text can be taken, or told to be faulty. quiet is how long one stands that
// opens something; twice that where it is not known whether somebody writes.
//
// Who keeps the file open for writing delays for good only what opens something. Who changes it
// all the time does not delay at all what closes, and what opens something ten times as long.
func (s *settling) isDue(now time.Time, state writing, quiet time.Duration, inForce []byte, opens bool) bool {
	stood, waited := now.Sub(s.since), now.Sub(s.first)
	long := quiet
	if state == unknown {
		long *= 2
	}
	whole := state == over && !cut(s.text, inForce)
	if opens {
		return state != under && (stood >= long || whole && waited >= 10*quiet)
	}
	return stood >= long || state == over && waited >= quiet || whole
}
