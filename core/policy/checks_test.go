package policy_test

import (
	"math/rand/v2"
	"strings"
	"testing"

	"ostiarius/core/place"
	"ostiarius/core/policy"
	"ostiarius/core/policy/read"
)

const checkedText = `
roles: { keeper: , trustee: { includes: [keeper] } }
unlisted: public
doors:
  - { path: /, admit: public }
  - { path: /orders/**, admit: signed-in }
  - { path: /orders/*/print, admit: public }
checks:
  approve: { path: ["/orders/*/approve", /ledger/**], methods: [POST], admit: { role: trustee } }
  again: { path: "/orders/*/approve", methods: [POST], admit: { proof-within: 10m } }
  look: { path: /open/**, admit: { role: keeper } }
  all: { path: /**, methods: [DELETE], admit: nobody }
`

// A request is admitted by the doors as without checks, and by all checks that cover its place.
func TestChecksAreAskedBeside(t *testing.T) {
	b, findings := read.Parse("doors.yaml", []byte(checkedText))
	if b == nil {
		t.Fatal(findings)
	}
	bare, _ := read.Parse("doors.yaml", []byte(checkedText[:strings.Index(checkedText, "checks:")]))
	random := rand.New(rand.NewPCG(5, 8))
	pick := func(of ...string) string { return of[random.IntN(len(of))] }
	asked := 0
	for range 5000 {
		r := policy.Request{
			Method: pick("GET", "POST", "DELETE", "HEAD"),
			Path:   "/" + pick("orders", "ledger", "open", "door", "x") + "/" + pick("7", "8", "") + "/" + pick("approve", "print", ""),
		}
		v, err := policy.ParseVisitor(pick("anonymous", "signed-in", "role:keeper", "role:trustee", "role:trustee,proof-age:1h"))
		if err != nil {
			t.Fatal(err)
		}
		want := bare.Decide(r, &v).Outcome == policy.Admit
		p, err := place.Read(r.Method, r.Host, r.Path, b.Rules)
		if err != nil {
			t.Fatal(err)
		}
		if !b.IsOwn(p) {
			for i := range b.Checks {
				if c := &b.Checks[i]; c.Covers(p) {
					asked++
					want = want && b.Lets(c, &v)
				}
			}
		}
		if got := b.Decide(r, &v); (got.Outcome == policy.Admit) != want {
			t.Fatalf("%+v as %s: %s, want admitted %t", r, v, got.Outcome, want)
		}
		if got := b.Deciding(p); len(got) < 1 || (len(got) > 1) != (len(b.ChecksAt(&p)) > 0 || len(bare.Deciding(p)) > 1) {
			t.Fatalf("%+v: %d decide", r, len(got))
		}
	}
	if asked < 1000 {
		t.Errorf("only %d checks were asked", asked)
	}
	v, _ := policy.ParseVisitor("role:trustee,proof-age:1h")
	e := b.Explain(policy.Request{Method: "POST", Path: "/orders/7/approve"}, &v, policy.Browser, "")
	text := ""
	for _, step := range e.Steps {
		text += step.Text + "\n"
	}
	if e.Outcome != policy.Challenge || len(e.Doors) != 3 ||
		!strings.Contains(text, "The application has additional checks in its handlers, which "+
			"must allow the request, too: the check approve (line 9, /orders/*/approve); the check again") ||
		!strings.Contains(text, "The check again (line 10, /orders/*/approve) doesn't allow this visitor") {
		t.Errorf("%s\n%s", e.Outcome, text)
	}
	if d := b.Decide(policy.Request{Method: "GET", Path: "/open/x"}, &policy.Visitor{}); d.Outcome != policy.Challenge ||
		d.Door.Check != "look" {
		t.Errorf("%+v", d)
	}
	if len(policy.ChecksNamed(b, "approve")) != 2 || len(policy.ChecksNamed(b, "none")) != 0 {
		t.Error("checks by name")
	}
}

func TestBadChecks(t *testing.T) {
	for text, want := range map[string]string{
		"checks: { a: { path: /x, admit: { role: none } } }":                         "unknown role",
		"checks: { a: { path: /x, admit: public, otherwise: hide } }":                "otherwise",
		"checks: { a: { admit: public } }":                                           "a check needs a path",
		"checks: { a: { path: /x } }":                                                "a check needs admit",
		"checks: { \"a b\": { path: /x, admit: public } }":                           "a name has",
		"checks: [ { path: /x, admit: public } ]":                                    "checks is a mapping",
		"checks: { a: { path: /door/x, admit: public } }":                            "own pages live",
		"checks: { a: { path: /x, admit: public }, a: { path: /y, admit: public } }": "a",
	} {
		b, findings := read.Parse("doors.yaml", []byte("doors: [ { path: /**, admit: public } ]\n"+text+"\n"))
		said := ""
		for _, f := range findings {
			said += f.Message + "; "
		}
		if b != nil || !strings.Contains(said, want) {
			t.Errorf("%s: %q, want %q", text, said, want)
		}
	}
}
