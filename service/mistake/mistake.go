// Package mistake has the errors that whoever asked can mend.
package mistake

import "fmt"

// An Error is an error that the person who asked can mend; its text says how.
type Error struct {
	Kind string // "unknown", "taken" or "invalid"
	Text string
}

func (e *Error) Error() string { return e.Text }

// Invalid says that what was asked for cannot be.
func Invalid(format string, args ...any) error {
	return &Error{"invalid", fmt.Sprintf(format, args...)}
}

// Unknown says that there is nothing of that name.
func Unknown(format string, args ...any) error {
	return &Error{"unknown", fmt.Sprintf(format, args...)}
}

// Taken says that there is something of that name already.
func Taken(format string, args ...any) error { return &Error{"taken", fmt.Sprintf(format, args...)} }
