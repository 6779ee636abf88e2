package service

import (
	"context"
	"fmt"
	"net"
	"net/http"
	"strings"

	"ostiarius/core/policy"
	"ostiarius/service/base/guard"
)

// The console may have an origin of its own, at a host name or at an address to listen on: then the
// administration answers there and nowhere else, and nothing of the site does. A page of the site
// is of another origin then, and browsers keep it from acting for a steward who looks at it.

// An apart says where the console has an origin of its own. The zero value has it beside the site.
type apart struct{ name, listen string }

// readApart reads a setting: a host name, or HOST:PORT to listen on.
func readApart(setting string) (apart, error) {
	switch {
	case setting == "":
		return apart{}, nil
	case strings.Contains(setting, ":"):
		if _, port, err := net.SplitHostPort(setting); err != nil || port == "" {
			return apart{}, fmt.Errorf("--console %s is no address to listen on and no host name; write HOST:PORT or a name, such as "+
				"localhost:8470 or doors.marram.example", setting)
		}
		return apart{listen: setting}, nil
	case strings.ContainsAny(setting, "/\\@?#% \t"):
		return apart{}, fmt.Errorf("--console %s is no host name; write one like doors.marram.example, or HOST:PORT to listen on", setting)
	}
	return apart{name: setting}, nil
}

func (a apart) isSet() bool { return a != apart{} }

// apartKey marks the connections that came to the console's own address.
type apartKey struct{}

func markApart(ctx context.Context) context.Context {
	return context.WithValue(ctx, apartKey{}, true)
}

// here reports whether a request came to the console's own origin.
func (a apart) here(r *http.Request) bool {
	switch {
	case a.listen != "":
		return r.Context().Value(apartKey{}) != nil
	case a.name != "":
		return strings.EqualFold(strings.TrimSuffix(hostOf(r.Host), "."), a.name)
	}
	return false
}

// onlyHere answers requests for the administration only at its own origin, if it has one.
func (a apart) onlyHere(missing http.HandlerFunc) func(http.Handler) http.Handler {
	return func(next http.Handler) http.Handler {
		if !a.isSet() {
			return next
		}
		return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			if !a.here(r) {
				missing(w, r)
				return
			}
			next.ServeHTTP(w, r)
		})
	}
}

// orConsole leads whoever asks for a page of the site at the console's own origin to the console, and
// answers for everything else that it is not there.
func (a apart) orConsole(missing http.HandlerFunc) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		t := guard.TurnOf(r)
		if (r.Method == http.MethodGet || r.Method == http.MethodHead) && a.here(r) && !t.Book.IsOwn(t.Place) &&
			guard.ClientOf(r.Header) == policy.Browser {
			w.Header().Set("Cache-Control", "private, no-store")
			http.Redirect(w, r, t.Book.Prefix+"/console/", http.StatusSeeOther)
			return
		}
		missing(w, r)
	}
}
