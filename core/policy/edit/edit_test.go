package edit_test

import (
	"errors"
	"fmt"
	"math/rand/v2"
	"os"
	"slices"
	"strings"
	"testing"
	"time"

	"ostiarius/core/policy"
	"ostiarius/core/policy/edit"
	"ostiarius/core/policy/read"
	"ostiarius/core/prove"
)

// written are policies as people write them.
func written(t testing.TB) map[string]string {
	demo, err := os.ReadFile("../../../demo/doors.yaml")
	if err != nil {
		t.Fatal(err)
	}
	return map[string]string{
		"the demo": string(demo),
		"one line a door": `# who may go where
roles: { keeper: , trustee: { includes: [keeper] } }

doors:
  # for everybody
  - { path: /, admit: public }
  - { path: /visit/**, admit: public }   # and the pictures

  # the crew
  - { path: /rota/**, admit: { role: keeper } } # rota
  - { path: "/log/**", admit: {role: 'keeper'}, otherwise: hide }
# the end
`,
		"tight and flat": "roles: {keeper: {includes: [trustee]}, trustee: }\ndoors:\n- {path: /a/**, admit: public}\n- {path: [/b, " +
			"/b/*.pdf], admit: {role: [keeper, trustee]}}\n- {path: /c, host: \"*.marram.example\", methods: POST, admit: signed-in}",
		"blocks": `site: "Marram: the lighthouse"
doors:
    -   path: /members/**
        admit:
            # not for long
            role: member
    -   path:
            - /shop/**
            - /basket      # with a comment
            - /till
        methods: [GET,
                  POST]
        admit: public

    -   path: /office/**
        admit:
            any:
                - { role: member }
                - all:
                    - user: agnes
                    - network: 192.0.2.0/24
        ask: basic
        realm: The office
        otherwise:
            refused:
                say: "Ask # first"

roles:
    member:
`,
		"brackets": "doors: [ { path: /, admit: public }, { path: /a/**, admit: nobody } ]\nunlisted: hide\n",
		"brackets on lines": "roles: {}\nkeyrings:\ndoors: [\n  { path: /, admit: public },\n  { path: [ /a/**, /b/** ], admit: nobody " +
			"},\n  { path: /c, admit: signed-in }\n]\n",
		"windows": "roles:\r\n  keeper:\r\ndoors:\r\n  - { path: /, admit: public }\r\n\r\n  - path: /é/**\r\n    admit: { role: keeper }  " +
			" # Ã¤\r\n",
		"letters": "doors:\n  - { path: /größe/**, admit: public } # 李\n  - { path: \"/a b/**\", admit: public, otherwise: { refused: { " +
			"say: \"ö, 'ü' # \\\"x\\\"\" } } }\n",
	}
}

// demands are texts of demands that can be asked for in every policy.
var demands = []string{
	"public", "signed-in", "nobody", "user:agnes", "{ user: [agnes, \"b-o\"] }", "network:192.0.2.0/24+signed",
	"{ any: [ { user: agnes }, { network: 10.0.0.0/8, proof-within: 10m } ] }",
	"{ all: [ { user: a }, { user: b } ] }", "user:x+proof-within:5m",
}

// covers reports whether a witness lies in the places of a door.
func covers(s *edit.SetDoor, w prove.Difference) bool {
	path := w.Witness.Path
	if path != "/" {
		path = strings.TrimSuffix(path, "/")
	}
	return s.Set.Path.Covers(path)
}

