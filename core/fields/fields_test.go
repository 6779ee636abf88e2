package fields

import (
	"strings"
	"testing"
)

func TestKindOf(t *testing.T) {
	for kind, names := range map[Kind]string{
		Free: "Accept Cookie Authorization Content-Type User-Agent X-Requested-With Range If-None-Match Traceparent X-Csrf-Token " +
			"Sec-Fetch-Mode Ostiari Priority",
		Odd: "Ostiarius_User Ostiarius.User Ostiarius~User Ostiarius!User X.Forwarded.For X_Forwarded_For Forwarded% a'b é Content_Length",
		Ours: "Ostiarius-User ostiarius-roles OSTIARIUS-DOOR Ostiarius-Anything-Else X-Forwarded-For X-Forwarded-Whatever Forwarded " +
			"x-forwarded",
		Hop:      "Upgrade HTTP2-Settings Connection Proxy Transfer-Encoding",
		Override: "X-Original-URL X-Rewrite-URL x-http-method-override X-HTTP-Method Destination",
		Address:  "X-Real-IP True-Client-IP Client-IP",
		User:     "Remote-User X-Remote-User X-Authenticated-User",
		Vouched:  "Remote-Groups X-Remote-Email X-SSL-Client-Verify Client-Cert Client-Cert-Chain Front-End-Https",
	} {
		for name := range strings.FieldsSeq(names) {
			if got := KindOf(name); got != kind {
				t.Errorf("%s: %d, want %d", name, got, kind)
			}
		}
	}
	if KindOf("") != Odd || KindOf("Ostiarius-"+strings.Repeat("x", 100)) != Ours || KindOf(strings.Repeat("x", 100)) != Free {
		t.Error("names of unusual length")
	}
	for name := range known {
		if len(name) > most {
			t.Errorf("%s is longer than any name that is looked at", name)
		}
		if KindOf(name) == Free || KindOf(strings.ToUpper(name)) != KindOf(name) {
			t.Errorf("%s gets through", name)
		}
	}
	for name, want := range map[string]string{
		"X-HTTP-Method-Override": "as sent", "X-Real-IP": "address", "Remote-User": "user", "Ostiarius-User": "", "X-Forwarded-For": "",
		"X_Odd": "", "Remote-Groups": "", "Upgrade": "",
	} {
		if got := Askable(name); got != want {
			t.Errorf("%s: %q", name, got)
		}
	}
}

// Whatever its spelling, a name that a server could take for one of ours does not get through:
// one that has the same letters and digits, whatever stands between them.
func FuzzKindOf(f *testing.F) {
	f.Add("Ostiarius.User")
	f.Add("x-FORWARDED_for")
	plain := func(s string) string {
		return strings.Map(func(r rune) rune {
			if r >= 'A' && r <= 'Z' {
				return r | 0x20
			}
			if r >= 'a' && r <= 'z' || r >= '0' && r <= '9' {
				return r
			}
			return '_'
		}, s)
	}
	f.Fuzz(func(t *testing.T, name string) {
		kind := KindOf(name)
		if as := plain(name); kind == Free &&
			(strings.HasPrefix(as, "ostiarius_") || strings.HasPrefix(as, "x_forwarded_") || as == "forwarded" || as == "remote_user" ||
				as == "upgrade") {
			t.Fatalf("%q is handed on", name)
		}
		if kind != KindOf(strings.ToUpper(name)) && !strings.ContainsFunc(name, func(r rune) bool { return r >= 0x80 }) {
			t.Fatalf("%q depends on its case", name)
		}
	})
}
