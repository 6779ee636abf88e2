// Package brief shortens what somebody else wrote.
package brief

import (
	"unicode/utf8"
)

// Cut returns the first part of s, of at most n bytes, that ends with a whole character.
func Cut(s string, n int) string {
	if len(s) <= n {
		return s
	}
	for n > 0 && !utf8.RuneStart(s[n]) {
		n--
	}
	return s[:n]
}
