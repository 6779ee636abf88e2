package edit_test

import (
	"math/rand/v2"
	"reflect"
	"testing"

	"ostiarius/core/document"
	"ostiarius/core/policy"
	"ostiarius/core/policy/edit"
	"ostiarius/core/policy/read"
	"ostiarius/core/prove"
)

// What a door says can be taken apart into what people choose, and put together again: then nobody gets in
// who did not before, or meets another answer; and the text stays to the byte.
func TestTermsSayTheDoor(t *testing.T) {
	whole := 0
	for name, text := range written(t) {
		book, _ := read.Parse("doors.yaml", []byte(text))
		for i := range book.Doors {
			d := &book.Doors[i]
			terms, ok := edit.TermsOf(d, book)
			if !ok {
				continue
			}
			whole++
			set, err := edit.NewDoor(book, d.Written, d.Host.String(), d.Methods.Names()...)
			if err != nil {
				t.Fatal(err)
			}
			if err := set.SetTerms(book, terms); err != nil {
				t.Fatalf("%s, %s: %v", name, d.Label(), err)
			}
			after, err := edit.Apply("doors.yaml", []byte(text), set)
			if err != nil || string(after.Text) != text {
				t.Errorf("%s, %s as %+v: %v\n%s", name, d.Label(), terms, err, after.Text)
			}
		}
	}
	if whole < 30 {
		t.Errorf("only %d doors can be taken apart", whole)
	}
}

// Whatever is chosen makes a door that says just that.
func TestTermsAreRead(t *testing.T) {
	random := rand.New(rand.NewPCG(15, 8))
	pick := func(all ...string) string { return all[random.IntN(len(all))] }
	const text = "roles: { a: , b: }\nkeyrings: { k: , l: }\ndoors:\n  - { path: /, admit: public }\n"
	before, _ := read.Parse("doors.yaml", []byte(text))
	refused := 0
	for range 2000 {
		terms := edit.Terms{
			Who: policy.Kind(pick("public", "signed-in", "nobody", "role", "user", "keyring")), Keyring: pick("", "", "k"),
			Within: pick("", "", "10m"),
		}
		switch terms.Who {
		case policy.Role:
			terms.Names = [][]string{{"a"}, {"a", "b"}}[random.IntN(2)]
		case policy.User:
			terms.Names = [][]string{{"agnes"}, {"true", "o'b"}}[random.IntN(2)]
		case policy.Keyring:
			terms.Names = []string{"l"}
		}
		if random.IntN(3) == 0 {
			terms.From = []string{"192.0.2.0/24", "2001:db8::/32"}[:1+random.IntN(2)]
		}
		if random.IntN(3) == 0 {
			terms.Basic, terms.Realm = true, pick("", "The \"safe\": #1")
		}
		replies := []edit.Reply{{}, {}, {Hide: true}, {Go: "/ask/?a=1"}, {Say: "Ask the office: \"first\""}}
		terms.Anonymous, terms.Refused = replies[random.IntN(5)], replies[random.IntN(5)]
		set, _ := edit.NewDoor(before, "/x/**", "")
		if err := set.SetTerms(before, terms); err != nil {
			refused++
			if terms.Who != policy.Public && terms.Who != policy.Nobody {
				t.Errorf("%+v: %v", terms, err)
			}
			continue
		}
		after, err := edit.Apply("doors.yaml", []byte(text), set)
		if err != nil {
			t.Fatalf("%+v: %v", terms, err)
		}
		d := &after.Book.Doors[1]
		if got, ok := edit.TermsOf(d, after.Book); !ok || !reflect.DeepEqual(got, terms) {
			// Two keyrings are each who they are, or the layer; with a password, people who are signed in.
			if terms.Who != policy.Keyring || terms.Keyring == "" && terms.Within == "" {
				t.Errorf("%+v was read back as %+v from %s", terms, got, d.Admit)
			}
		}
	}
	if refused > 1000 {
		t.Errorf("%d of 2000 were refused", refused)
	}
	for name, terms := range map[string]edit.Terms{
		"who":            {},
		"a role":         {Who: policy.Role},
		"an empty name":  {Who: policy.User, Names: []string{""}},
		"a network":      {Who: policy.SignedIn, From: []string{"the office"}},
		"a time":         {Who: policy.SignedIn, Within: "soon"},
		"no time":        {Who: policy.SignedIn, Within: "0"},
		"alternatives":   {Who: policy.Any},
		"two answers":    {Who: policy.SignedIn, Refused: edit.Reply{Go: "/", Hide: true}},
		"elsewhere":      {Who: policy.SignedIn, Refused: edit.Reply{Go: "//elsewhere.example"}},
		"more of public": {Who: policy.Public, Within: "10m"},
		"more of nobody": {Who: policy.Nobody, From: []string{"192.0.2.0/24"}},
	} {
		set, _ := edit.NewDoor(before, "/x/**", "")
		if err := set.SetTerms(before, terms); err == nil {
			t.Errorf("%s is missing, and %s came of it", name, set.Admit)
		}
	}
}

// Two ways to write one demand are the same terms, and decide alike.
func TestTermsOfOneMeaning(t *testing.T) {
	for one, other := range map[string]string{
		"{ proof-within: 10m }":                       "{ all: [ signed-in, { proof-within: 10m } ] }",
		"{ role: a, keyring: k }":                     "{ keyring: k, role: a }",
		"{ network: 192.0.2.0/24, proof-within: 1h }": "{ all: [ { proof-within: 1h }, signed-in, { network: 192.0.2.0/24 } ] }",
	} {
		var books [2]*policy.Book
		var terms [2]edit.Terms
		for i, demand := range []string{one, other} {
			var findings []document.Finding
			if books[i], findings = read.Parse("doors.yaml",
				[]byte("roles: { a: }\nkeyrings: { k: }\ndoors: [ { path: /**, admit: "+demand+" } ]\n")); books[i] == nil {
				t.Fatal(findings)
			}
			terms[i], _ = edit.TermsOf(&books[i].Doors[0], books[i])
		}
		if !reflect.DeepEqual(terms[0], terms[1]) || terms[0].Who == "" {
			t.Errorf("%s is %+v, %s is %+v", one, terms[0], other, terms[1])
		}
		if differences, err := prove.Compare(books[0], books[1]); err != nil || len(differences) > 0 {
			t.Errorf("%s and %s: %v %v", one, other, differences, err)
		}
	}
}
