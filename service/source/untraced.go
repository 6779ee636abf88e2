package source

import (
	"context"
	"net/http"
	"reflect"
)

// An untraced is a transport that does not tell of what a server says before its answer, such as
// 100 and 103. httputil.ReverseProxy would hand it on and then clear all fields of the answer,
// also those that the guard has set: that nobody may store it, and a fresh cookie. To "Expect:
// 100-continue" our own server replies, as soon as the body is read.
type untraced struct{ *http.Transport }

func (t untraced) RoundTrip(r *http.Request) (*http.Response, error) {
	resp, err := t.Transport.RoundTrip(r.WithContext(traceless{r.Context()}))
	if resp != nil {
		resp.Request = r
	}
	return resp, err
}

// traceless is a context without what package httptrace keeps in it.
type traceless struct{ context.Context }

func (c traceless) Value(key any) any {
	if t := reflect.TypeOf(key); t.Kind() == reflect.Struct && t.PkgPath() == "net/http/httptrace" {
		return nil
	}
	return c.Context.Value(key)
}
