package mistake

import (
	"strings"
	"testing"
)

func TestNotesAreTextOfLines(t *testing.T) {
	for text, fits := range map[string]bool{
		"": true, "keeps the key\n\tof the boat house\r\n": true, "Käthe, 灯台": true, "�": true, strings.Repeat("x", LongestNote): true,
		strings.Repeat("x", LongestNote+1): false, "\x1b[31mred": false, "a\x00": false, "\u009b31m": false, "\u202eevil": false,
		"\u2066x": false, "\x7f": false, "\xff": false,
	} {
		if err := Note(text); (err == nil) != fits {
			t.Errorf("%.20q: %v", text, err)
		}
	}
}
