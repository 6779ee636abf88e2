package prove

import (
	"fmt"
	"strings"
	"testing"

	"ostiarius/core/policy"
	"ostiarius/core/policy/edit"
	"ostiarius/core/policy/read"
)

// What a panel asks for while somebody chooses: one edit of a large policy, what is found in what comes of it, and what
// it opens and closes; beside the same for a text that somebody has edited by hand.
func BenchmarkEdit(b *testing.B) {
	var lines strings.Builder
	lines.WriteString("roles: {keeper: , trustee: {includes: keeper}}\ndoors:\n")
	for i := range 10_000 {
		fmt.Fprintf(&lines, "  - { path: /area%d/room%d/**, admit: { role: keeper } }\n", i%100, i)
	}
	text := []byte(lines.String())
	before := parse(b, lines.String())
	set, err := edit.NewDoor(before, "/area7/room4007/**", "")
	if err != nil {
		b.Fatal(err)
	}
	if set.Admit, err = policy.ParseDemand("role:trustee"); err != nil {
		b.Fatal(err)
	}
	edited, err := edit.Apply("doors.yaml", text, set)
	if err != nil {
		b.Fatal(err)
	}
	look := func(b *testing.B, after *policy.Book) {
		Check(after, "doors.yaml")
		if found, err := Compare(before, after); err != nil || len(found) != 1 {
			b.Fatal(len(found), err)
		}
	}
	b.Run("check and compare", func(b *testing.B) {
		for b.Loop() {
			after, findings := read.Parse("doors.yaml", edited.Text)
			if after == nil {
				b.Fatal(findings)
			}
			look(b, after)
		}
	})
	b.Run("edit, check and compare", func(b *testing.B) {
		for b.Loop() {
			done, err := edit.ApplyTo(before, "doors.yaml", text, set)
			if err != nil {
				b.Fatal(err)
			}
			look(b, done.Book)
		}
	})
}
