package policy

import (
	"errors"
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"time"

	"ostiarius/core/account"
	"ostiarius/core/document"
	"ostiarius/core/factor"
)

// A Visitor is who asks, as far as it is proven. The zero Visitor is anonymous and has
// proven nothing.
type Visitor struct {
	SignedIn bool
	Account  string        // the account's name, as account.Key gives it; "" when it does not matter which
	Roles    []string      // as granted; what they include is the Book's business
	ProofAge time.Duration // since they last proved who they are, with something that one can sign in with
	Factors  factor.Shown  // what they have shown for that; nothing is the password alone, at ProofAge
	Enrolled factor.Set    // what they could show beside the password
	Shared   []string      // shared passwords unlocked
	Passes   []string      // passes held
	Keyrings []string      // keyrings opened
	From     netip.Addr    // the client's address; the zero Addr is unknown
}

// WhoForms describes the notation of visitors, for help texts and errors.
const WhoForms = "anonymous, signed-in, role:NAME+NAME or user:NAME, then, after commas: role:, proof-age:, factor:, enrolled:, " +
	"shared:, pass:, keyring:, from:"

// ParseVisitor reads the one notation for visitors:
//
//	anonymous
//	signed-in
//	role:keeper+device
//	user:ines,role:keeper
//	role:keeper,proof-age:5m,keyring:outer,shared:press-kit,pass:recordings,from:192.0.2.7
//	role:trustee,factor:password+code@2h
//
// A signed-in visitor without a proof-age has typed the password just now; one with factors has shown these, each now, or as long
// ago as proof-age says, or as is written behind it.
func ParseVisitor(who string) (Visitor, error) {
	var v Visitor
	var shown []string
	seen := map[string]bool{}
	for i, term := range strings.Split(who, ",") {
		term = strings.TrimSpace(term)
		key, value, hasValue := strings.Cut(term, ":")
		bad := func(reason string) (Visitor, error) {
			return Visitor{}, fmt.Errorf("visitor %q: %s; write %s", who, reason, WhoForms)
		}
		if (key == "anonymous" || key == "signed-in") != (!hasValue) || hasValue && value == "" {
			return bad(fmt.Sprintf("%q is not understood", term))
		}
		if i > 0 && !hasValue {
			return bad(fmt.Sprintf("%q must come first", term))
		}
		many := strings.Split(value, "+")
		if hasValue && key != "from" && slices.Contains(many, "") {
			return bad(fmt.Sprintf("%q has an empty name", term))
		}
		if seen[key] && (key == "role" || key == "user" || key == "proof-age" || key == "factor" || key == "enrolled" || key == "from") {
			return bad(key + " is given twice")
		}
		seen[key] = true
		switch key {
		case "anonymous":
		case "signed-in":
			v.SignedIn = true
		case "role":
			v.SignedIn = true
			v.Roles = many
		case "user":
			v.SignedIn = true
			name, err := account.Key(value)
			if err != nil {
				return bad(err.Error())
			}
			v.Account = name
		case "proof-age":
			age, err := document.ParseDuration(value)
			if err != nil {
				return bad(fmt.Sprintf("%q isn't an age", value))
			}
			v.ProofAge = age
		case "factor":
			shown = many
		case "enrolled":
			for _, name := range many {
				k, ok := factor.KindNamed(name)
				if !ok {
					return bad(fmt.Sprintf("%q can't be set up; use passkey or code", name))
				}
				v.Enrolled |= factor.Of(k)
			}
		case "shared":
			v.Shared = append(v.Shared, many...)
		case "pass":
			v.Passes = append(v.Passes, many...)
		case "keyring":
			v.Keyrings = append(v.Keyrings, many...)
		case "from":
			address, err := netip.ParseAddr(value)
			if err != nil || address.Zone() != "" {
				return bad(fmt.Sprintf("%q isn't a network address", value))
			}
			v.From = address.Unmap()
		default:
			return bad(fmt.Sprintf("%q is not understood", term))
		}
	}
	if len(shown) > 0 || v.Enrolled != 0 {
		if err := v.show(shown); err != nil {
			return Visitor{}, fmt.Errorf("visitor %q: %w", who, err)
		}
	}
	if v.ProofAge > 0 && !v.SignedIn {
		return Visitor{}, fmt.Errorf("visitor %q: proof-age needs a visitor who is signed in; begin with signed-in, a role or a user", who)
	}
	return v, nil
}