// An edit changes what it is to change and nothing else: not at other places, and not a byte of what it does
// not concern. It can be undone to the byte, and editing twice is editing once.
func TestEditsChangeOneThing(t *testing.T) {
	random := rand.New(rand.NewPCG(15, 1))
	paths := []string{"/", "/a/**", "/a", "/b", "/rota/**", "/rota/pay/**", "/log/**", "/visit/tours", "/shop/**", "/new",
		"/new/deep/er/**", "/**/*.pdf", "/**", "/office/**", "/till", "/members/x", "/größe/**", "/a b/**", "/c"}
	edited, refused := 0, 0
	for name, text := range written(t) {
		before, findings := read.Parse("doors.yaml", []byte(text))
		if before == nil {
			t.Fatalf("%s: %v", name, findings)
		}
		for range 60 {
			var methods []string
			if random.IntN(4) == 0 {
				methods = []string{"POST", "DELETE"}[:1+random.IntN(2)]
			}
			host := []string{"", "", "", "marram.example", "*.marram.example"}[random.IntN(5)]
			set, err := edit.NewDoor(before, paths[random.IntN(len(paths))], host, methods...)
			if err != nil {
				t.Fatal(err)
			}
			demand := demands[random.IntN(len(demands))]
			if set.Admit, err = policy.ParseDemand(demand); err != nil {
				if strings.Contains(demand, "+signed") {
					continue // is none
				}
				t.Fatalf("%s: %v", demand, err)
			}
			set.Basic = random.IntN(5) == 0
			if set.Basic && random.IntN(2) == 0 {
				set.Realm = "The \"gate\": inner"
			}
			if random.IntN(3) == 0 {
				set.Otherwise, err = policy.ParseOtherwise([]string{"hide", "{ refused: { say: \"Please, ask: us # today\" } }",
					"{ anonymous: { go: /ask/ }, refused: hide }"}[random.IntN(3)])
				if err != nil {
					t.Fatal(err)
				}
			}
			is := slices.ContainsFunc(before.Doors, func(d policy.Door) bool {
				return d.Path.String() == set.Set.Path.String() && d.Host == set.Set.Host && d.Methods.String() == set.Set.Methods.String()
			})
			after, err := edit.Apply("doors.yaml", []byte(text), set)
			var unsafe *edit.Unsafe
			if errors.As(err, &unsafe) {
				refused++
				continue
			}
			what := fmt.Sprintf("%s: %s%s %v %s", name, host, set.Written, methods, demand)
			if err != nil {
				if strings.Contains(err.Error(), "go-loop") || strings.Contains(err.Error(), "turned away") {
					continue
				}
				t.Fatalf("%s: %v", what, err)
			}
			edited++
			// Elsewhere nothing changes.
			differences, err := prove.Compare(before, after.Book)
			if err != nil {
				t.Fatal(err)
			}
			for _, d := range differences {
				if !covers(&set, d) {
					t.Errorf("%s changes %+v in\n%s", what, d.Witness, after.Text)
				}
			}
			// No line goes but those of the door's own entry.
			gone := missing(text, string(after.Text))
			if !is && len(gone) > 0 && !strings.Contains(gone[0], "path: [") && !strings.Contains(gone[0], "doors: [") &&
				!strings.Contains(gone[0], "}") {
				t.Errorf("%s takes out %q of\n%s\ngives\n%s", what, gone, text, after.Text)
			}
			for _, line := range gone {
				if i := strings.Index(line, "#"); i > 0 && !strings.Contains(line[:i], "\"") &&
					strings.HasPrefix(strings.TrimSpace(line[i-1:]), "# ") && !strings.Contains(string(after.Text), strings.TrimSpace(line[i:])) {
					t.Errorf("%s loses the comment %q: %s", what, line, after.Text)
				}
			}
			// Twice is once.
			twice, err := edit.Apply("doors.yaml", after.Text, set)
			if err != nil {
				t.Fatalf("%s, twice: %v\n%s", what, err, after.Text)
			}
			if string(twice.Text) != string(after.Text) {
				t.Errorf("%s, twice:\n%s\n%s", what, after.Text, twice.Text)
			}
			// Undone it is as before.
			if !is {
				back, err := edit.Apply("doors.yaml", after.Text, edit.RemoveDoor{Set: set.Set})
				if err != nil {
					t.Fatalf("%s, undone: %v\n%s", what, err, after.Text)
				}
				if string(back.Text) != text {
					t.Errorf("%s, undone:\n%s\nthen\n%s", what, after.Text, back.Text)
				}
			}
			// Ends of lines stay.
			if strings.Count(text, "\r\n") > 0 && strings.Count(string(after.Text), "\n") != strings.Count(string(after.Text), "\r\n") {
				t.Errorf("%s mixes ends of lines: %q", what, after.Text)
			}
			if t.Failed() {
				return
			}
		}
	}
	if edited < 300 || refused > edited/10 {
		t.Errorf("%d edits were made and %d refused", edited, refused)
	}
}

