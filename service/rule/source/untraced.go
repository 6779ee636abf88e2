package source

import "net/http"

// An untraced is a transport that does not tell of what a server says before its answer, such as
// 100 and 103. httputil.ReverseProxy would hand it on and then clear all fields of the answer,
// also those that the guard has set: that nobody may store it, and a fresh cookie. So the context is that from before ReverseProxy put
// its trace into it. To "Expect:
// 100-continue" our own server replies, as soon as the body is read.
type untraced struct{ *http.Transport }

func (t untraced) RoundTrip(r *http.Request) (*http.Response, error) {
	resp, err := t.Transport.RoundTrip(r.WithContext(handingOf(r)))
	if resp != nil {
		resp.Request = r
	}
	return resp, err
}
