package policy

import (
	"strings"

	"ostiarius/core/document"
	"ostiarius/core/place"
)

// Pages are pages of the site in the place of Ostiarius's own, to which people are sent instead; "" for none.
type Pages struct {
	SignIn, Join, Recover, TurnedAway string
	Missing                           string // is answered with, in the place of what is not there
	document.Position
}

// SignInAt returns the address at which people sign in.
func (b *Book) SignInAt() string {
	switch {
	case b.Pages.SignIn != "":
		return b.Pages.SignIn
	case b.Entrance != "":
		return Escape(place.Place{Path: b.Entrance})
	}
	return b.Prefix + "/sign-in"
}

// To returns an address with more of a query, such as "next=%2F", behind what it has.
func To(address, query string) string {
	if query == "" {
		return address
	}
	if strings.Contains(address, "?") {
		return address + "&" + query
	}
	return address + "?" + query
}
