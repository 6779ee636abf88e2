package policy_test

import (
	"slices"
	"strings"
	"testing"

	"ostiarius/core/policy"
	"ostiarius/core/policy/read"
	"ostiarius/core/policy/sample"
)

// A kind of demand that is added to the table is read, written, decided, explained, told and collected for proofs; nothing else is
// touched.
func TestAnotherKindOfDemand(t *testing.T) {
	policy.WithInitialRule(t)
	text := "doors:\n  - { path: /log/**, admit: { initial: [ a, b ] } }\n  - { path: /new/**, admit: { any: [ { initial: c }, { user: " +
		"dora } ] } }\n"
	book := sample.Parse(t, text)
	d := book.Doors[0].Admit
	if d.String() != "initial: [a, b]" || d.Text() != "{ initial: [a, b] }" {
		t.Errorf("it is written %s and %s", d, d.Text())
	}
	if again, err := policy.ParseDemand(d.Text()); err != nil || again.String() != d.String() {
		t.Errorf("it is read again as %s (%v)", again, err)
	}
	if !strings.Contains(string(read.Schema()), `"initial"`) {
		t.Error("the schema does not have it")
	}
	decide := func(path, who string) policy.Decision {
		request, _, err := policy.ReadRequest("GET", path)
		if err != nil {
			t.Fatal(err)
		}
		v, err := policy.ParseVisitor(who)
		if err != nil {
			t.Fatal(err)
		}
		return book.Decide(request, &v)
	}
	for who, want := range map[string]policy.Outcome{
		"user:ann": policy.Admit, "user:bo": policy.Admit, "user:carl": policy.Refuse, "signed-in": policy.Refuse, "anonymous": policy.Challenge,
	} {
		if got := decide("/log/", who); got.Outcome != want || want == policy.Challenge && got.Proof.Kind != policy.ProveSignIn {
			t.Errorf("%s: %s %+v", who, got.Outcome, got.Proof)
		}
	}
	if decide("/new/", "user:carl").Outcome != policy.Admit || decide("/new/", "user:dora").Outcome != policy.Admit ||
		decide("/new/", "user:ann").Outcome != policy.Refuse {
		t.Error("in a combination it is decided otherwise")
	}
	request, _, _ := policy.ReadRequest("GET", "/log/")
	var said strings.Builder
	for _, step := range book.Explain(request, &policy.Visitor{}, policy.Browser, "").Steps {
		said.WriteString(step.Text + "\n")
	}
	if !strings.Contains(said.String(), "requires a name that begins with a or b") {
		t.Errorf("it is explained as\n%s", said.String())
	}
	if sentence := book.Doors[0].Sentence().String(); !strings.Contains(sentence, "initial") {
		t.Errorf("it is told as %s", sentence)
	}
	var c policy.Cases
	if c.Collect(book.Doors[1].Admit); !slices.Equal(c.Users, []string{"cx", "dora"}) {
		t.Errorf("proofs look at %q", c.Users)
	}
}
