package policy_test

import (
	"errors"
	"math/rand/v2"
	"strings"
	"testing"

	"ostiarius/core/policy"
	"ostiarius/core/prove"
)

// Landings and guarantees are edited as doors are: on policies as people write them no door changes, not a
// byte goes that was there, the edit is undone to the byte, and editing twice is editing once.
func TestPromisesAreAdded(t *testing.T) {
	random := rand.New(rand.NewPCG(15, 7))
	pick := func(all ...string) string { return all[random.IntN(len(all))] }
	done, refused := 0, 0
	for name, text := range written(t) {
		before, _ := policy.Parse("doors.yaml", []byte(text))
		for range 60 {
			var edit, undo policy.Edit
			if random.IntN(2) == 0 {
				l := policy.SetLanding{
					On: pick("sign-in", "sign-out", "password-change"), User: pick("", "agnes", "b-o"), Go: pick("/", "/rota/", "/a b/?x=1"),
				}
				edit = l
				l.Go = ""
				undo = l
			} else {
				set, err := policy.NewDoor(before, pick("/new/**", "/a", "/**/*.pdf"), "", strings.Fields(pick("", "POST"))...)
				if err != nil {
					t.Fatal(err)
				}
				g := policy.SetGuarantee{
					Set: set.Set, Written: set.Written, Kind: pick("only", "always", "never"), Because: pick("", "the charter says so: #4"),
				}
				g.Demand, _ = policy.ParseDemand(pick("{ user: agnes }", "signed-in", "network:192.0.2.0/24"))
				if g.Kind == "never" {
					g.Demand = policy.Demand{}
				}
				edit, undo = g, policy.RemoveGuarantee{Set: g.Set, Kind: g.Kind}
			}
			after, err := policy.Apply("doors.yaml", []byte(text), edit)
			var unsafe *policy.Unsafe
			if errors.As(err, &unsafe) {
				refused++
				continue
			}
			if err != nil {
				t.Fatalf("%s: %#v: %v", name, edit, err)
			}
			done++
			if differences, err := prove.Compare(before, after.Book); err != nil || len(differences) > 0 {
				t.Fatalf("%s: %#v changes doors: %v %v", name, edit, differences, err)
			}
			twice, err := policy.Apply("doors.yaml", after.Text, edit)
			if err != nil || string(twice.Text) != string(after.Text) {
				t.Fatalf("%s: %#v twice: %v\n%s", name, edit, err, twice.Text)
			}
			if l, changes := edit.(policy.SetLanding); changes && !strings.Contains(text, "landings") {
				line := "on " + l.On // the first one of a policy stays, as an empty list says nothing
				if !strings.Contains(string(after.Text), "  "+l.On+": [ ") {
					t.Fatalf("%s: %s\n%s", name, line, after.Text)
				}
				continue
			}
			if strings.Contains(string(after.Text), text) { // something new stands at an end
				continue
			}
			back, err := policy.Apply("doors.yaml", after.Text, undo)
			if err != nil && !errors.As(err, &unsafe) {
				t.Fatalf("%s: %#v undone: %v\n%s", name, edit, err, after.Text)
			}
			if err == nil && string(back.Text) != text && len(before.Guarantees)+len(before.Landings.SignIn) == 0 {
				t.Fatalf("%s: %#v undone is\n%s\nnot\n%s", name, edit, back.Text, text)
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
	set, err := policy.NewDoor(&policy.Book{}, "/office/**", "")
	if err != nil {
		t.Fatal(err)
	}
	signedIn, _ := policy.ParseDemand("signed-in")
	for _, c := range []struct {
		name          string
		edit          policy.Edit
		before, after string
	}{
		{"a page", policy.SetLanding{On: "sign-in", Role: "trustee", Go: "/desk/"}, "go: /office/", "go: /desk/"},
		{"another role goes before everybody", policy.SetLanding{On: "sign-in", Role: "keeper", Go: "/log/"}, "    - { go: /rota/ }",
			"    - { role: keeper, go: /log/ }\n    - { go: /rota/ }"},
		{"in brackets too", policy.SetLanding{On: "sign-out", User: "agnes", Go: "/bye"}, "[ { go: / } ]",
			"[ { user: agnes, go: /bye }, { go: / } ]"},
		{"a list of its own", policy.SetLanding{On: "password-change", Go: "/"}, "  sign-out: [ { go: / } ]\n",
			"  sign-out: [ { go: / } ]\n  password-change: [ { go: / } ]\n"},
		{"a line goes", policy.SetLanding{On: "sign-in", Go: ""}, "    - { go: /rota/ }\n", ""},
		{"a promise", policy.SetGuarantee{Set: set.Set, Written: "/office/**", Kind: "only", Demand: signedIn}, "only: { role: trustee }",
			"only: signed-in"},
		{"a reason", policy.SetGuarantee{Set: set.Set, Written: "/office/**", Kind: "only", Demand: signedIn, Because: "asked"},
			"only: { role: trustee }\n    because: of the charter", "only: signed-in\n    because: asked"},
		{"another promise", policy.SetGuarantee{Set: set.Set, Written: "/office/**", Kind: "never"}, "never: public }\n",
			"never: public }\n\n  - { path: /office/**, never: public }\n"},
		{"a promise goes", policy.RemoveGuarantee{Set: set.Set, Kind: "only"},
			"  - path: /office/**   # the safe\n    only: { role: trustee }\n    because: of the charter\n\n", ""},
	} {
		t.Run(c.name, func(t *testing.T) {
			after, err := policy.Apply("doors.yaml", []byte(text), c.edit)
			if err != nil {
				t.Fatal(err)
			}
			if want := strings.Replace(text, c.before, c.after, 1); string(after.Text) != want {
				t.Errorf("it is\n%s\nnot\n%s", after.Text, want)
			}
		})
	}
	for name, edit := range map[string]policy.Edit{
		"no such time":      policy.SetLanding{On: "lunch", Go: "/"},
		"no such role":      policy.SetLanding{On: "sign-in", Role: "cook", Go: "/"},
		"elsewhere":         policy.SetLanding{On: "sign-in", Go: "https://elsewhere.example/"},
		"no such word":      policy.SetGuarantee{Set: set.Set, Written: "/office/**", Kind: "mostly"},
		"no such guarantee": policy.RemoveGuarantee{Set: set.Set, Kind: "always"},
	} {
		if after, err := policy.Apply("doors.yaml", []byte(text), edit); err == nil {
			t.Errorf("%s: %s", name, after.Text)
		}
	}
	var unsafe *policy.Unsafe
	several, _ := policy.NewDoor(&policy.Book{}, "/a/**", "")
	if _, err := policy.Apply("doors.yaml", []byte(text), policy.RemoveGuarantee{Set: several.Set, Kind: "never"}); !errors.As(err,
		&unsafe) || unsafe.Line != 14 {
		t.Errorf("a guarantee about several paths: %v", err)
	}
}
