package edit_test

import (
	"errors"
	"math/rand/v2"
	"strings"
	"testing"

	"ostiarius/core/policy"
	"ostiarius/core/policy/edit"
	"ostiarius/core/policy/read"
	"ostiarius/core/prove"
)

// Landings and guarantees are edited as doors are: on policies as people write them no door changes, not a
// byte goes that was there, the edit is undone to the byte, and editing twice is editing once.
func TestPromisesAreAdded(t *testing.T) {
	random := rand.New(rand.NewPCG(15, 7))
	pick := func(all ...string) string { return all[random.IntN(len(all))] }
	done, refused := 0, 0
	for name, text := range written(t) {
		before, _ := read.Parse("doors.yaml", []byte(text))
		for range 60 {
			var change, undo edit.Edit
			if random.IntN(2) == 0 {
				l := edit.SetLanding{
					On: pick("sign-in", "sign-out", "password-change"), User: pick("", "agnes", "b-o"), Go: pick("/", "/rota/", "/a b/?x=1"),
				}
				change = l
				l.Go = ""
				undo = l
			} else {
				set, err := edit.NewDoor(before, pick("/new/**", "/a", "/**/*.pdf"), "", strings.Fields(pick("", "POST"))...)
				if err != nil {
					t.Fatal(err)
				}
				g := edit.SetGuarantee{
					Set: set.Set, Written: set.Written, Kind: pick("only", "always", "never"), Because: pick("", "the charter says so: #4"),
				}
				g.Demand, _ = policy.ParseDemand(pick("{ user: agnes }", "signed-in", "network:192.0.2.0/24"))
				if g.Kind == "never" {
					g.Demand = policy.Demand{}
				}
				change, undo = g, edit.RemoveGuarantee{Set: g.Set, Kind: g.Kind}
			}
			after, err := edit.Apply("doors.yaml", []byte(text), change)
			var unsafe *edit.Unsafe
			if errors.As(err, &unsafe) {
				refused++
				continue
			}
			if err != nil {
				t.Fatalf("%s: %#v: %v", name, change, err)
			}
			done++
			if differences, err := prove.Compare(before, after.Book); err != nil || len(differences) > 0 {
				t.Fatalf("%s: %#v changes doors: %v %v", name, change, differences, err)
			}
			twice, err := edit.Apply("doors.yaml", after.Text, change)
			if err != nil || string(twice.Text) != string(after.Text) {
				t.Fatalf("%s: %#v twice: %v\n%s", name, change, err, twice.Text)
			}
			if l, changes := change.(edit.SetLanding); changes && !strings.Contains(text, "landings") {
				line := "on " + l.On // the first one of a policy stays, as an empty list says nothing
				if !strings.Contains(string(after.Text), "  "+l.On+": [ ") {
					t.Fatalf("%s: %s\n%s", name, line, after.Text)
				}
				continue
			}
			if strings.Contains(string(after.Text), text) { // something new stands at an end
				continue
			}
			back, err := edit.Apply("doors.yaml", after.Text, undo)
			if err != nil && !errors.As(err, &unsafe) {
				t.Fatalf("%s: %#v undone: %v\n%s", name, change, err, after.Text)
			}
			if err == nil && string(back.Text) != text && len(before.Guarantees)+len(before.Landings.SignIn) == 0 {
				t.Fatalf("%s: %#v undone is\n%s\nnot\n%s", name, change, back.Text, text)
			}
		}
	}
	if done < 200 || refused > done/4 {
		t.Errorf("%d edits were made and %d refused", done, refused)
	}
}

