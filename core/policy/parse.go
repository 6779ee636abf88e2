package policy

import (
	"ostiarius/core/document"
)

func DidYouMeanRole(name string, known []string) string {
	if len(known) == 1 { // only the built-in one: none is declared
		return "; roles are declared under the key roles"
	}
	return document.DidYouMean(name, known)
}