// show adds what the notation says of factors.
func (v *Visitor) show(names []string) error {
	if !v.SignedIn {
		return errors.New("factor needs a visitor who is signed in; begin with signed-in, a role or a user")
	}
	var shown factor.Shown
	for _, text := range names {
		name, age, aged := strings.Cut(text, "@")
		k, ok := factor.KindNamed(name)
		if !ok {
			return fmt.Errorf("%q isn't a factor; use password, passkey, code, elsewhere or key, optionally with an age as in code@2h", name)
		}
		if shown.Kinds.Has(k) {
			return fmt.Errorf("the factor %s is given twice", name)
		}
		ago := v.ProofAge
		if aged {
			var err error
			if ago, err = document.ParseDuration(age); err != nil {
				return fmt.Errorf("%q isn't an age", age)
			}
		}
		shown = shown.With(k, ago)
	}
	if shown.Kinds == factor.Of(factor.Code) {
		return errors.New("a code needs another proof; use factor:password+code")
	}
	v.Showing(shown)
	return nil
}

// Showing makes the visitor one who has shown just these factors.
func (v *Visitor) Showing(shown factor.Shown) {
	if shown.Kinds == 0 {
		return
	}
	v.ProofAge = factor.Unknown
	for _, k := range shown.Kinds.Kinds() {
		if age, _ := shown.Age(k); k.Opens() {
			v.ProofAge = min(v.ProofAge, age)
		}
	}
	if v.Factors = shown; shown.Kinds == factor.Of(factor.Password) {
		v.Factors = factor.Shown{}
	}
}

// Shown returns what the visitor has shown to prove who they are.
func (v *Visitor) Shown() factor.Shown {
	if v.SignedIn && v.Factors.Kinds == 0 {
		return factor.Shown{}.With(factor.Password, v.ProofAge)
	}
	return v.Factors
}

// Aged returns the visitor with other ages of what they have shown.
func (v Visitor) Aged(age func(time.Duration) time.Duration) Visitor {
	v.ProofAge = age(v.ProofAge)
	for _, k := range v.Factors.Kinds.Kinds() {
		was, _ := v.Factors.Age(k)
		v.Factors = v.Factors.With(k, age(was))
	}
	return v
}

// factors writes what was shown, if it is not the password alone.
func (v *Visitor) factors() (terms []string) {
	var all []string
	for _, k := range v.Factors.Kinds.Kinds() {
		name := k.String()
		if age, _ := v.Factors.Age(k); age != v.ProofAge && (age != 0 || v.ProofAge != factor.Unknown) {
			name += "@" + document.FormatDuration(age)
		}
		all = append(all, name)
	}
	if len(all) > 0 {
		terms = append(terms, "factor:"+strings.Join(all, "+"))
	}
	if v.Enrolled != 0 {
		terms = append(terms, "enrolled:"+strings.ReplaceAll(v.Enrolled.String(), " ", "+"))
	}
	return terms
}

// String writes v in the notation that ParseVisitor reads.
func (v Visitor) String() string {
	var terms []string
	switch {
	case !v.SignedIn:
	case v.Account != "":
		terms = append(terms, "user:"+v.Account)
		if len(v.Roles) > 0 {
			terms = append(terms, "role:"+strings.Join(v.Roles, "+"))
		}
	case len(v.Roles) > 0:
		terms = append(terms, "role:"+strings.Join(v.Roles, "+"))
	default:
		terms = append(terms, "signed-in")
	}
	switch {
	case v.ProofAge == factor.Unknown && v.Factors.Kinds != 0: // there was none
	case v.ProofAge == factor.Unknown:
		terms = append(terms, "proof-age:9999d")
	case v.ProofAge > 0:
		terms = append(terms, "proof-age:"+document.FormatDuration(v.ProofAge))
	}
	terms = append(terms, v.factors()...)
	for _, proof := range []struct {
		word  string
		names []string
	}{{"keyring", v.Keyrings}, {"shared", v.Shared}, {"pass", v.Passes}} {
		if len(proof.names) > 0 {
			terms = append(terms, proof.word+":"+strings.Join(proof.names, "+"))
		}
	}
	if v.From.IsValid() {
		terms = append(terms, "from:"+v.From.String())
	}
	if len(terms) == 0 {
		return "anonymous"
	}
	if !v.SignedIn {
		terms = append([]string{"anonymous"}, terms...)
	}
	return strings.Join(terms, ",")
}
