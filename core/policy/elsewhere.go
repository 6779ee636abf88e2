package policy

import (
	"slices"
	"strings"

	"ostiarius/core/document"
)

// A DeclaredElsewhere is where an account may be held that people sign in with: a provider of OpenID Connect, as the policy
// declares it. What it takes to speak to it, such as a secret, is a setting of the process.
type DeclaredElsewhere struct {
	Name   string
	Title  string // for people
	Issuer string // the provider's own name, an https address (OpenID Connect Core 1.0, section 2)
	Client string // the name of this site there
	Joins  bool   // who has no account here may make one with it
	Grants []ClaimGrant
	Scopes []string // that are asked for beside openid, profile and email
	// TrustsAddress says that what it says of an address, that it is proven, counts here: with a proven address here that
	// is the same, the account is the same.
	TrustsAddress bool
	// Here says that whoever signs out here does so here alone.
	Here bool
	document.Position
}

// A ClaimGrant gives a role to whoever the provider says something of.
type ClaimGrant struct {
	Claim string // the name of what it says, such as groups
	Holds string // what that is, or has among others
	Role  string
}

// ElsewhereNamed returns what the policy declares under a name; nil if it does not.
func ElsewhereNamed(b *Book, name string) *DeclaredElsewhere {
	if i := slices.IndexFunc(b.Elsewhere, func(d DeclaredElsewhere) bool { return d.Name == name }); i >= 0 {
		return &b.Elsewhere[i]
	}
	return nil
}

// Roles returns the roles that somebody has by what a provider says of them: claims are what it says, as JSON has it.
func (d *DeclaredElsewhere) Roles(claims map[string]any) (roles []string) {
	for _, g := range d.Grants {
		if holds(claims[g.Claim], g.Holds) && !slices.Contains(roles, g.Role) {
			roles = append(roles, g.Role)
		}
	}
	return roles
}

// Mapped returns all roles that it may give.
func (d *DeclaredElsewhere) Mapped() (roles []string) {
	for _, g := range d.Grants {
		roles = append(roles, g.Role)
	}
	return roles
}

// holds reports whether a claim is a text, or has it among others. Nothing else is guessed at: a number is no text.
func holds(claim any, wanted string) bool {
	switch claim := claim.(type) {
	case string:
		return claim == wanted
	case []any:
		return slices.ContainsFunc(claim, func(one any) bool { text, ok := one.(string); return ok && text == wanted })
	case bool:
		return claim && wanted == "true"
	}
	return false
}

// Told says what the policy says of a provider.
func (d *DeclaredElsewhere) Told() string {
	return strings.Join([]string{d.Title, d.Issuer, d.Client, strings.Join(d.Scopes, " ")}, "\x00")
}
