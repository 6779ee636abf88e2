package policy_test

import (
	"net/netip"
	"slices"
	"strings"
	"testing"
	"time"

	"ostiarius/core/factor"
	"ostiarius/core/policy"
	"ostiarius/core/policy/sample"
)

// Where somebody is sent who asked for no page, for each occasion.
func TestLandingsByOccasion(t *testing.T) {
	in, out := &policy.Visitor{SignedIn: true, Roles: []string{"keeper"}}, &policy.Visitor{}
	for text, want := range map[string][]string{
		"": {"/", "/", "", "/", "/", "/"},
		"landings: { sign-in: [ { role: keeper, go: /log/ }, { go: /rota/ } ] }": {"/log/", "/", "",
			"/log/", "/log/", "/"},
		"landings: { sign-in: [ { go: /rota/ } ], paid: [ { go: /thanks/ } ], password-change: [ { go: /ok/ } ] }": {"/rota/", "/",
			"/ok/", "/rota/", "/thanks/", "/thanks/"},
	} {
		book := sample.Parse(t, "roles: { keeper: }\n"+sample.AnyDoor+text)
		got := []string{
			book.After(policy.AfterSignIn, in), book.After(policy.AfterSignOut, in), book.After(policy.AfterPasswordChange, in),
			book.After(policy.AfterJoining, in),
			book.After(policy.AfterPaying, in), book.After(policy.AfterPaying, out),
		}
		if !slices.Equal(got, want) {
			t.Errorf("%s: %q, want %q", text, got, want)
		}
	}
}

// The metrics are for stewards, and for networks if some are named; hidden from everybody else.
func TestMetricsAreHidden(t *testing.T) {
	book := sample.Parse(t, sample.AnyDoor)
	decide := func(from string) policy.Outcome {
		request, _, err := policy.ReadRequest("GET", "/door/metrics")
		if err != nil {
			t.Fatal(err)
		}
		return book.Decide(request, &policy.Visitor{From: netip.MustParseAddr(from)}).Outcome
	}
	if decide("192.0.2.7") != policy.Hide {
		t.Error("strangers can read the metrics")
	}
	book.LetReadMetrics([]netip.Prefix{netip.MustParsePrefix("192.0.2.0/24")})
	if decide("192.0.2.7") != policy.Admit || decide("198.51.100.7") != policy.Hide {
		t.Errorf("%s from the network, %s from elsewhere", decide("192.0.2.7"), decide("198.51.100.7"))
	}
}

// A demand of one name needs no list, in either way of writing it.
func TestDemandsOfOneName(t *testing.T) {
	for text, want := range map[string]string{
		"role:keeper": "role: keeper", "{ role: [ keeper ] }": "role: keeper", "{ role: [ a, b ] }": "role: [a, b]",
	} {
		d, err := policy.ParseDemand(text)
		if err != nil || d.String() != want {
			t.Errorf("%s: %q %v", text, d.String(), err)
		}
	}
}

// What is said to somebody who looks up why names what they have, and nothing that they haven't.
func TestExplanationsNameTheVisitor(t *testing.T) {
	book := sample.Parse(t, "roles: { volunteer: , keeper: { includes: [ volunteer ] } }\ndoors:\n  - { path: /log/**, admit: { role: keeper "+
		"}, otherwise: hide }\n")
	steps := func(who string) string {
		v, err := policy.ParseVisitor(who)
		if err != nil {
			t.Fatal(err)
		}
		request, _, _ := policy.ReadRequest("GET", "/log/")
		var all []string
		for _, s := range book.Explain(request, &v, policy.Browser, "").Steps {
			all = append(all, s.Text)
		}
		return strings.Join(all, "\n")
	}
	for who, says := range map[string]string{
		"role:keeper":                     "(which grants volunteer)",
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

// An account is named by a policy however deep its name stands.
func TestNamedAccounts(t *testing.T) {
	for text, names := range map[string]bool{
		"doors: [{ path: /, admit: { user: ann } }]":                                              true,
		"doors: [{ path: /, admit: { any: [ { all: [ { user: ann }, signed-in ] }, nobody ] } }]": true,
		sample.AnyDoor + "guarantees: [{ path: /, only: { any: [ { user: ann }, public ] } }]":    true,
		sample.AnyDoor + "landings: { sign-in: [ { user: ann, go: / } ] }":                        true,
		"roles: { ann: }\ndoors: [{ path: /, admit: { role: ann } }]":                             false,
	} {
		if policy.NamesAccount(sample.Parse(t, text), "ann") != names || policy.NamesAccount(sample.Parse(t, text), "bo") {
			t.Errorf("%s: %v", text, !names)
		}
	}
}

// A visitor is written as it is read, with one factor or several.
func TestFactorsAreWritten(t *testing.T) {
	for text, shown := range map[string]factor.Shown{
		"signed-in,proof-age:5m,factor:code":          factor.Shown{}.With(factor.Code, 5*time.Minute),
		"signed-in,proof-age:5m,factor:password+code": factor.Shown{}.With(factor.Password, 5*time.Minute).With(factor.Code, 5*time.Minute),
	} {
		v := policy.Visitor{SignedIn: true, ProofAge: 5 * time.Minute, Factors: shown}
		if v.String() != text {
			t.Errorf("%s is written %s", text, v)
		}
	}
}
