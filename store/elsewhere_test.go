package store

import (
	"errors"
	"path/filepath"
	"testing"

	"ostiarius/core/account"
)

// A subject is one of its issuer: another provider that knows somebody under the same name signs in nobody as them.
func TestSubjectsAreOfTheirIssuer(t *testing.T) {
	s := open(t, filepath.Join(t.TempDir(), "ostiarius.db"))
	of := map[string]int64{}
	for _, name := range []string{"ines", "walt"} {
		id, err := s.AddAccount(t.Context(), &account.Account{Name: name, MadeAt: noon}, Keys{Name: name}, "hash",
			Activity{At: noon, Kind: "account added"})
		if err != nil {
			t.Fatal(err)
		}
		of[name] = id
	}
	link := func(issuer, subject, name string) error {
		return s.AddElsewhereLink(t.Context(),
			ElsewhereLink{Issuer: issuer, Subject: subject, Provider: issuer, Account: of[name], MadeAt: noon}, 0, nil,
			Activity{At: noon, Kind: "x"})
	}
	if err := link("https://a.example", "u-7", "ines"); err != nil {
		t.Fatal(err)
	}
	for _, other := range [][2]string{{"https://b.example", "u-7"}, {"https://a.example", "u-8"}, {"https://a.example/", "u-7"},
		{"https://A.example", "u-7"}, {"https://a.example", "U-7"}, {"", "u-7"}, {"https://a.example", ""}} {
		if l, err := s.ElsewhereLink(t.Context(), other[0], other[1]); !errors.Is(err, ErrNone) {
			t.Errorf("%q: %+v %v", other, l, err)
		}
	}
	if err := link("https://b.example", "u-7", "walt"); err != nil {
		t.Fatal(err)
	}
	if err := link("https://b.example", "u-7", "ines"); !errors.Is(err, ErrTaken) {
		t.Errorf("linked twice: %v", err)
	}
	for issuer, name := range map[string]string{"https://a.example": "ines", "https://b.example": "walt"} {
		if l, err := s.ElsewhereLink(t.Context(), issuer, "u-7"); err != nil || l.Account != of[name] {
			t.Errorf("%s: %+v %v", issuer, l, err)
		}
	}
}
