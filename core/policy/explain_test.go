package policy_test

import (
	"math/rand/v2"
	"regexp"
	"strings"
	"testing"

	"ostiarius/core/policy"
	"ostiarius/core/policy/sample"
)

func TestExplainTellsWhyThisDoor(t *testing.T) {
	book := sample.Parse(t, sample.Lighthouse)
	e := book.Explain(policy.Request{"POST", "", "/log/"}, sample.Visitor(t, "role:keeper"), policy.Browser, "")
	var text []string
	for _, s := range e.Steps {
		text = append(text, s.Text)
	}
	all := strings.Join(text, "\n")
	for _, want := range []string{
		"2 doors cover it: line 18 (/log/**); line 21 (DELETE, POST /log/**)",
		"line 18 (/log/**) doesn't apply, because line 21 (DELETE, POST /log/**) is more specific",
		"requires the role trustee", "signed in with the role keeper (which grants volunteer)",
		"missing: the role trustee", "This visitor can't prove anything that would help", "Outcome: refuse. Answer: 403",
	} {
		if !strings.Contains(all, want) {
			t.Errorf("the explanation does not say %q:\n%s", want, all)
		}
	}
	if len(e.Doors) != 1 || e.Doors[0].Line != 21 {
		t.Errorf("doors %+v, want line 21", e.Doors)
	}
}

// What is put together of parts reads as sentences: "requires" and "missing:" are followed by nouns.
func TestExplanationsAreSentences(t *testing.T) {
	const list = `[\w./-]+(?:, [\w./-]+)*(?: or [\w./-]+)?`
	const noun = `\(*(?:a sign-in|the (?:role|account|shared password) ` + list + `|a pass for ` + list +
		`|credentials from the keyring ` + list +
		`|an address in ` + list + `|a password entered within the last \w+(?: \(it was \w+ ago\))?|that within the last \w+|two ` +
		`proofs of different kinds|a code|a passkey(?: or a code)?|something that nobody has|nothing; it is public)\)*`
	const nouns = noun + `(?:,? (?:and|or) ` + noun + `)*(?:, or one of \d+ other ways)?`
	forms := map[string]*regexp.Regexp{
		"address": regexp.MustCompile(`^GET /a is the place /a\.$`),
		"doors":   regexp.MustCompile(`^1 door covers it: line 6 \(/a\)\.$`),
		"count":   regexp.MustCompile(`^It decides\.$`),
		"demand":  regexp.MustCompile(`^Line 6 \(/a\) requires ` + nouns + `\.$`),
		"visitor": regexp.MustCompile(`^The visitor is (?:not )?signed in(?:[, ].*)?\.$`),
		"missing": regexp.MustCompile(`^(?:Line 6 \(/a\) (?:allows this visitor|doesn't allow this visitor \((?:missing: ` +
			nouns + `|it allows nobody)\))` +
			`|The visitor can still prove this: by (?:signing in|entering the password again|` +
			`unlocking with the shared password ` +
			`\w+|showing a pass for \w+|opening the keyring \w+ \(HTTP Basic, realm \w+\)` +
			`|showing (?:two proofs of different kinds|a code|a passkey or a code); ` +
			`visitors who have none are sent to set it up)` +
			`|This visitor can't prove anything that would help)\.$`),
		"answer": regexp.MustCompile(`^Outcome: \w+\. (?:The request is forwarded to the application|Answer: [^ ].*\w"?)\.$`),
	}
	random := rand.New(rand.NewPCG(19, 5))
	read := map[string]int{}
	for range 3000 {
		demand := sample.Demand(random, 0)
		book := sample.Parse(t, "roles: {a: , b: , c: }\nkeyrings: {k1: , k2: }\nshared: {s1: , s2: }\npasses: {p1: }\ndoors:\n  - { path: /a, "+
			"admit: "+demand+" }\n")
		who := []string{"anonymous", "signed-in", "role:a,proof-age:3h", "user:x,from:192.0.2.7"}[random.IntN(4)]
		for _, step := range book.Explain(policy.Request{"GET", "", "/a"}, sample.Visitor(t, who), policy.Browser, "").Steps {
			read[step.About]++
			if form := forms[step.About]; form == nil || !form.MatchString(step.Text) {
				t.Fatalf("%s as %s, %s: %q is not a sentence that is known", demand, who, step.About, step.Text)
			}
		}
	}
	if len(read) != len(forms) || read["demand"] < 1000 {
		t.Errorf("read %v", read)
	}
}
