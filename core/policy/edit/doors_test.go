package edit

import (
	"strings"
	"testing"

	"ostiarius/core/policy"
	"ostiarius/core/policy/sample"
)

// Terms that are chosen replace those that a door has; nobody is a choice as well.
func TestTermsReplaceTerms(t *testing.T) {
	book := sample.Parse(t, "roles: { keeper: , trustee: }\ndoors: [{ path: /log, admit: { role: keeper } }, { path: /office, admit: { role: "+
		"trustee } }]")
	for want, terms := range map[string]Terms{
		"role: trustee": {Who: policy.Role, Names: []string{"trustee"}}, "nobody": {Who: policy.Nobody}, "public": {Who: policy.Public},
		"role: keeper": {Who: policy.Role, Names: []string{"keeper"}},
	} {
		set, err := NewDoor(book, "/log", "")
		if err == nil {
			err = set.SetTerms(book, terms)
		}
		if err != nil || set.Admit.String() != want {
			t.Errorf("%+v: %q %v", terms, set.Admit.String(), err)
		}
	}
	if err := (&SetDoor{}).SetTerms(book, Terms{Who: policy.Nobody, From: []string{"192.0.2.0/24"}}); err == nil {
		t.Error("nobody, from a network")
	}
}

// A new door stands beside the one whose path it has most in common with.
func TestNewDoorsStandBesideTheirRelations(t *testing.T) {
	text := "doors:\n  - { path: /log/a, admit: public }\n  - { path: /office/**, admit: signed-in }\n  - { path: /visit/**, admit: public }\n"
	set, err := NewDoor(sample.Parse(t, text), "/log/b", "")
	if err != nil {
		t.Fatal(err)
	}
	set.Admit = policy.Demand{Kind: policy.SignedIn}
	after, err := Apply("doors.yaml", []byte(text), set)
	if err != nil {
		t.Fatal(err)
	}
	lines := strings.Split(string(after.Text), "\n")
	if !strings.Contains(lines[2], "/log/b") {
		t.Errorf("%s", after.Text)
	}
}
