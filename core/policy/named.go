package policy

import "slices"

// NamesAccount reports whether the policy names an account by its name, as account.Key returns it: whoever has that name has what it
// says. Such a name is given by stewards alone.
func NamesAccount(b *Book, name string) bool {
	var names func(d Demand) bool
	names = func(d Demand) bool {
		return d.Kind == User && slices.Contains(d.Names, name) || slices.ContainsFunc(d.Parts, names)
	}
	for _, doors := range [][]Door{b.Doors, b.Checks, {b.Unlisted}} {
		if slices.ContainsFunc(doors, func(d Door) bool { return names(d.Admit) }) {
			return true
		}
	}
	for i := range b.Guarantees {
		if names(b.Guarantees[i].Demand()) {
			return true
		}
	}
	return slices.ContainsFunc(slices.Concat(b.Landings.SignIn, b.Landings.SignOut, b.Landings.Join, b.Landings.PasswordChange,
		b.Landings.Paid),
		func(l Landing) bool { return l.User == name })
}
