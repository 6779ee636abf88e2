package inforce

import (
	"net/http"
	"net/url"
	"strings"

	"ostiarius/core/policy"
	"ostiarius/service/guard"
	"ostiarius/service/source"
)

// Hidden answers a request for a hidden place behind which is a server, and reports whether it did: with what that server says, to the same
// visitor, of something beside it that is not there. So the two cannot be told apart, and nor can a server that does not answer.
//
// The server is asked for an address that nobody has named, in the nearest directory above in which the visitor is admitted; nothing of
// what is hidden is asked for.
func (p *Policy) Hidden(w http.ResponseWriter, r *http.Request, away *guard.TurnedAway) bool {
	if away.Decision.Outcome != policy.Hide || away.Walk != nil {
		return false
	}
	house := p.House()
	handler := house.Site
	behind := (*policy.Source)(nil)
	if site, ok := house.Site.(*site); ok && house.Book == away.Book {
		if behind = house.Book.SourceOf(away.Place); behind == nil || behind.Proxy == "" {
			return false // what is missing there is answered as what is hidden
		}
		handler = site.handlers[behind]
	} else if p.site == nil {
		return false
	}
	hidden := away.Place.Address()
	for at := strings.LastIndexByte(away.Place.Path, '/'); at >= 0; at = strings.LastIndexByte(away.Place.Path[:at], '/') {
		drawn := source.Draw(strings.TrimPrefix(hidden[at+1:], "/"))
		page := (&url.URL{Path: away.Place.Path[:at+1] + drawn.Name}).EscapedPath()
		ask := guard.Sibling(r, away, page)
		if ask == nil || behind != nil && house.Book.SourceOf(guard.TurnOf(ask).Place) != behind {
			continue
		}
		echo := source.NewEcho(w, drawn)
		handler.ServeHTTP(echo, ask)
		echo.Close()
		return true
	}
	return false
}
