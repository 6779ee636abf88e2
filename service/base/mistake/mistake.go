// Package mistake has the errors that whoever asked can mend.
package mistake

import (
	"fmt"
	"unicode"
	"unicode/utf8"
)

// An Error is an error that the person who asked can mend; its text says how.
type Error struct {
	Kind  string // "unknown", "taken" or "invalid"
	Text  string
	cause error
}

func (e *Error) Error() string { return e.Text }

// Unwrap returns what the error was made of, or nil.
func (e *Error) Unwrap() error { return e.cause }

// Of makes an error of the core one of what was asked for: that it cannot be.
func Of(err error) error { return &Error{"invalid", err.Error(), err} }

// Invalid says that what was asked for cannot be.
func Invalid(format string, args ...any) error {
	return &Error{"invalid", fmt.Sprintf(format, args...), nil}
}

// Unknown says that there is nothing of that name.
func Unknown(format string, args ...any) error {
	return &Error{"unknown", fmt.Sprintf(format, args...), nil}
}

// Taken says that there is something of that name already.
func Taken(format string, args ...any) error {
	return &Error{"taken", fmt.Sprintf(format, args...), nil}
}

// LongestNote is how long the notes of stewards may be, in bytes.
const LongestNote = 4000

// Note says what is wrong with the notes of a steward: they are text of some lines, without what would do something in a terminal or
// turn the order of letters around (Unicode bidirectional controls), wherever they are shown or written to.
func Note(text string) error {
	if len(text) > LongestNote {
		return Invalid("the notes have more than %d bytes", LongestNote)
	}
	at := 0
	for i, r := range text {
		at++
		switch {
		case r == '\n' || r == '\r' || r == '\t':
		case unicode.IsControl(r), unicode.Is(unicode.Bidi_Control, r), r == utf8.RuneError && !utf8.ValidString(text[i:]):
			return Invalid("the notes contain a control character, the %dth character; leave it out", at)
		}
	}
	return nil
}
