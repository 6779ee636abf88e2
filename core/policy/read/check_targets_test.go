package read

import (
	"fmt"
	"strings"
	"testing"

	"ostiarius/core/document"
)

func TestTargetsThatTurnAway(t *testing.T) {
	for _, test := range []struct{ name, text, want string }{
		{"fine", "roles: {keeper: }\ndoors: [{path: /log, admit: {role: keeper}, otherwise: {refused: {go: /ask}, anonymous: {go: /}}}, " +
			"{path: /ask, admit: signed-in}, {path: /, admit: public}]", ""},
		{"closed to the refused", "roles: {keeper: }\ndoors: [{path: /log, admit: {role: keeper}, otherwise: {refused: {go: /office}}}, " +
			"{path: /office, admit: {role: steward}}]",
			"2:71 go-turned-away: signed-in is sent to /office from /log and turned away again: line 2 (/office) asks for the role steward"},
		{"closed to strangers", "doors: [{path: /log, admit: signed-in, otherwise: {anonymous: {go: /in}}}, {path: /in, admit: signed-in}]",
			"1:68 go-turned-away: anonymous is sent to /in from /log"},
		{"itself", "doors: [{path: /log/**, admit: nobody, otherwise: {refused: {go: /log/why}}}]",
			"1:66 go-loop: signed-in is redirected in a circle: from /log/** to /log/why, then to /log/why again"},
		{"two", "doors: [{path: /a, admit: nobody, otherwise: {refused: {go: /b}}}, {path: /b, admit: nobody, otherwise: {refused: {go: /a}}}]",
			"1:61 go-loop: signed-in is redirected in a circle: from /a to /b, then to /a, then to /b again"},
		{"landing", "roles: {keeper: }\ndoors: [{path: /office, admit: nobody}, {path: /**, admit: signed-in}]\nlandings: {sign-in: " +
			"[{role: keeper, go: /office}, {go: /}], sign-out: [{go: /bye}]}",
			"3:41 go-turned-away: role:keeper is sent to /office after signing in|3:77 go-turned-away: anonymous is sent to /bye after signing out"},
	} {
		book, findings := Parse("doors.yaml", []byte(test.text))
		if book == nil {
			t.Fatalf("%s: %+v", test.name, findings)
		}
		byPlace := map[string]string{}
		for _, f := range findings {
			byPlace[fmt.Sprintf("%d:%d", f.Line, f.Column)] = fmt.Sprintf("%d:%d %s: %s", f.Line, f.Column, f.Rule, f.Message)
			if f.Severity != document.SeverityWarning || f.Witness == nil {
				t.Errorf("%s: %+v", test.name, f)
			}
		}
		if test.want == "" && len(findings) > 0 {
			t.Errorf("%s: %+v", test.name, findings)
		}
		for _, want := range strings.Split(test.want, "|") {
			at, _, _ := strings.Cut(want, " ")
			if !strings.Contains(byPlace[at], want) {
				t.Errorf("%s: %q, want %q", test.name, byPlace, want)
			}
		}
	}
}
