package policy

import (
	"strings"
	"testing"
)

func TestExplainTellsWhyThisDoor(t *testing.T) {
	book := parse(t, lighthouse)
	e := book.Explain(Request{"POST", "", "/log/"}, visitor(t, "role:keeper"), Browser, "")
	var text []string
	for _, s := range e.Steps {
		text = append(text, s.Text)
	}
	all := strings.Join(text, "\n")
	for _, want := range []string{
		"2 doors cover it: line 18 (/log/**); line 21 (DELETE, POST /log/**)",
		"line 18 (/log/**) does not count, since all that line 21 (DELETE, POST /log/**) covers is part of it",
		"asks: the role trustee", "signed in with the role keeper (which brings volunteer)",
		"missing is the role trustee", "Nothing that this visitor could still prove would help", "Outcome: refuse. Answer: 403",
	} {
		if !strings.Contains(all, want) {
			t.Errorf("the explanation does not say %q:\n%s", want, all)
		}
	}
	if len(e.Doors) != 1 || e.Doors[0].Line != 21 {
		t.Errorf("doors %+v, want line 21", e.Doors)
	}
}
