package document_test

import (
	"fmt"
	"os"
	"strings"
	"testing"

	"ostiarius/core/document"
	"ostiarius/core/policy/read"
)

// Each line of a written policy is moved to the left and to the right: where that makes it no YAML, the finding says what is
// wrong with the indent, at that line or the next, or by its number. Of a policy that is YAML nothing is said.
func TestWrongIndentsAreNamed(t *testing.T) {
	text, err := os.ReadFile("../../demo/doors.yaml")
	if err != nil {
		t.Fatal(err)
	}
	quoted := "words:\n  en:\n    a: \"first\n  second: x\"\n    b: |\n      any:\n        text - here\n    c: plain\n      text goes " +
		"on\nlist:\n- a: 1\n  b: [x,\n y: 1]\n- - deep\n  - er\n"
	if at, message, found := document.Misplaced(quoted); found {
		t.Errorf("%v %s", at, message)
	}
	if at, message, found := document.Misplaced(string(text)); found {
		t.Errorf("%v %s", at, message)
	}
	lines := strings.Split(string(text), "\n")
	broken := 0
	for i, line := range lines {
		for _, shift := range []int{-4, -3, -2, -1, 1, 2, 3, 4, 5} {
			moved := strings.Repeat(" ", max(0, shift)) + line
			if shift < 0 {
				if !strings.HasPrefix(line, strings.Repeat(" ", -shift)) {
					continue
				}
				moved = line[-shift:]
			}
			changed := append(append(append([]string{}, lines[:i]...), moved), lines[i+1:]...)
			_, findings := read.Parse("doors.yaml", []byte(strings.Join(changed, "\n")))
			for _, f := range findings {
				if f.Rule != "syntax" {
					continue
				}
				broken++
				if !strings.Contains(f.Message, "this line") && !strings.Contains(f.Message, "this entry") || f.Line != i+1 && f.Line != i+2 &&
					!strings.Contains(f.Message, fmt.Sprint("line ", i+1)) {
					t.Errorf("line %d moved by %d: line %d: %s", i+1, shift, f.Line, f.Message)
				}
			}
		}
	}
	if broken < 100 {
		t.Errorf("only %d were no YAML", broken)
	}
}

func TestWrongIndents(t *testing.T) {
	for text, want := range map[string]string{
		"doors:\n  - path: /a\n   admit: public": `3:4 this is not YAML: this line begins in column 4, between what it could belong to: ` +
			`to stand beside "path" in line 2, begin it in column 5; to stand beside the dash in line 2, in column 3`,
		"doors:\n  - path: /a\n  admit: public": `3:3 this is not YAML: this line begins where the dashes of the list do; to belong to ` +
			`the same entry as "path" in line 2, begin it in column 5`,
		"doors:\n  - path: /a\n      admit: x": `3:7 this is not YAML: this line is indented below "path" in line 2, which has its ` +
			`value already; to stand beside it, begin in column 5`,
		"doors:\n\t- path: /a": `2:1 this is not YAML: this line is indented with a tab; YAML only allows spaces there`,
		"  site: x\ndoors: []": `2:1 this is not YAML: this line begins before "site" in line 1; begin it in column 3 too`,
		"sessions:\nidle: 3m\ndoors: [{path: /}]": `unknown key "idle" in the policy; if it belongs to "sessions" in line 1, indent it ` +
			`more than that: begin it in column 3`,
		"doors:\n- path: /a\n  admit:\n  role: k\n": `if it belongs to "admit" in line 3, indent it more than that: begin it in column 5`,
	} {
		_, findings := read.Parse("doors.yaml", []byte(text))
		var all strings.Builder
		for _, f := range findings {
			fmt.Fprintf(&all, "%d:%d %s\n", f.Line, f.Column, f.Message)
		}
		if !strings.Contains(all.String(), want) {
			t.Errorf("%q: %s, want %s", text, &all, want)
		}
	}
}

// A comment ends what brackets are open in a line, and only a comment does.
func TestClosing(t *testing.T) {
	for line, want := range map[string]int{"# [": 0, "a # [": 0, "a#[": 1, "[": 1, "'[' [": 1, "a'[": 1, "]": 0, `"\"[" {`: 1} {
		if depth, quote := document.Closing(line, 0, 0); depth != want || quote != 0 {
			t.Errorf("%q: %d %q", line, depth, quote)
		}
	}
}