// What stands there already is changed where it stands, and what is beside it stays to the byte.
func TestPromisesAreChanged(t *testing.T) {
	const text = `roles: { keeper: , trustee: }
doors: [ { path: /**, admit: { role: [keeper, trustee] } } ]
landings:
  # where the day begins
  sign-in:
    - { role: trustee, go: /office/ }   # the office
    - { go: /rota/ }
  sign-out: [ { go: / } ]
guarantees:
  - path: /office/**   # the safe
    only: { role: trustee }
    because: of the charter

  - { path: [/a/**, /b/**], never: public }
`
	set, err := edit.NewDoor(&policy.Book{}, "/office/**", "")
	if err != nil {
		t.Fatal(err)
	}
	signedIn, _ := policy.ParseDemand("signed-in")
	for _, c := range []struct {
		name          string
		edit          edit.Edit
		before, after string
	}{
		{"a page", edit.SetLanding{On: "sign-in", Role: "trustee", Go: "/desk/"}, "go: /office/", "go: /desk/"},
		{"another role goes before everybody", edit.SetLanding{On: "sign-in", Role: "keeper", Go: "/log/"}, "    - { go: /rota/ }",
			"    - { role: keeper, go: /log/ }\n    - { go: /rota/ }"},
		{"in brackets too", edit.SetLanding{On: "sign-out", User: "agnes", Go: "/bye"}, "[ { go: / } ]",
			"[ { user: agnes, go: /bye }, { go: / } ]"},
		{"a list of its own", edit.SetLanding{On: "password-change", Go: "/"}, "  sign-out: [ { go: / } ]\n",
			"  sign-out: [ { go: / } ]\n  password-change: [ { go: / } ]\n"},
		{"a line goes", edit.SetLanding{On: "sign-in", Go: ""}, "    - { go: /rota/ }\n", ""},
		{"a promise", edit.SetGuarantee{Set: set.Set, Written: "/office/**", Kind: "only", Demand: signedIn}, "only: { role: trustee }",
			"only: signed-in"},
		{"a reason", edit.SetGuarantee{Set: set.Set, Written: "/office/**", Kind: "only", Demand: signedIn, Because: "asked"},
			"only: { role: trustee }\n    because: of the charter", "only: signed-in\n    because: asked"},
		{"another promise", edit.SetGuarantee{Set: set.Set, Written: "/office/**", Kind: "never"}, "never: public }\n",
			"never: public }\n\n  - { path: /office/**, never: public }\n"},
		{"a promise goes", edit.RemoveGuarantee{Set: set.Set, Kind: "only"},
			"  - path: /office/**   # the safe\n    only: { role: trustee }\n    because: of the charter\n\n", ""},
	} {
		t.Run(c.name, func(t *testing.T) {
			after, err := edit.Apply("doors.yaml", []byte(text), c.edit)
			if err != nil {
				t.Fatal(err)
			}
			if want := strings.Replace(text, c.before, c.after, 1); string(after.Text) != want {
				t.Errorf("it is\n%s\nnot\n%s", after.Text, want)
			}
		})
	}
	for name, change := range map[string]edit.Edit{
		"no such time":      edit.SetLanding{On: "lunch", Go: "/"},
		"no such role":      edit.SetLanding{On: "sign-in", Role: "cook", Go: "/"},
		"elsewhere":         edit.SetLanding{On: "sign-in", Go: "https://elsewhere.example/"},
		"no such word":      edit.SetGuarantee{Set: set.Set, Written: "/office/**", Kind: "mostly"},
		"no such guarantee": edit.RemoveGuarantee{Set: set.Set, Kind: "always"},
	} {
		if after, err := edit.Apply("doors.yaml", []byte(text), change); err == nil {
			t.Errorf("%s: %s", name, after.Text)
		}
	}
	var unsafe *edit.Unsafe
	several, _ := edit.NewDoor(&policy.Book{}, "/a/**", "")
	if _, err := edit.Apply("doors.yaml", []byte(text), edit.RemoveGuarantee{Set: several.Set, Kind: "never"}); !errors.As(err,
		&unsafe) || unsafe.Line != 14 {
		t.Errorf("a guarantee about several paths: %v", err)
	}
}
