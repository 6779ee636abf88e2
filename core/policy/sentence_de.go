package policy

import (
	"strings"

	"ostiarius/core/words"
)

// AdmitsIn says in a sentence who may go to a page, to somebody who stands before it, in a language.
func (d *Door) AdmitsIn(in words.Language, page string) string {
	if in != words.German {
		return d.Admits(page)
	}
	main, also := d.Admit.Split()
	var b strings.Builder
	switch main.Kind {
	case Public:
		b.WriteString("Alle dürfen ")
	case Nobody:
		b.WriteString("Niemand darf ")
	default:
		b.WriteString("Nur " + main.people(in) + " dürfen ")
	}
	b.WriteString(page)
	if d.Methods.Any() {
		b.WriteString(" sehen")
	} else {
		b.WriteString(" mit " + inList(in, "demand.or", d.Methods.Names()) + " aufrufen")
	}
	for i, part := range also {
		switch {
		case i == 0:
			b.WriteString(" und müssen ")
		case i == len(also)-1:
			b.WriteString(" und ")
		default:
			b.WriteString(", ")
		}
		b.WriteString(part.must(in))
	}
	return b.String() + "."
}
