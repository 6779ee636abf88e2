package fields

import "strings"

// An Answer is what a field of an answer does to others than the one who asked.
type Answer int

const (
	Plain Answer = iota
	// it tells some cache to keep the answer, or for how long it has: Cache-Control (RFC 9111), CDN-Cache-Control (RFC 9213) and its kin
	Caches
	Steers // with it some servers in front answer with something else than what they got
	Wipes  // it has a browser throw away what it keeps of the site (Clear-Site-Data)
	Sets   // it counts in the head of an answer alone, and for all of it: not where it comes after the body (RFC 9110, section 6.5.1)
)

// OfAnswer returns what a field of an answer does, by its name in whatever letter case.
func OfAnswer(name string) Answer {
	lower := strings.ToLower(name)
	if kind, ok := ofAnswers[lower]; ok {
		return kind
	}
	switch {
	case strings.HasSuffix(lower, "cache-control"), strings.HasPrefix(lower, "surrogate-"), strings.HasPrefix(lower, "edge-c"):
		return Caches
	case strings.HasPrefix(lower, "x-sendfile"), strings.HasPrefix(lower, "x-lighttpd-send"), strings.HasPrefix(lower, "x-reproxy"):
		return Steers
	case strings.HasPrefix(lower, "ostiarius-"), strings.HasPrefix(lower, "access-control-"), strings.HasPrefix(lower,
		"content-security-"), strings.HasPrefix(lower, "cross-origin-"):
		return Sets
	}
	return Plain
}

var ofAnswers = map[string]Answer{
	"expires": Caches, "pragma": Caches, "age": Caches, "x-accel-expires": Caches, "cache-tag": Caches, "xkey": Caches,
	"x-accel-redirect": Steers,
	"clear-site-data":  Wipes,
	"set-cookie":       Sets, "set-cookie2": Sets, "location": Sets, "refresh": Sets, "www-authenticate": Sets,
	"authentication-info": Sets, "strict-transport-security": Sets, "vary": Sets,
	"content-type": Sets, "content-length": Sets, "content-encoding": Sets, "content-range": Sets, "transfer-encoding": Sets,
	"connection": Sets, "trailer": Sets, "upgrade": Sets,
	"x-frame-options": Sets, "x-content-type-options": Sets, "referrer-policy": Sets, "service-worker-allowed": Sets, "alt-svc": Sets,
	"link": Sets, "etag": Sets, "last-modified": Sets,
}

// WithoutWiping returns the directives of Clear-Site-Data without those that take cookies away: the session is not the server's behind.
// It is "" if nothing is left.
func WithoutWiping(value string) string {
	var kept []string
	for directive := range strings.SplitSeq(value, ",") {
		switch directive = strings.TrimSpace(directive); strings.ToLower(strings.Trim(directive, `"`)) {
		case "", "cookies", "clienthints":
		case "*":
			kept = append(kept, `"cache"`, `"storage"`)
		default:
			kept = append(kept, directive)
		}
	}
	return strings.Join(kept, ", ")
}
