package policy

import (
	"ostiarius/core/document"
)

// A Route is one of an application, with the addresses of what it shows.
type Route struct {
	Path string // as it would be sent
	Data []RequestTo
	document.Position
	Length int
}

// A RequestTo is a method and a path.
type RequestTo struct{ Method, Path string }
