package guard

import (
	"net/http"

	"ostiarius/core/policy"
)

// Sibling returns a request for another page of the site, percent-encoded, as whoever was turned away would send it, if they are admitted there; nil if not.
// With it is found out what they are told of what is not there.
func Sibling(r *http.Request, away *TurnedAway, page string) *http.Request {
	v := away.Visitor
	v.Shared, v.Passes = nil, nil // what is held there is found out there
	asked, fault := away.Book.Read(policy.Request{Method: http.MethodGet, Host: r.Host, Path: page})
	if fault != nil {
		return nil
	}
	d := away.Book.Judge(asked.Place, asked.Doors(), &v)
	if d.Outcome != policy.Admit || away.Book.IsOwn(d.Place) {
		return nil
	}
	ask, err := Instead(r.Context(), r, away.Book, page)
	if err != nil {
		return nil
	}
	t := TurnOf(ask)
	t.Visitor, t.Door, t.Public, t.DropCredentials = v, d.Door, false, away.DropCredentials // no cache may keep it for what is hidden
	return ask
}
