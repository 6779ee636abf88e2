package policy

import (
	"net/netip"
	"slices"
	"strings"
	"testing"
	"time"

	"ostiarius/core/factor"
)

// rulesIn returns the findings about a text as rule and place.
func rulesIn(text string) (all []string) {
	_, findings := Parse("doors.yaml", []byte(text))
	for _, f := range findings {
		all = append(all, f.Rule+" "+f.Message)
	}
	return all
}

const anyDoor = "doors: [{ path: /, admit: public }]\n"

// Where somebody is sent who asked for no page, for each occasion.
func TestLandingsByOccasion(t *testing.T) {
	in, out := &Visitor{SignedIn: true, Roles: []string{"keeper"}}, &Visitor{}
	for text, want := range map[string][]string{
		"": {"/", "/", "", "/", "/", "/"},
		"landings: { sign-in: [ { role: keeper, go: /log/ }, { go: /rota/ } ] }": {"/log/", "/", "",
			"/log/", "/log/", "/"},
		"landings: { sign-in: [ { go: /rota/ } ], paid: [ { go: /thanks/ } ], password-change: [ { go: /ok/ } ] }": {"/rota/", "/",
			"/ok/", "/rota/", "/thanks/", "/thanks/"},
	} {
		book := parse(t, "roles: { keeper: }\n"+anyDoor+text)
		got := []string{
			book.After(AfterSignIn, in), book.After(AfterSignOut, in), book.After(AfterPasswordChange, in), book.After(AfterJoining, in),
			book.After(AfterPaying, in), book.After(AfterPaying, out),
		}
		if !slices.Equal(got, want) {
			t.Errorf("%s: %q, want %q", text, got, want)
		}
	}
}

// The metrics are for stewards, and for networks if some are named; hidden from everybody else.
func TestMetricsAreHidden(t *testing.T) {
	book := parse(t, anyDoor)
	decide := func(from string) Outcome {
		request, _, err := ReadRequest("GET", "/door/metrics")
		if err != nil {
			t.Fatal(err)
		}
		return book.Decide(request, &Visitor{From: netip.MustParseAddr(from)}).Outcome
	}
	if decide("192.0.2.7") != Hide {
		t.Error("strangers can read the metrics")
	}
	book.LetReadMetrics([]netip.Prefix{netip.MustParsePrefix("192.0.2.0/24")})
	if decide("192.0.2.7") != Admit || decide("198.51.100.7") != Hide {
		t.Errorf("%s from the network, %s from elsewhere", decide("192.0.2.7"), decide("198.51.100.7"))
	}
}

// A demand of one name needs no list, in either way of writing it.
func TestDemandsOfOneName(t *testing.T) {
	for text, want := range map[string]string{
		"role:keeper": "role: keeper", "{ role: [ keeper ] }": "role: keeper", "{ role: [ a, b ] }": "role: [a, b]",
	} {
		d, err := ParseDemand(text)
		if err != nil || d.String() != want {
			t.Errorf("%s: %q %v", text, d.String(), err)
		}
	}
}

// What is said to somebody who looks up why names what they have, and nothing that they haven't.
func TestExplanationsNameTheVisitor(t *testing.T) {
	book := parse(t, "roles: { volunteer: , keeper: { includes: [ volunteer ] } }\ndoors:\n  - { path: /log/**, admit: { role: keeper "+
		"}, otherwise: hide }\n")
	steps := func(who string) string {
		v, err := ParseVisitor(who)
		if err != nil {
			t.Fatal(err)
		}
		request, _, _ := ReadRequest("GET", "/log/")
		var all []string
		for _, s := range book.Explain(request, &v, Browser, "").Steps {
			all = append(all, s.Text)
		}
		return strings.Join(all, "\n")
	}
	for who, says := range map[string]string{
		"role:keeper":                     "(which brings volunteer)",
		"anonymous":                       "Answer: 404, as for a missing page.",
		"signed-in,enrolled:passkey":      "has set up a passkey",
		"signed-in,enrolled:code+passkey": "has set up a passkey and codes",
	} {
		if said := steps(who); !strings.Contains(said, says) {
			t.Errorf("%s: %s", who, said)
		}
	}
	for who, not := range map[string]string{"role:volunteer": "which brings", "signed-in": "has set up", "role:keeper": "Answer: 404"} {
		if said := steps(who); strings.Contains(said, not) {
			t.Errorf("%s: %s", who, said)
		}
	}
}

