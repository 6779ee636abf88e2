package guard

import (
	"context"
	"net/http"
	"net/url"
	"strings"

	"ostiarius/core/place"
	"ostiarius/core/policy"
)

// Instead returns a request for a page of the site, percent-encoded and perhaps with a query, that is answered with in the place of what r
// asked for: from the same client, by nobody in particular, and with nothing of what r wants of an answer. The page
// must be one that everybody may see. The error says that it cannot be read.
func Instead(ctx context.Context, r *http.Request, book *policy.Book, page string) (*http.Request, error) {
	path, query, _ := strings.Cut(page, "?")
	at, err := place.Read(http.MethodGet, r.Host, path, book.Rules)
	if err != nil {
		return nil, err
	}
	t := &turning{Context: ctx, turn: Turn{Book: book, Place: at, Address: page, Public: true, DropCredentials: true}}
	if was := TurnOf(r); was != nil {
		t.turn.Secure = was.Secure
	}
	t.request = *r.WithContext(t)
	ask := &t.request
	if ask.Method != http.MethodHead {
		ask.Method = http.MethodGet
	}
	ask.Body, ask.ContentLength, ask.TransferEncoding, ask.Trailer = http.NoBody, 0, nil, nil
	ask.Header = r.Header.Clone()
	for _, field := range []string{"Range", "If-Range", "If-None-Match", "If-Modified-Since", "If-Match", "If-Unmodified-Since",
		"Content-Type", "Content-Length", "Expect", "Upgrade", "Connection"} {
		ask.Header.Del(field)
	}
	ask.URL, ask.RequestURI = &url.URL{Path: at.Address(), RawQuery: query}, page
	return ask, nil
}
