package prove

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"testing"
	"time"

	"ostiarius/core/document"
	"ostiarius/core/factor"
	"ostiarius/core/place"
	"ostiarius/core/policy"
)

// rulesOf returns the findings of a policy by their rules, each with its line and what it says.
func rulesOf(t *testing.T, text string) map[string][]document.Finding {
	t.Helper()
	found := map[string][]document.Finding{}
	for _, f := range Check(parse(t, text), "doors.yaml") {
		found[f.Rule] = append(found[f.Rule], f)
	}
	return found
}

// A table of expectations is answered line by line; a role that the policy doesn't have is no answer.
func TestExpect(t *testing.T) {
	book := parse(t, "roles: {keeper: }\ndoors: [{path: /log/**, admit: {role: keeper}}]\n")
	ask := func(path, who string) policy.Request {
		request, _, err := policy.ReadRequest("GET", path)
		if err != nil {
			t.Fatal(err)
		}
		return request
	}
	var table []policy.Expectation
	for i, line := range []struct {
		path, who string
		outcome   policy.Outcome
	}{{"/log/", "role:keeper", policy.Admit}, {"/log/", "anonymous", policy.Admit}, {"/log/", "role:keper", policy.Refuse},
		{"/log/%2f", "anonymous", policy.Reject}} {
		who, err := policy.ParseVisitor(line.who)
		if err != nil {
			t.Fatal(err)
		}
		table = append(table, policy.Expectation{
			Position: document.Position{Line: i + 1}, Who: who, Request: ask(line.path, line.who), Address: line.path, Outcome: line.outcome,
		})
	}
	var said []string
	for _, a := range Expect(book, table) {
		said = append(said, fmt.Sprint(a.Line, a.As, a.Outcome, a.OK, len(a.Doors), a.Note != ""))
	}
	want := []string{
		"1role:keeperadmittrue 1 false", "2anonymouschallengefalse 1 false", "3role:keperrefusefalse 1 true", "4anonymousrejecttrue 0 true",
	}
	for i := range want {
		want[i] = strings.ReplaceAll(want[i], " ", "")
		said[i] = strings.ReplaceAll(said[i], " ", "")
	}
	if !slices.Equal(said, want) {
		t.Errorf("%q, want %q", said, want)
	}
}

// What is said once is not said again for each part of a door.
func TestFindingsAreSaidOnce(t *testing.T) {
	found := rulesOf(t, `doors:
  - { path: /**, admit: public }
  - { path: /a/**, admit: nobody }
  - { path: /**/*.map, admit: public }
  - { path: /**, methods: [ POST ], admit: public }
`)
	if all := found["nobody-under-open"]; len(all) != 1 || all[0].Line != 3 {
		t.Errorf("%+v", all)
	}
	found = rulesOf(t, "doors:\n  - { path: /**, admit: signed-in }\n  - { path: /visit/**, admit: public }\n")
	if all := found["open-under-closed"]; len(all) != 1 || !strings.Contains(all[0].Message, "- { path: /visit/**, always: public }") {
		t.Errorf("%+v", all)
	}
}

// A door that nobody can pass is found behind one that says so itself, and its witness could show more than anybody.
func TestWhatNobodyCanShow(t *testing.T) {
	found := rulesOf(t, `roles: { keeper: }
doors:
  - { path: /none, admit: nobody }
  - { path: /two, admit: { all: [ { user: ann }, { user: bo } ] } }
  - { path: /log, admit: { role: keeper } }
`)
	all := found["nobody-can"]
	if len(all) != 1 || all[0].Line != 4 || all[0].Witness == nil || all[0].Witness.Visitor != "role:keeper+steward" {
		t.Errorf("%+v", all)
	}
	var names, asked []string
	for i := range 24 {
		names = append(names, fmt.Sprintf("s%d: ", i))
		asked = append(asked, fmt.Sprintf("{ shared: s%d }", i))
	}
	found = rulesOf(t, "shared: { "+strings.Join(names, ", ")+" }\ndoors:\n  - { path: /x, admit: { any: [ "+strings.Join(asked, ", ")+
		" ] } }\n")
	if all := found["not-examined"]; len(all) == 0 || !strings.Contains(all[0].Message, "could not be examined") ||
		found["nobody-can"] != nil {
		t.Errorf("%+v", found)
	}
}

