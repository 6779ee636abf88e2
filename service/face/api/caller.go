package api

import (
	"mime"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"time"

	"ostiarius/client"
	"ostiarius/service/base/problem"
)

// A page of the site could send requests here while a steward looks at it, with the steward's
// cookie. So a change must come as no form and no simple request of another site can be sent
// (application/json, and a field of its own), from the console's own origin where a browser says
// which that is; and it asks for a password that was typed of late, for the page from which it comes.

// ProofField is the field in which a page of the console brings its mark, see session.Marker.
const ProofField = "Ostiarius-Proof"

// ProofLasts is how old the proof of the password may be for what changes something.
const ProofLasts = 15 * time.Minute

// onlyMeant refuses changes that a page of another origin, or a form, could have sent.
func (a *API) onlyMeant(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("X-Content-Type-Options", "nosniff")
		if r.Method == http.MethodGet || r.Method == http.MethodHead {
			next.ServeHTTP(w, r)
			return
		}
		kind, _, err := mime.ParseMediaType(r.Header.Get("Content-Type"))
		switch {
		case !a.fromHere(r):
			a.fail(w, refuse(http.StatusForbidden, "This request came from another origin and was not carried out. "+
				"Behind a server that speaks HTTPS, name it with --trusted-peer, or the address of the site with --url."))
		case r.Header.Get(client.RequestedWith) == "":
			a.fail(w, refuse(http.StatusForbidden, "A change is asked for with the field "+client.RequestedWith+", which forms cannot send; "+
				"any value will do."))
		case r.ContentLength != 0 && (err != nil || kind != "application/json"):
			a.fail(w, refuse(http.StatusUnsupportedMediaType, "The body is sent as application/json."))
		default:
			next.ServeHTTP(w, r)
		}
	})
}

// fromHere reports whether a request comes from the origin that it goes to, with scheme, host and
// port, as far as it says so.
func (a *API) fromHere(r *http.Request) bool {
	if site := r.Header.Get("Sec-Fetch-Site"); site != "" && site != "same-origin" && site != "none" {
		return false
	}
	origins := r.Header["Origin"]
	if len(origins) == 0 {
		return true
	}
	from, err := url.Parse(origins[0])
	if len(origins) > 1 || err != nil || a.Origins == nil {
		return false
	}
	return slices.ContainsFunc(a.Origins(r), func(own string) bool { return strings.EqualFold(own, from.Scheme+"://"+from.Host) })
}

// fresh asks for a recent proof of the password before what changes something, or gives out hashes.
func (a *API) fresh(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if a.ProofAge != nil && a.ProofAge(r) > ProofLasts {
			problem.Write(w, client.Problem{
				Status: http.StatusForbidden, Code: "proof-needed",
				Detail: "This asks for your password again, since it was not typed in this page in the last 15 minutes.",
			})
			return
		}
		next.ServeHTTP(w, r)
	})
}
