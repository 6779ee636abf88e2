package policy

import (
	"ostiarius/core/document"
)

// An Expectation is a line of a table that says what a visitor is expected to get at an
// address.
type Expectation struct {
	document.Position         // of the line
	Who               Visitor // the visitor
	Method            string
	Address           string // as it is written
	Request           Request
	Outcome           Outcome
}
