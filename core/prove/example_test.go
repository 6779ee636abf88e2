package prove_test

import (
	"fmt"

	"ostiarius/core/policy"
	"ostiarius/core/policy/read"
	"ostiarius/core/prove"
)

func bookOf(text string) *policy.Book {
	book, findings := read.Parse("doors.yaml", []byte(text))
	if book == nil {
		panic(fmt.Sprint(findings))
	}
	return book
}

func ExampleCompare() {
	before := bookOf("roles: {keeper: }\ndoors:\n  - { path: /log/**, admit: { role: keeper } }\n")
	after := bookOf("roles: {keeper: }\ndoors:\n  - { path: /log/**, admit: { role: keeper } }\n  - { path: /log/*.txt, admit: public }\n")
	differences, err := prove.Compare(before, after)
	if err != nil {
		fmt.Println(err)
	}
	for _, d := range differences {
		fmt.Println(d.Effect, d.Witness.Method, d.Witness.Path, "as", d.Witness.Visitor, "-", d.Before, "->", d.After)
	}
	// Output:
	// opened GET /log/.txt as anonymous - challenge (sign-in) -> admit
}

func ExampleGuarantees() {
	book := bookOf("roles: {trustee: }\ndoors:\n  - { path: /office/**, admit: { role: trustee } }\n  - { path: /office/tea, admit: " +
		"signed-in }\nguarantees:\n  - { path: /office/**, only: { role: trustee } }\n")
	for _, g := range prove.Guarantees(book) {
		fmt.Println(g.State, g.Witness)
	}
	// Output:
	// broken GET /office/tea as signed-in -> admit
}
