package roster

import (
	"bytes"
	"errors"
	"iter"
	"reflect"
	"strings"
	"testing"
	"time"
	"unicode/utf8"

	"ostiarius/core/account"
)

var noon = time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)

func TestReadCSV(t *testing.T) {
	text := "\ufeffName, EMAIL ,Roles,Disabled,Notes\r\n" +
		"bo,bo@marram.example,keeper; trustee@2027-03-31 ;guide@2027-01-01..2027-02-01T10:00:00Z,,\"paints, mostly\nand sings\"\r\n" +
		"cy,,,true,'=sum\n" +
		"di,,;,,'tis so\n"
	all, err := Read([]byte(text), time.FixedZone("", 3600))
	if err != nil || len(all) != 3 {
		t.Fatal(all, err)
	}
	bo := all[0]
	if bo.Line != 2 || bo.Email != "bo@marram.example" || bo.Notes != "paints, mostly\nand sings" || bo.Disabled != nil || bo.Err != nil {
		t.Errorf("%+v", bo)
	}
	ends := time.Date(2027, 3, 31, 23, 0, 0, 0, time.UTC) // the end of the day, an hour east
	begins := time.Date(2026, 12, 31, 23, 0, 0, 0, time.UTC)
	if r := bo.Roles; len(r) != 3 || r[0] != (account.Grant{Role: "keeper"}) || r[1].Role != "trustee" || !r[1].From.IsZero() ||
		!r[1].Until.Equal(ends) || !r[2].From.Equal(begins) || r[2].Until.Hour() != 10 {
		t.Errorf("%+v", r)
	}
	if cy := all[1]; cy.Line != 4 || cy.Disabled == nil || !*cy.Disabled || cy.Notes != "=sum" {
		t.Errorf("%+v", cy)
	}
	if di := all[2]; di.Notes != "'tis so" || di.Roles != nil {
		t.Errorf("%+v", di)
	}
}

func TestReadSaysWhatIsWrongAndWhere(t *testing.T) {
	for text, says := range map[string]string{
		"":                      "no head line",
		"email\nx@y.z\n":        "line 1: the column name is missing",
		"name,password\nx,y\n":  `line 1: the column "password" is not known; there are name, email`,
		"name,Name\nx,y\n":      "the column name stands there twice",
		"name\nx\n\"y\n":        "line 3: extraneous or missing",
		"[{}, 5":                "line 1: this is not the JSON that export writes",
		"[]\n\n{}":              "line 3: this is not the JSON that export writes: there is more",
		"[{\"name\": \"x\"},\n": "not the JSON",
	} {
		if all, err := Read([]byte(text), time.UTC); err == nil || !strings.Contains(err.Error(), says) {
			t.Errorf("%q: %v, %v", text, all, err)
		}
	}
	for text, says := range map[string]string{
		"name,disabled\na,\nx,perhaps\n":                                   `disabled is true or false, not "perhaps"`,
		"name,roles\na,\nx,keeper@soon\n":                                  `"soon" is no time`,
		"name,roles\na,\nx,keeper@soon..\n":                                `"soon" is no time`,
		"name,roles\na,\nx,keeper@\n":                                      "the role keeper has an @ without a time",
		"name,roles\na,\nx\n":                                              "it has 1 fields and the head line has 2",
		"name,roles\na,\nx,,y\n":                                           "it has 3 fields",
		"[{\"name\": \"a\"},\n\n {\"name\": 1}]":                           "not an account as export writes it",
		"[{\"name\": \"a\"},\n\n {\"name\": \"x\", \"password\": \"y\"}]":  "not an account as export writes it",
		"[\n{\"name\": \"a\"},\n {\"name\": \"x\", \"disabled\": \"no\"}]": "not an account as export writes it",
	} {
		all, err := Read([]byte(text), time.UTC)
		if err != nil || len(all) != 2 || all[0].Err != nil || all[1].Line != 3 || all[1].Err == nil ||
			!strings.Contains(all[1].Err.Error(), says) {
			t.Errorf("%q: %+v, %v", text, all, err)
		}
	}
}

