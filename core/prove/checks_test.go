package prove

import (
	"strings"
	"testing"

	"ostiarius/core/policy/read"
)

// What a program asks itself is part of what is proven and shown.
func TestChecksAreProven(t *testing.T) {
	const text = `
roles: { keeper: , trustee: { includes: [keeper] } }
doors:
  - { path: /**, admit: public }
  - { path: /log/**, admit: signed-in }
checks:
  approve: { path: "/log/*/approve", admit: { role: trustee } }
guarantees:
  - { path: "/log/*/approve", only: { role: trustee } }
  - { path: /log/**, always: signed-in }
  - { path: /visit/**, always: public }
`
	b, findings := read.Parse("doors.yaml", []byte(text))
	if b == nil {
		t.Fatal(findings)
	}
	all := Guarantees(b)
	if all[0].State != "holds" || all[1].State != "broken" || all[2].State != "holds" ||
		!strings.Contains(all[1].Message, "the check approve (line 7") {
		t.Errorf("%+v", all)
	}
	g, err := Survey(b)
	if err != nil {
		t.Fatal(err)
	}
	m := g.Regions(Kinds(b))
	rows := ""
	for _, row := range m.Rows {
		rows += row.Label + ":"
		for _, c := range row.Cells {
			rows += " " + string(c.Outcome)
		}
		rows += "\n"
	}
	if !strings.Contains(rows, "check approve: challenge refuse refuse admit refuse\n") || strings.Count(rows, "\n") != 3 {
		t.Error(rows)
	}
	without, _ := read.Parse("doors.yaml",
		[]byte(strings.Replace(text, "{ role: trustee } }\nguarantees", "{ role: keeper } }\nguarantees", 1)))
	changes, err := Compare(b, without)
	if err != nil || len(changes) != 1 || changes[0].Effect != "opened" || !strings.HasSuffix(changes[0].Witness.Path, "/approve") {
		t.Errorf("%+v %v", changes, err)
	}
}