// missing returns the lines of a text that another has no more.
func missing(before, after string) (lines []string) {
	left := map[string]int{}
	for line := range strings.Lines(after) {
		left[strings.TrimSpace(line)]++
	}
	for line := range strings.Lines(before) {
		if line = strings.TrimSpace(line); left[line] == 0 {
			lines = append(lines, line)
		} else {
			left[line]--
		}
	}
	return lines
}

// Every door can be taken out, alone or of a list; at other places all stays, and no comment in a line of its
// own goes.
func TestDoorsAreRemoved(t *testing.T) {
	removed := 0
	for name, text := range written(t) {
		before, _ := read.Parse("doors.yaml", []byte(text))
		for _, d := range before.Doors {
			after, err := edit.Apply("doors.yaml", []byte(text), edit.RemoveDoor{Set: d.Set})
			var unsafe *edit.Unsafe
			if errors.As(err, &unsafe) {
				continue
			}
			if err != nil {
				t.Fatalf("%s, %s: %v", name, d.Label(), err)
			}
			removed++
			differences, err := prove.Compare(before, after.Book)
			if err != nil {
				t.Fatal(err)
			}
			for _, other := range differences {
				if !covers(&edit.SetDoor{Set: d.Set}, other) {
					t.Errorf("%s without %s changes %+v in\n%s", name, d.Label(), other.Witness, after.Text)
				}
			}
			for _, line := range missing(text, string(after.Text)) {
				if strings.HasPrefix(line, "#") && line != "# not for long" { // which stands within its door
					t.Errorf("%s without %s loses %q", name, d.Label(), line)
				}
			}
			if _, err := edit.Apply("doors.yaml", after.Text, edit.RemoveDoor{Set: d.Set}); !errors.Is(err, edit.ErrNoDoor) {
				t.Errorf("%s, %s twice: %v", name, d.Label(), err)
			}
		}
	}
	if removed < 35 {
		t.Errorf("only %d doors could be removed", removed)
	}
}

// Roles and keyrings are declared where others are, and what no door covers is said where it was.
func TestDeclarations(t *testing.T) {
	for name, text := range written(t) {
		done, err := edit.Apply("doors.yaml", []byte(text), edit.DeclareRole{Name: "warden"},
			edit.DeclareRole{Name: "chief", Includes: []string{"warden"}},
			edit.DeclareKeyring{Name: "sheds", Realm: "The \"sheds\""}, edit.DeclareKeyring{Name: "boats"}, edit.SetUnlisted{Word: "hide"},
			edit.DeclareShared{Name: "kit", Title: "Press: \"kit\"", Lasts: 7 * 24 * time.Hour},
			edit.DeclareShared{Name: "all", Forever: true}, edit.DeclareShared{Name: "plain"},
			edit.DeclarePass{Name: "sounds", Title: "Sounds", Lasts: 36 * time.Hour, Downloads: 3}, edit.DeclarePass{Name: "plain"})
		if err != nil {
			t.Errorf("%s: %v", name, err)
			continue
		}
		if !done.Book.KnownRole("warden") || !done.Book.Satisfies("chief", "warden") || done.Book.UnlistedWord() != "hide" {
			t.Errorf("%s: %s", name, done.Text)
		}
		rings := map[string]string{}
		for _, k := range done.Book.Keyrings {
			rings[k.Name] = k.Realm
		}
		if rings["sheds"] != `The "sheds"` || rings["boats"] != "boats" {
			t.Errorf("%s: %v in\n%s", name, rings, done.Text)
		}
		if kit, all, plain := policy.SharedNamed(done.Book, "kit"), policy.SharedNamed(done.Book, "all"), policy.SharedNamed(done.Book,
			"plain"); kit == nil || kit.Title != `Press: "kit"` || kit.Lasts != 7*24*time.Hour || !all.Forever || plain.Title != "plain" {
			t.Errorf("%s: %+v %+v %+v in\n%s", name, kit, all, plain, done.Text)
		}
		if sounds, plain := policy.PassNamed(done.Book, "sounds"), policy.PassNamed(done.Book, "plain"); sounds == nil ||
			sounds.Lasts != 36*time.Hour || sounds.Downloads != 3 || plain == nil || plain.Lasts != 14*24*time.Hour {
			t.Errorf("%s: %+v %+v in\n%s", name, sounds, plain, done.Text)
		}
		for _, line := range missing(text, string(done.Text)) {
			if !strings.Contains(line, "unlisted:") && !strings.HasPrefix(line, "roles: {") {
				t.Errorf("%s loses %q", name, line)
			}
		}
		again, err := edit.Apply("doors.yaml", done.Text, edit.DeclareRole{Name: "warden"}, edit.DeclareKeyring{Name: "boats"},
			edit.SetUnlisted{Word: "hide"}, edit.DeclareShared{Name: "all", Forever: true}, edit.DeclarePass{Name: "plain"})
		if err != nil || string(again.Text) != string(done.Text) {
			t.Errorf("%s, again: %v", name, err)
		}
	}
}

