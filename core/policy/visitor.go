package policy

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"time"

	"ostiarius/core/account"
)

// A Visitor is who asks, as far as it is proven. The zero Visitor is anonymous and has
// proven nothing.
type Visitor struct {
	SignedIn bool
	Account  string        // the account's name, as account.Key gives it; "" when it does not matter which
	Roles    []string      // as granted; what they include is the Book's business
	ProofAge time.Duration // since the password was last typed
	Shared   []string      // shared passwords unlocked
	Passes   []string      // passes held
	Keyrings []string      // keyrings opened
	From     netip.Addr    // the client's address; the zero Addr is unknown
}

// WhoForms describes the notation of visitors, for help texts and errors.
const WhoForms = "anonymous, signed-in, role:NAME+NAME or user:NAME, then, after commas: role:, proof-age:, shared:, pass:, keyring:, from:"

// ParseVisitor reads the one notation for visitors:
//
//	anonymous
//	signed-in
//	role:keeper+device
//	user:ines,role:keeper
//	role:keeper,proof-age:5m,keyring:outer,shared:press-kit,pass:recordings,from:192.0.2.7
//
// A signed-in visitor without a proof-age has typed the password just now.
func ParseVisitor(who string) (Visitor, error) {
	var v Visitor
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
			return bad(fmt.Sprintf("%q comes first", term))
		}
		many := strings.Split(value, "+")
		if hasValue && key != "from" && slices.Contains(many, "") {
			return bad(fmt.Sprintf("%q has an empty name", term))
		}
		if seen[key] && (key == "role" || key == "user" || key == "proof-age" || key == "from") {
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
			age, err := ParseDuration(value)
			if err != nil {
				return bad(fmt.Sprintf("%q is no age", value))
			}
			v.ProofAge = age
		case "shared":
			v.Shared = append(v.Shared, many...)
		case "pass":
			v.Passes = append(v.Passes, many...)
		case "keyring":
			v.Keyrings = append(v.Keyrings, many...)
		case "from":
			address, err := netip.ParseAddr(value)
			if err != nil || address.Zone() != "" {
				return bad(fmt.Sprintf("%q is no network address", value))
			}
			v.From = address.Unmap()
		default:
			return bad(fmt.Sprintf("%q is not understood", term))
		}
	}
	if v.ProofAge > 0 && !v.SignedIn {
		return Visitor{}, fmt.Errorf("visitor %q: a proof-age belongs to somebody who is signed in; begin with signed-in, a role or a user", who)
	}
	return v, nil
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
	if v.ProofAge > 0 {
		terms = append(terms, "proof-age:"+FormatDuration(v.ProofAge))
	}
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
