package policy

import (
	"slices"
	"strings"
	"testing"

	"github.com/goccy/go-yaml/ast"
)

// An initialRule is made up: it asks for an account whose name begins so. It is what somebody writes who adds a kind of demand.
type initialRule struct{ accountRule }

func (initialRule) read(p *partReader, n ast.Node, d *Demand) bool {
	d.Names, _ = p.texts(n, "initial")
	return len(d.Names) > 0
}

func (initialRule) schema(s schemaParts) any {
	return s.oneOrMany(s.name, "How the name of the account begins")
}

func (initialRule) shows(v *Visitor, d *Demand) bool {
	return v.SignedIn && slices.ContainsFunc(d.Names, func(begin string) bool { return strings.HasPrefix(v.Account, begin) })
}

func (initialRule) noun(d *Demand) string { return "a name that begins with " + orList(d.Names) }

func (initialRule) cases(d *Demand, c *Cases) {
	for _, begin := range d.Names {
		c.Users = append(c.Users, begin+"x")
	}
}

// A kind of demand that is added to the table is read, written, decided, explained, told and collected for proofs; nothing else is
// touched.
func TestAnotherKindOfDemand(t *testing.T) {
	before := asked
	t.Cleanup(func() { asked = before })
	asked = append(slices.Clone(asked), struct {
		kind Kind
		who  bool
		word bool
		rule rule
	}{"initial", false, false, initialRule{}})

	text := "doors:\n  - { path: /log/**, admit: { initial: [ a, b ] } }\n  - { path: /new/**, admit: { any: [ { initial: c }, { user: " +
		"dora } ] } }\n"
	book := parse(t, text)
	d := book.Doors[0].Admit
	if d.String() != "initial: [a, b]" || d.Text() != "{ initial: [a, b] }" {
		t.Errorf("it is written %s and %s", d, d.Text())
	}
	if again, err := ParseDemand(d.Text()); err != nil || again.String() != d.String() {
		t.Errorf("it is read again as %s (%v)", again, err)
	}
	if !strings.Contains(string(Schema()), `"initial"`) {
		t.Error("the schema does not have it")
	}
	decide := func(path, who string) Decision {
		request, _, err := ReadRequest("GET", path)
		if err != nil {
			t.Fatal(err)
		}
		v, err := ParseVisitor(who)
		if err != nil {
			t.Fatal(err)
		}
		return book.Decide(request, &v)
	}
	for who, want := range map[string]Outcome{
		"user:ann": Admit, "user:bo": Admit, "user:carl": Refuse, "signed-in": Refuse, "anonymous": Challenge,
	} {
		if got := decide("/log/", who); got.Outcome != want || want == Challenge && got.Proof.Kind != ProveSignIn {
			t.Errorf("%s: %s %+v", who, got.Outcome, got.Proof)
		}
	}
	if decide("/new/", "user:carl").Outcome != Admit || decide("/new/", "user:dora").Outcome != Admit ||
		decide("/new/", "user:ann").Outcome != Refuse {
		t.Error("in a combination it is decided otherwise")
	}
	request, _, _ := ReadRequest("GET", "/log/")
	var said strings.Builder
	for _, step := range book.Explain(request, &Visitor{}, Browser, "").Steps {
		said.WriteString(step.Text + "\n")
	}
	if !strings.Contains(said.String(), "asks for a name that begins with a or b") {
		t.Errorf("it is explained as\n%s", said.String())
	}
	if sentence := book.Doors[0].Sentence().String(); !strings.Contains(sentence, "initial") {
		t.Errorf("it is told as %s", sentence)
	}
	var c Cases
	if c.Collect(book.Doors[1].Admit); !slices.Equal(c.Users, []string{"cx", "dora"}) {
		t.Errorf("proofs look at %q", c.Users)
	}
}
