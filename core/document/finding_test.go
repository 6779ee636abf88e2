package document_test

import (
	"testing"

	"ostiarius/core/policy/read"
)

func TestExcerpt(t *testing.T) {
	text := "doors:\n  - { path: /é, admit: { role: keeeper } }\n"
	_, findings := read.Parse("doors.yaml", []byte(text))
	want := "    2 |   - { path: /é, admit: { role: keeeper } }\n      |                                ^^^^^^^\n"
	if got := findings[0].Excerpt([]byte(text)); got != want {
		t.Errorf("excerpt\n%s\nwant\n%s", got, want)
	}
}
