package inspect

import (
	"strings"
	"testing"

	"ostiarius/core/policy/read"
)

func TestCheckTellsWhatTheServiceCannotDo(t *testing.T) {
	const text = "keyrings: {a: , b: , c: , d: , e: }\ndoors:\n  - { path: /few/**, admit: { any: [ {keyring: a}, {keyring: b}, " +
		"{keyring: c}, {keyring: d} ] } }\n" +
		"  - { path: /many/**, admit: { any: [ {keyring: a}, {keyring: b}, {keyring: c}, {keyring: d}, {keyring: e} ] } }\n"
	book, findings := read.Parse("doors.yaml", []byte(text))
	if book == nil {
		t.Fatal(findings)
	}
	var told []string
	for _, f := range Check(book, "doors.yaml", Own{}) {
		if f.Rule == "many-keyrings" {
			told = append(told, f.Message)
			if f.Line != 4 {
				t.Errorf("line %d", f.Line)
			}
		}
	}
	if len(told) != 1 || !strings.Contains(told[0], "names 5 keyrings") {
		t.Errorf("%q", told)
	}
}
