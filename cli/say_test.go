package cli

import (
	"bytes"
	"encoding/json"
	"errors"
	"os"
	"strings"
	"testing"
	"unicode/utf8"
)

// Whatever others have written, a terminal obeys nothing of it, and it makes no line of its own.
func TestWhatOthersWroteIsSafe(t *testing.T) {
	for text, want := range map[string]string{
		"inés, Jürgen, 李, שלום, क्\u200dष, 👩\u200d🚒": "inés, Jürgen, 李, שלום, क्\u200dष, 👩\u200d🚒",
		"\x1b]0;title\x07":      `\u001b]0;title\u0007`,
		"\x1b[2J\x1b[31m":       `\u001b[2J\u001b[31m`,
		"a\r\nsteward  enabled": `a\r\nsteward  enabled`,
		"a\tb":                  `a\tb`,
		"\u009b31m":             `\u009b31m`,
		"name\u202egnp.exe":     `name\u202egnp.exe`,
		"a\u2066b\u2028c":       `a\u2066b\u2028c`,
		"\x9b31m":               `\x9b31m`,
		"a\u200bb\ufeff":        `a\u200bb\ufeff`,
		"\U000e0041":            `\U000e0041`,
		"del\x7f":               `del\u007f`,
	} {
		var b bytes.Buffer
		say(&b, "%s|%v|%q\n", text, errors.New(text), "x")
		if got := b.String(); got != want+"|"+want+"|\"x\"\n" {
			t.Errorf("%q is written as %q", text, got)
		}
	}
	var b bytes.Buffer
	say(&b, "%s", ready("one\ntwo\n"))
	if b.String() != "one\ntwo\n" {
		t.Errorf("%q", b.String())
	}
}

// A terminal gets everything safe, in whatever pieces it is written; a JSON that is written there
// says what it said.
func TestTerminal(t *testing.T) {
	read, write, err := os.Pipe()
	if err != nil {
		t.Fatal(err)
	}
	said := map[string]string{"note": "fog \u202e\x1b[31m\u009b é 👩‍🚒\nbell"}
	var text bytes.Buffer
	writeJSON(&text, said)
	to := &terminal{file: write}
	for _, piece := range bytes.SplitAfter(text.Bytes(), nil) { // byte by byte
		if _, err := to.Write(piece); err != nil {
			t.Fatal(err)
		}
	}
	write.Close()
	var got bytes.Buffer
	got.ReadFrom(read)
	if strings.ContainsAny(got.String(), "\x1b\u202e\u009b") || !utf8.Valid(got.Bytes()) {
		t.Errorf("%q", got.String())
	}
	var back map[string]string
	if err := json.Unmarshal(got.Bytes(), &back); err != nil || back["note"] != said["note"] {
		t.Errorf("%q %v", back, err)
	}
}

func FuzzSafe(f *testing.F) {
	f.Add("\x1b[2J\u202e", true)
	f.Add("a\r\nb\x9b", false)
	f.Fuzz(func(t *testing.T, text string, lines bool) {
		got := safe(text, lines)
		if !utf8.ValidString(got) || strings.ContainsFunc(got, func(r rune) bool { return unsafe(r, lines) }) {
			t.Fatalf("%q becomes %q", text, got)
		}
	})
}
