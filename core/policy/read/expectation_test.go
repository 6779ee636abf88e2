package read

import (
	"fmt"
	"strings"
	"testing"

	"ostiarius/core/policy"
)

func TestParseExpectations(t *testing.T) {
	all, findings := ParseExpectations("table.yaml", []byte(`
- { as: [anonymous, role:volunteer, "role:keeper,proof-age:5m"], path: [/visit/, "https://marram.example/tides?x=1"], outcome: admit }
- as: user:Ines
  method: post
  path: /log/
  outcome: refuse
`))
	if len(findings) > 0 || len(all) != 7 {
		t.Fatal(all, findings)
	}
	if e := all[5]; e.Line != 2 || e.Who.String() != "role:keeper,proof-age:5m" ||
		e.Request != (policy.Request{Method: "GET", Host: "marram.example", Path: "/tides"}) || e.Outcome != policy.Admit {
		t.Errorf("%+v", e)
	}
	if e := all[6]; e.Line != 3 || e.Who.String() != "user:ines" ||
		e.Request != (policy.Request{Method: "POST", Host: "", Path: "/log/"}) || e.Outcome != policy.Refuse {
		t.Errorf("%+v", e)
	}
	for text, want := range map[string]string{
		"":       "1:1 missing-key",
		"as: me": "1:1 bad-value",
		"- 3":    "1:3 bad-value",
		"- {as: nobody, path: /, outcome: admit}":                  "1:8 bad-value",
		"- {as: [role: keeper], path: /, outcome: admit}":          "bad-value",
		"- {as: anonymous, path: x, outcome: admit}":               "1:25 bad-value",
		"- {as: anonymous, path: /, outcome: open}":                "1:37 bad-value",
		"- {as: anonymous, path: /, outcom: admit}":                "unknown-key",
		"- {as: anonymous, path: /}":                               "missing-key",
		"- {as: anonymous, as: signed-in, path: /, outcome: hide}": "repeated-key",
		"- &a {as: anonymous, path: /, outcome: hide}":             "bad-value",
		"- [": "syntax",
	} {
		all, findings := ParseExpectations("table.yaml", []byte(text))
		if len(all) > 0 || len(findings) == 0 ||
			!strings.Contains(fmt.Sprintf("%d:%d %s", findings[0].Line, findings[0].Column, findings[0].Rule), want) {
			t.Errorf("%q: %v %+v, want %s", text, all, findings, want)
		}
	}
}

func FuzzParseExpectations(f *testing.F) {
	f.Add("- { as: anonymous, path: /office/, outcome: challenge }")
	f.Add("- as: [role:a+b, \"user:x,from:::1\"]\n  method: POST\n  path: [/a, https://h/b]\n  outcome: reject")
	f.Fuzz(func(t *testing.T, text string) {
		all, findings := ParseExpectations("table.yaml", []byte(text))
		if len(findings) > 0 && len(all) > 0 {
			t.Fatal("expectations beside findings")
		}
		for _, e := range all {
			if _, err := policy.ParseVisitor(e.Who.String()); err != nil || e.Outcome == "" || e.Line < 1 {
				t.Fatalf("%+v %v", e, err)
			}
		}
	})
}
