package guard

import (
	"net/http"

	"ostiarius/core/place"
	"ostiarius/core/policy"
)

// Sibling returns a request for another page of the site, percent-encoded, as whoever was turned away would send it, with the same
// method and body, if they are admitted there; nil if not. With it is found out what they are told of what is not there.
func Sibling(r *http.Request, away *TurnedAway, page string) *http.Request {
	v := away.Visitor
	v.Shared, v.Passes = nil, nil // what is held there is found out there
	asked, fault := away.Book.Read(policy.Request{Method: r.Method, Host: r.Host, Path: page})
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
	ask.Method, ask.Body, ask.ContentLength, ask.TransferEncoding = r.Method, r.Body, r.ContentLength, r.TransferEncoding
	for _, field := range []string{"Content-Type", "Content-Length"} {
		if values, is := r.Header[field]; is {
			ask.Header[field] = values
		}
	}
	_, _, ask.URL.RawQuery = place.SplitTarget(r.RequestURI)
	if ask.URL.RawQuery != "" {
		ask.RequestURI += "?" + ask.URL.RawQuery
	}
	t := TurnOf(ask)
	t.Place, t.Visitor, t.Door, t.Public, t.DropCredentials = d.Place, v, d.Door, false, away.DropCredentials // no cache may keep it
	return ask
}
