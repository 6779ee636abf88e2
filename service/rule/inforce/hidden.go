package inforce

import (
	"net/http"
	"net/url"
	"strings"

	"ostiarius/core/policy"
	"ostiarius/service/base/guard"
	"ostiarius/service/rule/source"
)

// server returns what answers for a server at the place of a request, and its source if the policy names it; nil if none does.
func (p *Policy) server(house *guard.House, away *guard.TurnedAway) (http.Handler, *policy.Source) {
	site, ok := house.Site.(*site)
	if !ok || house.Book != away.Book {
		if p.site == nil {
			return nil, nil
		}
		return house.Site, nil
	}
	behind := house.Book.SourceOf(away.Place)
	if behind == nil || behind.Proxy == "" {
		return nil, nil
	}
	return site.handlers[behind], behind
}

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
	handler, behind := p.server(house, away)
	if handler == nil {
		return false // what is missing there is answered as what is hidden
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
