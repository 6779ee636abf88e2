package policy

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"time"

	"ostiarius/core/factor"
)

// A Demand is what a door asks of a visitor, as it stands in the policy: a word
// (public, signed-in, nobody), one thing to be shown, or a combination.
type Demand struct {
	Kind   Kind
	Names  []string       // of roles, users, shared passwords, passes, keyrings, and words for factors: any one of them
	Nets   []netip.Prefix // of Network: any one of them
	Within time.Duration  // of ProofWithin
	Parts  []Demand       // of Any and All

	rule    rule       // in the ways of a compiled door: that of its kind
	roles   []string   // of Role, in the ways of a compiled door: all roles that satisfy it
	Factors []string   // of ProofWithin beside a demand for a factor: that one is meant
	kinds   factor.Set // in the ways of a compiled door, of what asks for factors: what has to be shown
}

// A Kind is the kind of a Demand. Its text is the policy's word for it.
type Kind string

const (
	Public      Kind = "public"
	SignedIn    Kind = "signed-in"
	Nobody      Kind = "nobody"
	Role        Kind = "role"
	User        Kind = "user"
	Shared      Kind = "shared"
	Pass        Kind = "pass"
	Keyring     Kind = "keyring"
	Network     Kind = "network"
	ProofWithin Kind = "proof-within"
	Factor      Kind = "factor"
	Any         Kind = "any"
	All         Kind = "all"
)

// String returns the demand in the policy's words: "public", "role: keeper",
// "keyring: outer, role: trustee", "any: [role: supporter, pass: recordings]".
func (d Demand) String() string {
	switch d.Kind {
	case Public, SignedIn, Nobody:
		return string(d.Kind)
	case Any:
		return "any: [" + joinDemands(d.Parts) + "]"
	case All:
		if slices.ContainsFunc(d.Parts, func(p Demand) bool { return p.Kind == All }) {
			return "all: [" + joinDemands(d.Parts) + "]"
		}
		return joinDemands(d.Parts)
	}
	return string(d.Kind) + ": " + oneOrList(d.values())
}

// values are the values of the demand's key.
func (d *Demand) values() []string {
	if r := ruleOf(d.Kind); r != nil {
		return r.values(d)
	}
	return d.Names
}

// Mentions reports whether the demand has a part of that kind.
func (d Demand) Mentions(kind Kind) bool {
	return d.Kind == kind || slices.ContainsFunc(d.Parts, func(p Demand) bool { return p.Mentions(kind) })
}

func joinDemands(parts []Demand) string {
	texts := make([]string, len(parts))
	for i, p := range parts {
		texts[i] = p.String()
		if p.Kind == All && len(p.Parts) > 1 {
			texts[i] = "{" + texts[i] + "}"
		}
	}
	return strings.Join(texts, ", ")
}

func oneOrList(names []string) string {
	if len(names) == 1 {
		return names[0]
	}
	return "[" + strings.Join(names, ", ") + "]"
}

// A way is a set of things that together meet a demand: a demand is met if all of one
// of its ways is. Each thing is a Demand that is neither a word (but for signed-in) nor
// a combination.
type way []*Demand

// The most ways a demand may have. A demand with more is not understood by people
// either.
const maxWays = 500

// Entangled returns an error if the demand can be met in more ways than anybody understands.
func (d *Demand) Entangled() error {
	_, err := d.ways()
	return err
}

// ways returns the demand as alternatives. Public has one way that asks nothing,
// nobody has none.
func (d *Demand) ways() ([]way, error) {
	switch d.Kind {
	case Public:
		return []way{{}}, nil
	case Nobody:
		return nil, nil
	case Any:
		var all []way
		for i := range d.Parts {
			more, err := d.Parts[i].ways()
			if err != nil {
				return nil, err
			}
			if all = append(all, more...); len(all) > maxWays {
				return nil, errTooManyWays
			}
		}
		return all, nil
	case All:
		d.bind()
		all := []way{{}}
		for i := range d.Parts {
			more, err := d.Parts[i].ways()
			if err != nil {
				return nil, err
			}
			if len(all)*len(more) > maxWays {
				return nil, errTooManyWays
			}
			var product []way
			for _, a := range all {
				for _, b := range more {
					product = append(product, append(slices.Clone(a), b...))
				}
			}
			all = product
		}
		return all, nil
	}
	if r := ruleOf(d.Kind); r != nil {
		return r.ways(d), nil
	}
	return nil, nil // what is not known opens nothing
}

// factorWays returns a way for each set of proofs that is what is asked for.
func (d *Demand) factorWays(asked []string) (all []way) {
	for _, word := range asked {
		for _, kinds := range factor.Alternatives(word) {
			one := *d
			one.kinds = kinds
			all = append(all, way{&one})
		}
	}
	return all
}

// bind has a proof-within mean the factor that is asked for beside it: { factor: passkey, proof-within: 10m } wants
// the passkey to have been shown in the last ten minutes, and not the password.
func (d *Demand) bind() {
	for _, part := range d.Parts {
		if part.Kind != Factor {
			continue
		}
		for i := range d.Parts {
			if d.Parts[i].Kind == ProofWithin {
				d.Parts[i].Factors = part.Names
			}
		}
	}
}

var errTooManyWays = fmt.Errorf("this demand can be met in more than %d ways; use a role or a separate door for part of it", maxWays)
