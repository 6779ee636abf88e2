package policy

import (
	"net/netip"
	"slices"
	"time"

	"github.com/goccy/go-yaml/ast"
)

// What a door can ask for is one file each, asked_*.go: how it is read from a policy and described in its schema, who shows it, what
// somebody can still do who doesn't, how it is told to developers and to people, and which visitors tell it apart in proofs. All else
// that has to do with demands (reading, writing, deciding, explaining, proving) asks the rule of the kind, and knows none by name. How
// demands are combined, and the words public and nobody, are in demand.go.

// A rule is all that is known of one kind of demand.
type rule interface {
	// read reads the value of the key into d. It returns false if nothing of it can be asked for, which is then said.
	read(p *PartReader, n ast.Node, d *Demand) bool
	// schema describes the value of the key in JSON Schema.
	schema(s SchemaParts) any
	// values are the values of the key as a policy has them.
	values(d *Demand) []string
	// ways are the sets of things that meet it, each by itself.
	ways(d *Demand) []way
	// prepare looks up once, in the Book, what is asked with each request.
	prepare(b *Book, d *Demand)
	// shows reports whether a visitor shows it. What is not known is not shown.
	shows(v *Visitor, d *Demand) bool
	// needs adds what is missing to what a visitor has to prove. It returns false if this visitor can never show it.
	needs(n need, v *Visitor, d *Demand) (need, bool)
	// provenBy reports whether a proof of that kind can meet it; none can if it is nothing that one can prove.
	provenBy(by ProofKind) bool
	// noun is what is asked for, to those who write policies: it follows "asks for" and "what is missing is".
	noun(d *Demand) string
	// told is how it is told to people: the forms of its sentences in the language files (demand.KIND.people and .must, with .FORM
	// behind unless that is ""), and what stands in their gaps. Several forms, and several values of a gap, are an "or".
	told(d *Demand) (forms []string, gaps map[string][]string)
	// cases adds what tells visitors apart. No rule has it from another: one that left something out would make proofs hold too much.
	cases(d *Demand, c *Cases)
}

// A declaredRule is that of a kind whose names are declared elsewhere in the policy.
type declaredRule interface {
	// unknown says that a name is not declared; nil if it is.
	unknown(b *Book, name string) error
}

// asked is the table of all that can be asked for, in the order of the schema.
var asked = []struct {
	kind Kind
	who  bool // it says who comes in; else it is something that they must do besides
	word bool // it stands in a policy by itself, without a value
	rule rule
}{
	{SignedIn, true, true, signedInRule{}},
	{Role, true, false, roleRule{}},
	{User, true, false, userRule{}},
	{Shared, false, false, sharedRule{}},
	{Pass, false, false, passRule{}},
	{Keyring, false, false, keyringRule{}},
	{Network, false, false, networkRule{}},
	{Factor, false, false, factorRule{}},
	{ProofWithin, false, false, proofWithinRule{}},
}

// ruleOf returns the rule of a kind; nil for a combination, the words public and nobody, and what is not known.
func ruleOf(kind Kind) rule {
	for i := range asked {
		if asked[i].kind == kind {
			return asked[i].rule
		}
	}
	return nil
}

// saysWho reports whether a kind says who comes in.
func saysWho(kind Kind) bool {
	for i := range asked {
		if asked[i].kind == kind {
			return asked[i].who
		}
	}
	return true // a word, or a combination
}

// Undeclared says that a name in a demand is not declared in the policy; nil if it is, or need not be.
func Undeclared(b *Book, kind Kind, name string) error {
	if r, names := ruleOf(kind).(declaredRule); names {
		return r.unknown(b, name)
	}
	return nil
}

// DemandSchemas describes the values of the keys of demands in JSON Schema.
func DemandSchemas(s SchemaParts) map[string]any {
	all := map[string]any{}
	for i := range asked {
		if !asked[i].word {
			all[string(asked[i].kind)] = asked[i].rule.schema(s)
		}
	}
	return all
}

// KeysOfDemands are the keys that a demand may have in a policy.
func KeysOfDemands() (keys []string) {
	for i := range asked {
		if !asked[i].word {
			keys = append(keys, string(asked[i].kind))
		}
	}
	return append(keys, string(Any), string(All))
}

// plainRule has what most rules have in common: one thing that has a word of the policy, and that nobody can prove.
type plainRule struct{}

func (plainRule) ways(d *Demand) []way                             { return []way{{d}} }
func (plainRule) prepare(*Book, *Demand)                           {}
func (plainRule) needs(n need, _ *Visitor, _ *Demand) (need, bool) { return n, false }
func (plainRule) provenBy(ProofKind) bool                          { return false }
func (plainRule) values(d *Demand) []string                        { return d.Names }
func (plainRule) told(d *Demand) ([]string, map[string][]string) {
	return []string{""}, map[string][]string{"names": d.Names}
}

// accountRule is a plainRule for what only an account has: who is signed in already, and doesn't show it, never will.
type accountRule struct{ plainRule }

func (accountRule) provenBy(by ProofKind) bool { return by == ProveSignIn }

func (accountRule) needs(n need, v *Visitor, _ *Demand) (need, bool) {
	n.signIn = true
	return n, !v.SignedIn // else known, and not allowed
}

// eachRule is a plainRule for what is proven by itself: each name makes a way of its own.
type eachRule struct{ plainRule }

func (eachRule) ways(d *Demand) (all []way) {
	for i := range d.Names {
		all = append(all, way{{Kind: d.Kind, Names: d.Names[i : i+1]}})
	}
	return all
}

// need adds the one name of a way to what has to be proven.
func (eachRule) need(list, name []string) []string {
	switch {
	case list == nil:
		return name
	case slices.Contains(list, name[0]):
		return list
	}
	return append(slices.Clip(list), name[0])
}

// Cases are what tells visitors apart by what some demands ask for: two visitors who show the same of these get the same decision.
type Cases struct {
	Roles, Users, Shared, Passes, Keyrings []string
	Ages                                   []time.Duration // of proofs, just over those that are asked for
	Factors                                bool            // whether it matters which factors were shown
	From                                   []netip.Addr    // where networks begin, and have ended
}

// Collect adds what a demand tells apart.
func (c *Cases) Collect(d Demand) {
	if r := ruleOf(d.Kind); r != nil {
		r.cases(&d, c)
	}
	for _, part := range d.Parts {
		c.Collect(part)
	}
}

// justBeyond makes an age one that is not within what is asked for.
const justBeyond = time.Second

// SchemaParts are what schemas are made of.
type SchemaParts struct {
	Name      map[string]any
	Pattern   func(pattern, about string) map[string]any
	OneOrMany func(item map[string]any, about string) map[string]any
}
