package policy

import (
	"slices"
	"time"

	"ostiarius/core/document"
	"ostiarius/core/event"
)

// An Item is something that a shop sells, and what it opens for who has paid for it.
type Item struct {
	Name   string
	Title  string // for people
	Roles  []string
	Passes []string
	Paths  []string      // canonical, to which the passes are narrowed; none for all that they open
	For    time.Duration // how long it opens that; 0 for no end, and of passes for as long as their kind lasts
	Grace  time.Duration // how long roles stay after that
	After  JoinGrant     // the role that its owner has afterwards; none with Role ""
	Go     string        // where it is sold; "" for where the offer of what it opens leads
	document.Position
}

// An Offer says what opens doors for whoever has not got it, and where to get it.
type Offer struct {
	Name string // of a role or a kind of pass
	Say  string
	Go   string // an address of this site or of one of the shops; "" for none
	document.Position
}

// Events says how the events of a shop are read.
type Events struct {
	Fields event.Fields
	document.Position
}

// ItemNamed returns what a shop's item opens; nil if the policy does not have it.
func ItemNamed(b *Book, name string) *Item {
	if i := slices.IndexFunc(b.Items, func(item Item) bool { return item.Name == name }); i >= 0 {
		return &b.Items[i]
	}
	return nil
}

// SoldAt returns where an item is sold; "" if the policy does not say.
func SoldAt(b *Book, item *Item) string {
	if item.Go != "" {
		return item.Go
	}
	for _, name := range slices.Concat(item.Roles, item.Passes) {
		if o := offerOf(b, name); o != nil && o.Go != "" {
			return o.Go
		}
	}
	return ""
}

func offerOf(b *Book, name string) *Offer {
	if i := slices.IndexFunc(b.Offers, func(o Offer) bool { return o.Name == name }); i >= 0 {
		return &b.Offers[i]
	}
	return nil
}

// OffersAt returns the offers of what would open a place for a visitor who is turned away there: each by itself, and none where an account
// would do that everybody may create.
func OffersAt(b *Book, r Request, v *Visitor) (would []Offer) {
	if len(b.Offers) == 0 {
		return nil
	}
	if !v.SignedIn && (b.Joining.By == ByAnybody || b.Joining.By == ByApproval) {
		with := *v
		if with.SignedIn = true; b.Decide(r, &with).Outcome == Admit {
			return nil
		}
	}
	for _, o := range b.Offers {
		with := *v
		if PassNamed(b, o.Name) != nil {
			with.Passes = append(slices.Clone(v.Passes), o.Name)
			if b.Decide(r, &with).Outcome == Admit {
				would = append(would, o)
				continue
			}
			with.Passes = v.Passes
		}
		with.SignedIn, with.Roles = true, append(slices.Clone(v.Roles), o.Name)
		if b.KnownRole(o.Name) && b.Decide(r, &with).Outcome == Admit {
			would = append(would, o)
		}
	}
	return would
}