// Each entry of a list is read, whatever is wrong with those before.
func TestEachEntryIsRead(t *testing.T) {
	for text, want := range map[string][]string{
		anyDoor + "pages: { sign-in: /door/sign-in }":                                            {"bad-value sign-in"},
		anyDoor + "roles: { a: { includes: b }, b: { includes: c }, c: { includes: b } }":        {"role-circle"},
		"doors: [{ path: /, admit: { role: [ \"a b\", \"c d\" ] } }]":                            {"\"a b\"", "\"c d\""},
		anyDoor + "roles: { keeper: }\noffers: { \"x y\": { say: a }, kepper: { say: b } }":      {"\"x y\"", "\"kepper\""},
		anyDoor + "factors: { wanted: [ { role: keeper }, { role: nobody-has, factor: two } ] }": {"names a role and a factor", "nobody-has"},
	} {
		said := rulesIn(text)
		for _, w := range want {
			i := slices.IndexFunc(said, func(s string) bool {
				return strings.Contains(s, w)
			})
			if i < 0 {
				t.Errorf("%s: nothing says %s: %q", text, w, said)
				continue
			}
			said = slices.Delete(said, i, i+1)
		}
	}
	book := parse(t, `roles: { keeper: , trustee: }
doors: [ { path: /log, admit: { role: keeper } }, { path: /office, admit: { role: trustee } } ]
sources: [ { path: /, files: ., fallback: index.html, listing: true } ]
elsewhere: { harbour: { title: Harbour, issuer: "https://id.example", client: marram, grants: [ { claim: groups, holds: crew, role:
  keeper }, { claim: groups, holds: board, role: trustee } ] } }
factors: { wanted: [ { role: keeper, factor: two }, { role: trustee, factor: passkey } ] }
events: { fields: { order: /data/order, type: /kind } }
`)
	if s := book.Sources[0]; s.Fallback != "index.html" || !s.Listing {
		t.Errorf("%+v", s)
	}
	if all := book.Elsewhere[0].Grants; len(all) != 2 || all[1].Role != "trustee" {
		t.Errorf("%+v", all)
	}
	if all := book.Factors.Wanted; len(all) != 2 || all[1].Factor != "passkey" {
		t.Errorf("%+v", all)
	}
	if at := book.Events.Fields.At; len(at) != 2 || at["order"] != "/data/order" {
		t.Errorf("%+v", at)
	}
	_, findings := Parse("doors.yaml", []byte("doors: [{ path: /shut, admit: nobody }]\nunlisted: signed-in\npages: { missing: /shut }\n"))
	if !slices.ContainsFunc(findings, func(f Finding) bool { return strings.Contains(f.Message, "in the place of what is not there") }) {
		t.Errorf("a page that nobody may see is taken: %+v", findings)
	}
}

// An account is named by a policy however deep its name stands.
func TestNamedAccounts(t *testing.T) {
	for text, names := range map[string]bool{
		"doors: [{ path: /, admit: { user: ann } }]":                                              true,
		"doors: [{ path: /, admit: { any: [ { all: [ { user: ann }, signed-in ] }, nobody ] } }]": true,
		anyDoor + "guarantees: [{ path: /, only: { any: [ { user: ann }, public ] } }]":           true,
		anyDoor + "landings: { sign-in: [ { user: ann, go: / } ] }":                               true,
		"roles: { ann: }\ndoors: [{ path: /, admit: { role: ann } }]":                             false,
	} {
		if NamesAccount(parse(t, text), "ann") != names || NamesAccount(parse(t, text), "bo") {
			t.Errorf("%s: %v", text, !names)
		}
	}
}

// A comment ends what brackets are open in a line, and only a comment does.
func TestClosing(t *testing.T) {
	for line, want := range map[string]int{"# [": 0, "a # [": 0, "a#[": 1, "[": 1, "'[' [": 1, "a'[": 1, "]": 0, `"\"[" {`: 1} {
		if depth, quote := closing(line, 0, 0); depth != want || quote != 0 {
			t.Errorf("%q: %d %q", line, depth, quote)
		}
	}
}

// Terms that are chosen replace those that a door has; nobody is a choice as well.
func TestTermsReplaceTerms(t *testing.T) {
	book := parse(t, "roles: { keeper: , trustee: }\ndoors: [{ path: /log, admit: { role: keeper } }, { path: /office, admit: { role: "+
		"trustee } }]")
	for want, terms := range map[string]Terms{
		"role: trustee": {Who: Role, Names: []string{"trustee"}}, "nobody": {Who: Nobody}, "public": {Who: Public},
		"role: keeper": {Who: Role, Names: []string{"keeper"}},
	} {
		set, err := NewDoor(book, "/log", "")
		if err == nil {
			err = set.SetTerms(book, terms)
		}
		if err != nil || set.Admit.String() != want {
			t.Errorf("%+v: %q %v", terms, set.Admit.String(), err)
		}
	}
	if err := (&SetDoor{}).SetTerms(book, Terms{Who: Nobody, From: []string{"192.0.2.0/24"}}); err == nil {
		t.Error("nobody, from a network")
	}
}

// A visitor is written as it is read, with one factor or several.
func TestFactorsAreWritten(t *testing.T) {
	for text, shown := range map[string]factor.Shown{
		"signed-in,proof-age:5m,factor:code":          factor.Shown{}.With(factor.Code, 5*time.Minute),
		"signed-in,proof-age:5m,factor:password+code": factor.Shown{}.With(factor.Password, 5*time.Minute).With(factor.Code, 5*time.Minute),
	} {
		v := Visitor{SignedIn: true, ProofAge: 5 * time.Minute, Factors: shown}
		if v.String() != text {
			t.Errorf("%s is written %s", text, v)
		}
	}
}

// A new door stands beside the one whose path it has most in common with.
func TestNewDoorsStandBesideTheirRelations(t *testing.T) {
	text := "doors:\n  - { path: /log/a, admit: public }\n  - { path: /office/**, admit: signed-in }\n  - { path: /visit/**, admit: public }\n"
	set, err := NewDoor(parse(t, text), "/log/b", "")
	if err != nil {
		t.Fatal(err)
	}
	set.Admit = Demand{Kind: SignedIn}
	after, err := Apply("doors.yaml", []byte(text), set)
	if err != nil {
		t.Fatal(err)
	}
	lines := strings.Split(string(after.Text), "\n")
	if !strings.Contains(lines[2], "/log/b") {
		t.Errorf("%s", after.Text)
	}
}
