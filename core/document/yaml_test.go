package document_test

import (
	"testing"

	"github.com/goccy/go-yaml"

	"ostiarius/core/document"
)

// What is written is read again as it was, and none of it is taken for more than a text.
func TestScalarIsReadBack(t *testing.T) {
	for _, text := range []string{"", "plain", "yes", "two words", "a \"quote\" \\ and 'one'", "tab\tand\nline", "\r",
		"\x00\x7f\x1b[2J", "to the \u202etfel", "\u2028# no comment\u0085", "käthe 🗼", "%2f"} {
		written := document.Scalar(text)
		var read string
		if err := yaml.Unmarshal([]byte(written), &read); err != nil || read != text {
			t.Errorf("%q is written as %s, and read as %q: %v", text, written, read, err)
		}
		for _, r := range written {
			if r < ' ' || r == 0x7f || r == 0x2028 || r == 0x85 || r == 0x202e {
				t.Errorf("%s has %U as it is", written, r)
			}
		}
	}
}
