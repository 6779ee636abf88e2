// Package mistake has the errors that whoever asked can mend.
package mistake

import "fmt"

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
