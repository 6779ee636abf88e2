package policy

import (
	"slices"
	"time"

	"ostiarius/core/document"
	"ostiarius/core/factor"
)

// Factors say what the policy wants of proofs beside the password, as far as it is no matter of one door.
type Factors struct {
	// AtDoors says that a second factor is asked for where a door asks for it, and not already when somebody signs in who
	// has one.
	AtDoors bool
	// Remember is how long a browser in which a second factor was shown is not asked for it again at sign-in; 0 for not at all.
	Remember time.Duration
	// Stewards is what stewards have to show for the console: a word of factor.Asked; "" for nothing but their role.
	Stewards string
	// Wanted are the roles whose people should have more than a password.
	Wanted []FactorWanted
	// Reset is how long a steward's reset of what somebody has lost waits, after its owner was told; 0 for not at all.
	Reset time.Duration
	// NoKeys are roles that access keys never carry, nor any role that brings one of them.
	NoKeys []string
	document.Position
}

// A FactorWanted says that people with a role should be able to show a factor.
type FactorWanted struct {
	Role   string
	Factor string // a word of factor.Asked
}

// Wanted returns what somebody with these roles should be able to show and cannot, by what they have set up; "" for nothing. An
// account without a password has something else in its place.
func (f *Factors) wanted(b *Book, roles []string, enrolled factor.Set) string {
	for _, w := range f.Wanted {
		if b.has(roles, w.Role) && !(enrolled | factor.Of(factor.Password)).Meets(w.Factor) {
			return w.Factor
		}
	}
	return ""
}

// FactorWantedOf returns what somebody with these roles should be able to show, and has not set up; "" for nothing.
func FactorWantedOf(b *Book, roles []string, enrolled factor.Set) string {
	return b.Factors.wanted(b, roles, enrolled)
}

// AsksFactorByBasic reports whether a door asks for a factor in a way in which none can be shown: HTTP Basic has a name and a
// password alone.
func (d *Door) AsksFactorByBasic() bool {
	ways, _ := d.Admit.ways()
	without := func(w way) bool {
		return !slices.ContainsFunc(w, func(want *Demand) bool { return want.Kind == Factor })
	}
	return d.Basic && len(ways) > 0 && !slices.ContainsFunc(ways, without)
}