// What cannot be edited is refused with its place and the reason.
func TestEditsThatAreRefused(t *testing.T) {
	set := func(text, path string) edit.SetDoor {
		book, findings := read.Parse("doors.yaml", []byte(text))
		if book == nil {
			book, _ = read.Parse("doors.yaml", []byte("doors: [{path: /, admit: public}]"))
		}
		s, err := edit.NewDoor(book, path, "")
		if err != nil {
			t.Fatal(err, findings)
		}
		s.Admit.Kind = policy.Nobody
		return s
	}
	for _, test := range []struct{ text, path, want string }{
		{"doors: [", "/a", "doors.yaml:1:8: this is not YAML"},
		{"doors: [{path: /, admit: &x public}]", "/a", "a policy can't use an anchor (&)"},
		{"{doors: [{path: /, admit: public}]}", "/a", "doors.yaml:1:1: this cannot be edited without rewriting it: the whole policy stands " +
			"in brackets"},
		{"doors:\n  -\n    path: /\n    admit: public\n", "/a",
			"doors.yaml:3:5: this cannot be edited without rewriting it: it does not begin right behind its dash"},
		{"doors:\n  - path: /a\n    admit:\n      # for now\n      user: bo\n", "/a",
			"doors.yaml:5:7: this cannot be edited without rewriting it: there are comments in it"},
		{"doors:\r\n  - { path: /, admit: public }\n", "/a", "its lines end in two ways"},
		{"doors:\n  - { path: /a, admit: { user: no-role } }\n  - { path: /b, admit: { role: x } }\n", "/a", `doors.yaml:3:32: unknown role "x"`},
	} {
		done, err := edit.Apply("doors.yaml", []byte(test.text), set(test.text, test.path))
		if err == nil || !strings.Contains(err.Error(), test.want) {
			t.Errorf("%q: %v %+v", test.text, err, done)
		}
	}
	last := "doors:\n  - { path: /a, admit: public }\n"
	if _, err := edit.Apply("doors.yaml", []byte(last), edit.RemoveDoor{Set: set(last, "/a").Set}); !errors.Is(err, edit.ErrLastDoor) {
		t.Errorf("the last door: %v", err)
	}
	unknown := set(last, "/b")
	unknown.Admit = policy.Demand{Kind: policy.Role, Names: []string{"keper"}}
	if _, err := edit.Apply("doors.yaml", []byte(last), unknown); err == nil || !strings.Contains(err.Error(), `unknown role "keper"`) {
		t.Errorf("a role that nobody has: %v", err)
	}
}

// What an edit says nothing of goes along when a door leaves its list.
func TestCredentialsAreForwardedOn(t *testing.T) {
	const text = "doors:\n  - { path: [/a, /b], admit: { user: bo }, ask: basic, forward-credentials: true }\n"
	book, _ := read.Parse("doors.yaml", []byte(text))
	set, err := edit.NewDoor(book, "/b", "")
	if err != nil {
		t.Fatal(err)
	}
	set.Admit, set.Basic = policy.Demand{Kind: policy.SignedIn}, true
	after, err := edit.Apply("doors.yaml", []byte(text), set)
	if err != nil || len(after.Book.Doors) != 2 || !after.Book.Doors[1].ForwardCredentials {
		t.Fatalf("%+v %v", after, err)
	}
}