func TestWhatIsWrittenIsRead(t *testing.T) {
	later := noon.Add(time.Hour)
	accounts := []*account.Account{
		{Name: "ines", Email: "ines@marram.example", Notes: "=1+1",
			Grants: []account.Grant{{Role: "keeper", From: noon.Add(-time.Hour)},
				{Role: "trustee", From: later, Until: later.Add(time.Millisecond)}}},
		{Name: "bo", Disabled: true, Notes: "'quoted', with a \"comma\"\nand a line",
			Grants: []account.Grant{{Role: "guide", From: noon.Add(-time.Hour), Until: later}}},
	}
	no, yes := false, true
	want := []Entry{
		{Line: 2, Name: "ines", Email: "ines@marram.example", Notes: "=1+1", Disabled: &no,
			Roles: []account.Grant{{Role: "keeper"}, {Role: "trustee", From: later, Until: later.Add(time.Millisecond)}}},
		{Line: 3, Name: "bo", Disabled: &yes, Notes: accounts[1].Notes, Roles: []account.Grant{{Role: "guide", Until: later}}},
	}
	var text bytes.Buffer
	if err := WriteCSV(&text, each(accounts), noon); err != nil {
		t.Fatal(err)
	}
	got, err := Read(text.Bytes(), time.UTC)
	if err != nil || !reflect.DeepEqual(got, want) {
		t.Errorf("%s\n%+v\n%v", text.String(), got, err)
	}
	text.Reset()
	if err := WriteJSON(&text, each(accounts)); err != nil {
		t.Fatal(err)
	}
	got, err = Read(text.Bytes(), time.UTC)
	// JSON also says when roles began.
	want[0].Roles[0].From, want[1].Roles[0].From = noon.Add(-time.Hour), noon.Add(-time.Hour)
	want[1].Line = 1 + strings.Count(text.String()[:strings.Index(text.String(), `"bo"`)], "\n") - 1 // of its brace
	if err != nil || !reflect.DeepEqual(got, want) {
		t.Errorf("%s\n%+v\n%v", text.String(), got, err)
	}
}

// Whatever is read can be written, both ways, and read again as it was.
func FuzzRead(f *testing.F) {
	f.Add([]byte("name,email,roles,disabled,notes,hash\nbo,bo@marram.example,keeper@2027-03-31,true,'=x,$argon2id$\n"))
	f.Add([]byte(`[{"name": "bo", "roles": [{"role": "keeper", "until": "2027-03-31T00:00:00Z"}]}]`))
	f.Add([]byte("name\n\"\n"))
	f.Fuzz(func(t *testing.T, text []byte) {
		all, err := Read(text, time.UTC)
		if err != nil {
			return
		}
		var accounts []*account.Account
		for i, e := range all {
			if e.Line < 1 || i > 0 && e.Line < all[i-1].Line {
				t.Fatalf("line %d", e.Line)
			}
			// Neither form keeps bytes that are no text, and CSV keeps no carriage returns and no space around.
			if e.Err == nil && utf8.ValidString(e.Name+e.Notes) && !strings.Contains(e.Name+e.Notes, "\r") &&
				strings.TrimSpace(e.Name) == e.Name && strings.TrimSpace(e.Notes) == e.Notes {
				accounts = append(accounts, &account.Account{Name: e.Name, Notes: e.Notes, Grants: e.Roles})
			}
		}
		var asJSON, asCSV bytes.Buffer
		for _, err := range []error{WriteJSON(&asJSON, each(accounts)), WriteCSV(&asCSV, each(accounts), noon)} {
			if err != nil {
				return // a year beyond 9999
			}
		}
		for _, written := range [][]byte{asJSON.Bytes(), asCSV.Bytes()} {
			again, err := Read(written, time.UTC)
			if err != nil || len(again) != len(accounts) {
				t.Fatalf("%d accounts, %d read again: %v", len(accounts), len(again), err)
			}
			for i, e := range again {
				if a := accounts[i]; e.Name != a.Name || e.Notes != a.Notes {
					t.Fatalf("%+v became %+v", a, e)
				}
			}
		}
	})
}

// each gives accounts one after the other.
func each(all []*account.Account) iter.Seq2[*account.Account, error] {
	return func(yield func(*account.Account, error) bool) {
		for _, a := range all {
			if !yield(a, nil) {
				return
			}
		}
	}
}

// A list that cannot be read to its end is none.
func TestAListThatBreaksOff(t *testing.T) {
	broken := errors.New("the disk")
	half := func(yield func(*account.Account, error) bool) {
		_ = yield(&account.Account{Name: "ines"}, nil) && yield(nil, broken)
	}
	var text bytes.Buffer
	if err := WriteJSON(&text, half); !errors.Is(err, broken) {
		t.Error(err)
	}
	if err := WriteCSV(&text, half, noon); !errors.Is(err, broken) {
		t.Error(err)
	}
	text.Reset()
	if err := WriteJSON(&text, each(nil)); err != nil || text.String() != "[]\n" {
		t.Errorf("%q %v", text.String(), err)
	}
}
