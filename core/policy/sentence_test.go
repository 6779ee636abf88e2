package policy_test

import (
	"fmt"
	"math/rand/v2"
	"regexp"
	"strings"
	"testing"

	"ostiarius/core/policy"
	"ostiarius/core/policy/read"
	"ostiarius/core/policy/sample"
)

func TestSentences(t *testing.T) {
	book := sample.Parse(t, sample.Lighthouse)
	for i, want := range map[int]string{
		0: "Everyone can see the home page.",
		3: "Only people who are signed in can see /rota/ and everything below. Visitors who aren't signed in are asked to sign in. " +
			"Other visitors see why they can't enter.",
		4: "Only people with the role keeper can see /log/ and everything below. Visitors who aren't signed in are asked to sign in. " +
			"Other visitors go to /rota/ask.",
		5: "Only people with the role trustee can send DELETE or POST to /log/ and everything below. Visitors who aren't signed in " +
			"are asked to sign in. Other visitors see why they can't enter.",
		6: "Only people with the role trustee can see /office/ and everything below. They must also enter a name and password from the " +
			"keyring outer and have entered their password in the last 10 minutes. Other visitors get “not found”.",
		8: "Only people with the role device can see /sensors/ and everything below. Visitors who aren't signed in are asked by the " +
			"browser for a name and password, for “Sensor feed”. Other visitors see why they can't enter.",
	} {
		if got := book.Doors[i].Sentence().String(); got != want {
			t.Errorf("%s says\n%s, want\n%s", book.Doors[i].Label(), got, want)
		}
	}
}

var basicWords = regexp.MustCompile(`, ask: basic, realm: "[^"]*"`)

// Every door says its sentence, and no two that differ in anything say the same one.
func TestSentencesTellDoorsApart(t *testing.T) {
	random := rand.New(rand.NewPCG(15, 4))
	pick := func(all ...string) string { return all[random.IntN(len(all))] }
	said := map[string]string{}
	for range 2000 {
		text := fmt.Sprintf("roles: {a: , b: , c: }\nkeyrings: {k: }\ndoors:\n  - { path: %s%s%s, admit: %s%s%s }\n",
			pick("/a", "/a/**", "/", "/**", "/**/*.pdf", "/a/*", "/a/*/**"),
			pick("", "", ", host: x.example", ", host: '*.x.example'"), pick("", "", ", methods: POST", ", methods: [POST, PUT]"),
			pick("public", "signed-in", "nobody", sample.Demand(random, 2), sample.Demand(random, 2)),
			pick("", "", ", ask: basic", ", ask: basic, realm: Else"),
			pick("", "", ", otherwise: hide", ", otherwise: { refused: { go: /x } }", ", otherwise: { anonymous: hide }",
				", otherwise: { refused: { say: x }, anonymous: { go: /y } }"))
		book, _ := read.Parse("doors.yaml", []byte(text))
		if book == nil {
			continue
		}
		d := &book.Doors[0]
		sentence, whole := d.Sentence().String(), policy.DescribeSet(d)+" "+d.Whole()
		if d.Admit.Kind == policy.Public || d.Admit.Kind == policy.Nobody { // where nobody is asked, it does not matter how
			whole = basicWords.ReplaceAllString(whole, "")
		}
		if !strings.HasSuffix(sentence, ".") && !strings.HasSuffix(sentence, ")") || strings.Contains(sentence, "  ") {
			t.Errorf("%q", sentence)
		}
		if other, there := said[sentence]; there && other != whole {
			t.Errorf("%s and %s say both: %s", whole, other, sentence)
		}
		said[sentence] = whole
	}
	if len(said) < 500 {
		t.Errorf("only %d sentences", len(said))
	}
}