// Demands are written as they are read.
func TestDemandTexts(t *testing.T) {
	for text, want := range map[string]string{
		"public": "public", "role:keeper": "{ role: keeper }", "keyring:outer+role:trustee": "{ keyring: outer, role: trustee }",
		"{ any: [ { role: a }, { pass: b, network: [192.0.2.0/24, \"2001:db8::/32\"] } ] }": "{ any: [ { role: a }, { pass: b, network: " +
			"[192.0.2.0/24, \"2001:db8::/32\"] } ] }",
		"{all: [{role: a}, {role: b}]}": "{ all: [ { role: a }, { role: b } ] }",
		"proof-within:10m+role:x":       "{ proof-within: 10m, role: x }", `{user: "true"}`: `{ user: "true" }`,
		"role:a+role:b": "", "role:": "", "signed": "", "": "", "role keeper": "", "{}": "", "{ role: }": "", "any:x": "",
	} {
		d, err := policy.ParseDemand(text)
		if (err == nil) != (want != "") || err == nil && d.Text() != want {
			t.Errorf("%q: %q %v", text, d.Text(), err)
		}
		if err != nil {
			continue
		}
		if again, err := policy.ParseDemand(d.Text()); err != nil || again.String() != d.String() {
			t.Errorf("%q, read again: %v %v", text, again, err)
		}
	}
}

// FuzzEdit: whatever text, an edit gives an error or a policy that differs at the places of the edit alone.
func FuzzEdit(f *testing.F) {
	for _, text := range written(f) {
		f.Add(text, "/new/**", "user:agnes", true)
		f.Add(text, "/a", "public", false)
	}
	f.Add("doors:\n- path: [\"/a\" , '/b'  , /c]\n  admit: {user: \"x # y\"} # z\n", "/b", "nobody", false)
	f.Add("doors: [\n{path: /a, admit: public},# c\n{path: /b, admit: public},\n]", "/c", "nobody", false)
	f.Fuzz(func(t *testing.T, text, path, demand string, hide bool) {
		before, _ := read.Parse("doors.yaml", []byte(text))
		if before == nil || len(before.Doors) > 20 {
			return
		}
		set, err := edit.NewDoor(before, path, "")
		if err != nil {
			return
		}
		if set.Admit, err = policy.ParseDemand(demand); err != nil {
			return
		}
		if hide {
			set.Otherwise = policy.Otherwise{Anonymous: policy.Instead{Hide: true}, Refused: policy.Instead{Hide: true}}
		}
		after, err := edit.Apply("doors.yaml", []byte(text), set)
		if err != nil {
			return
		}
		differences, err := prove.Compare(before, after.Book)
		if err != nil {
			return
		}
		for _, d := range differences {
			if !covers(&set, d) {
				t.Fatalf("%q: %s %s changes %+v: %q", text, path, demand, d.Witness, after.Text)
			}
		}
		again, err := edit.Apply("doors.yaml", after.Text, set)
		if err != nil || string(again.Text) != string(after.Text) {
			t.Fatalf("%q: %s %s: twice: %v", text, path, demand, err)
		}
	})
}

// A new door may say why it is there, behind it; without the door the reason goes too.
func TestNewDoorsSayWhy(t *testing.T) {
	for text, want := range map[string]string{
		"doors:\n  - { path: /, admit: public }\n": "doors:\n  - { path: /, admit: public }\n  - { path: /backup.zip, admit: " +
			"nobody }   # a backup; x: y\n",
		"doors:\n- path: /\n  admit: public   # first\n# end\n": "doors:\n- path: /\n  admit: public   # first\n- path: /backup.zip   # a " +
			"backup; x: y\n  admit: nobody\n# end\n",
		// no line of its own
		"doors: [ { path: /, admit: public } ]\n": "doors: [ { path: /, admit: public }, { path: /backup.zip, admit: nobody } ]\n",
	} {
		book, findings := read.Parse("doors.yaml", []byte(text))
		if book == nil {
			t.Fatal(findings)
		}
		set, err := edit.NewDoor(book, "/backup.zip", "")
		if err != nil {
			t.Fatal(err)
		}
		set.Admit, set.Because = policy.Demand{Kind: policy.Nobody}, "a backup;\n x: \u202ey \u2028"
		done, err := edit.Apply("doors.yaml", []byte(text), set)
		if err != nil || string(done.Text) != want {
			t.Errorf("%v\n%s, want\n%s", err, done.Text, want)
			continue
		}
		undone, err := edit.Apply("doors.yaml", done.Text, edit.RemoveDoor{Set: set.Set})
		if err != nil || string(undone.Text) != text {
			t.Errorf("undone: %v\n%s", err, undone.Text)
		}
	}
}
