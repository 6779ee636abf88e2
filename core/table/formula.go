package table

import "strings"

// formula are the characters with which a spreadsheet begins a formula.
const formula = "=+-@\t\r"

// Guard puts an apostrophe before what a spreadsheet would take for a formula.
func Guard(text string) string {
	if text != "" && strings.ContainsRune(formula+"'", rune(text[0])) {
		return "'" + text
	}
	return text
}

// Unguard takes away what Guard has put there.
func Unguard(text string) string {
	if len(text) > 1 && text[0] == '\'' && strings.ContainsRune(formula+"'", rune(text[1])) {
		return text[1:]
	}
	return text
}
