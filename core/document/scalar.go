package document

import (
	"fmt"
	"strings"

	"ostiarius/core/pattern"
)

// What stands in a policy can be written by people or by us. Here is how we write it: on one line, with
// quotes only where they are needed.

// plain are texts that are themselves without quotes, wherever they stand.
var plain = pattern.New(`^[A-Za-z0-9_/.][A-Za-z0-9_/.*~+@%=-]*$`)

// odd are words and numbers that YAML, in one version or another, takes for something else than a text.
var odd = pattern.New(`^(?i:true|false|null|yes|no|on|off|y|n|[-+]?[0-9][0-9_.,:e+-]*|0[xo][0-9a-f]+|[-+]?\.(inf|nan|[0-9]+.*)|\.|\.\.)$`)

// escaped is a character as it is written between double quotes.
func escaped(r rune) string {
	if r > 0xffff {
		return fmt.Sprintf(`\U%08X`, r)
	}
	return fmt.Sprintf(`\u%04X`, r)
}

// Scalar returns a text as it stands in a policy.
func Scalar(s string) string {
	if plain.MatchString(s) && !odd.MatchString(s) {
		return s
	}
	var b strings.Builder
	b.WriteByte('"')
	for _, r := range s {
		switch {
		case r == '"' || r == '\\':
			b.WriteByte('\\')
			b.WriteRune(r)
		case r == '\n':
			b.WriteString(`\n`)
		case r == '\t':
			b.WriteString(`\t`)
		case r < ' ' || r == 0x7f || Separates(r) || Reorders(r) || Invisible(r):
			b.WriteString(escaped(r))
		default:
			b.WriteRune(r)
		}
	}
	b.WriteByte('"')
	return b.String()
}

// Scalars returns texts as they stand in a policy.
func Scalars(all []string) []string {
	quoted := make([]string, len(all))
	for i, s := range all {
		quoted[i] = Scalar(s)
	}
	return quoted
}

// ScalarList returns one text as such, and several as a list in one line.
func ScalarList(names []string) string {
	if len(names) == 1 {
		return Scalar(names[0])
	}
	return "[" + strings.Join(Scalars(names), ", ") + "]"
}