// Each guarantee is looked at, whatever becomes of those before; and what cannot be proven does not hold.
func TestEachGuaranteeIsLookedAt(t *testing.T) {
	found := rulesOf(t, `doors:
  - { path: /a, admit: nobody }
  - { path: /b, admit: public }
guarantees:
  - { path: /a, never: public }
  - { path: /b, never: public }
`)
	if all := found["guarantee-broken"]; len(all) != 1 || all[0].Line != 6 {
		t.Errorf("%+v", all)
	}
	var names, asked []string
	for i := range 24 {
		names = append(names, fmt.Sprintf("s%d: ", i))
		asked = append(asked, fmt.Sprintf("{ shared: s%d }", i))
	}
	found = rulesOf(t, "shared: { "+strings.Join(names, ", ")+" }\ndoors:\n  - { path: /x, admit: { any: [ "+strings.Join(asked, ", ")+
		" ] } }\n"+
		"guarantees:\n  - { path: /x, only: { shared: s1 } }\n")
	if all := found["guarantee-unproven"]; len(all) != 1 || !strings.Contains(all[0].Message, "too many things at once") ||
		found["guarantee-broken"] != nil {
		t.Errorf("%+v", found)
	}
}

// Where guarantees and checks cover a place too, doors are told apart from them.
func TestDoorsAmongOtherSets(t *testing.T) {
	text := `roles: { keeper: }
doors:
  - { path: /a/**, methods: [ GET ], admit: { role: keeper } }
  - { path: /a/**, admit: public }
checks:
  look: { path: /a/x, admit: { role: keeper } }
guarantees:
  - { path: /**, never: public }
  - { path: /a/x, only: { role: keeper } }
`
	if all := rulesOf(t, text)["method-open"]; len(all) > 1 {
		t.Errorf("%+v", all)
	}
	ground, err := Survey(parse(t, text))
	if err != nil {
		t.Fatal(err)
	}
	for _, row := range ground.Regions(nil).Rows {
		for _, d := range row.Doors {
			if d.Line > 4 && d.Line != 6 {
				t.Errorf("%s is decided by line %d, which is no door", row.Label, d.Line)
			}
		}
	}
}

// Roles that no door asks for are alike: many of them make nothing harder to prove.
func TestRolesThatMatterNothing(t *testing.T) {
	var names []string
	for i := range 40 {
		names = append(names, fmt.Sprintf("r%d: ", i))
	}
	head := "roles: { keeper: , " + strings.Join(names, ", ") + " }\ndoors:\n"
	before, after := parse(t, head+"  - { path: /log, admit: { role: keeper } }\n"), parse(t, head+"  - { path: /log, admit: signed-in }\n")
	all, err := Compare(before, after)
	if err != nil || len(all) != 1 || all[0].Effect != "opened" {
		t.Errorf("%+v %v", all, err)
	}
}

// A witness shows as little as can be: what it has shown is counted.
func TestProofsAreCounted(t *testing.T) {
	shown := factor.Shown{}.With(factor.Code, time.Minute)
	for n, v := range map[int]policy.Visitor{
		0: {}, 1: {SignedIn: true}, 2: {Shared: []string{"s"}}, 3: {SignedIn: true, Account: "ann"},
		4: {SignedIn: true, Roles: []string{"keeper"}, ProofAge: time.Minute},
		5: {SignedIn: true, Passes: []string{"p"}, Keyrings: []string{"k"}},
	} {
		if got := proofs(v); got != n {
			t.Errorf("%+v: %d, want %d", v, got, n)
		}
		v.Factors = shown
		if got := proofs(v); got != n+2 {
			t.Errorf("%+v: %d, want %d", v, got, n+2)
		}
		v.From = netip.MustParseAddr("192.0.2.7")
		if got := proofs(v); got != n+3 {
			t.Errorf("%+v: %d, want %d", v, got, n+3)
		}
	}
}

func TestLists(t *testing.T) {
	letters := strings.Split("abcdefghij", "")
	for n, want := range map[int]string{0: "", 1: "a", 2: "a and b", 7: "a, b, c, d, e, f and g", 8: "a, b, c, d, e, f and 2 more"} {
		if got := several(letters[:n], 6); got != want {
			t.Errorf("%d: %q", n, got)
		}
	}
	for path, plain := range map[string]bool{"/a/**": true, "a/b": false, "/a b": false, "/a:b": false, "": false} {
		if plainPath(path) != plain {
			t.Errorf("%q: %v", path, !plain)
		}
	}
	methods := []string{"X-OTHER", "PATCH", "GET", "DELETE", "PUT", "POST"}
	slices.SortFunc(methods, func(a, b string) int { return strings.Compare(order(a), order(b)) })
	if got := strings.Join(methods[:4], " "); got != "POST PUT DELETE PATCH" {
		t.Errorf("%s", got)
	}
	f := &finder{Ground: &Ground{book: parse(t, "doors: [{path: /a, methods: [GET, POST], admit: public}]"), doors: 1}}
	if got := f.methodsAt(place.Part{Covering: []int32{0, 7}}); !slices.Equal(got, []string{"POST", "PUT", "GET", "HEAD"}) {
		t.Errorf("%q", got)
	}
}
