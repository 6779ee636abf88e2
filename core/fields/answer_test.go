package fields

import (
	"strings"
	"testing"
)

func TestOfAnswer(t *testing.T) {
	for kind, names := range map[Answer]string{
		Plain: "Server Date X-Powered-By Server-Timing Grpc-Status Digest X-Accel-Buffering X-Custom Cache-Status",
		Caches: "Cache-Control CDN-Cache-Control Harbour-CDN-Cache-Control x-cache-control Expires PRAGMA Age Surrogate-Control " +
			"Surrogate-Key X-Accel-Expires Edge-Control",
		Steers: "X-Accel-Redirect X-Sendfile X-SENDFILE X-Sendfile2 X-LIGHTTPD-send-file X-Reproxy-URL",
		Wipes:  "Clear-Site-Data",
		Sets:   "Set-Cookie Location WWW-Authenticate Ostiarius-User Content-Length Content-Security-Policy Access-Control-Allow-Origin",
	} {
		for name := range strings.FieldsSeq(names) {
			if got := OfAnswer(name); got != kind {
				t.Errorf("%s: %d, want %d", name, got, kind)
			}
		}
	}
}

func TestWithoutWiping(t *testing.T) {
	for value, want := range map[string]string{
		`"cookies"`: ``, `"cache", "cookies", "storage"`: `"cache", "storage"`, `"*"`: `"cache", "storage"`, `"Cookies"`: ``,
		`cookies`: ``, ``: ``, `"executionContexts"`: `"executionContexts"`, `"clientHints"`: ``,
	} {
		if got := WithoutWiping(value); got != want {
			t.Errorf("%s: %s, want %s", value, got, want)
		}
	}
}
