package accesskey

import (
	"net/netip"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"
)

func TestTokens(t *testing.T) {
	form := regexp.MustCompile("^" + Pattern + "$")
	for range 100 {
		token, hash := New()
		if got, ok := Hash(token); !ok || got != hash || !form.MatchString(token) {
			t.Fatalf("%s: %v", token, ok)
		}
		for i := range token {
			other := "a"
			if token[i] == 'a' {
				other = "b"
			}
			if _, ok := Hash(token[:i] + other + token[i+1:]); ok {
				t.Errorf("%s with another letter at %d", token, i)
			}
		}
		for _, wrong := range []string{"", Prefix, token + "a", token[:len(token)-1], strings.ToUpper(token), " " + token, token + "\n"} {
			if _, ok := Hash(wrong); ok {
				t.Errorf("%q is taken", wrong)
			}
		}
	}
}

func TestInFields(t *testing.T) {
	token, _ := New()
	for _, test := range []struct {
		fields []string
		token  string
		ours   bool
	}{
		{nil, "", false}, {[]string{"Basic aW5lczp4"}, "", false}, {[]string{"Bearer somebody-elses"}, "", false},
		{[]string{"Bearer"}, "", false},
		{[]string{"Bearer " + token}, token, true}, {[]string{"bEARER   " + token}, token, true},
		{[]string{"Bearer " + token + "x"}, token + "x", true},
		{[]string{"Bearer " + token, "Basic aW5lczp4"}, "", true}, {[]string{"Basic aW5lczp4", "Bearer " + token}, "", true},
		{[]string{"Bearer " + token, "Bearer " + token}, "", true},
		{[]string{"Bearer a", "Bearer b"}, "", false},
	} {
		if got, ours := In(test.fields); got != test.token || ours != test.ours {
			t.Errorf("%q: %q %v", test.fields, got, ours)
		}
	}
}

func TestWhenAKeyCounts(t *testing.T) {
	made := time.Date(2026, 11, 26, 12, 0, 0, 0, time.UTC)
	k := Key{
		MadeAt: made, Until: made.Add(time.Hour),
		Networks: []netip.Prefix{netip.MustParsePrefix("192.0.2.0/24"), netip.MustParsePrefix("2001:db8::/32")},
	}
	for _, test := range []struct {
		at   time.Duration
		from string
		ok   bool
	}{{0, "192.0.2.7", true}, {0, "2001:db8::1", true}, {0, "198.51.100.1", false}, {time.Hour, "192.0.2.7", false},
		{59 * time.Minute, "192.0.2.7", true}, {-time.Hour, "192.0.2.7", false}} {
		if got := k.Counts(made.Add(test.at), netip.MustParseAddr(test.from)); got != test.ok {
			t.Errorf("%+v: %v", test, got)
		}
	}
	if k.Counts(made, netip.Addr{}) {
		t.Error("it counts from an address that is not known")
	}
	if k = (Key{MadeAt: made}); !k.Counts(made.AddDate(9, 0, 0), netip.Addr{}) {
		t.Error("without an end and networks it does not count")
	}
}

func TestWhatAKeyCarries(t *testing.T) {
	brings := map[string]string{
		"steward": "steward", "trustee": "trustee keeper volunteer", "keeper": "keeper volunteer", "volunteer": "volunteer", "device": "device",
	}
	satisfies := func(granted, asked string) bool {
		return slices.Contains(strings.Fields(brings[granted]), asked)
	}
	for _, test := range []struct{ key, has, never, want string }{
		{"*", "trustee device", "", "trustee device"}, {"", "trustee", "", ""}, {"keeper", "trustee", "", "keeper"},
		{"trustee", "keeper", "", ""},
		{"keeper steward", "trustee steward", "steward", "keeper"}, {"*", "trustee steward", "keeper", "steward"},
		{"volunteer", "trustee", "keeper", "volunteer"}, {"unknown", "trustee", "", ""},
	} {
		k := Key{Roles: strings.Fields(test.key)}
		if k.Roles == nil {
			k.Roles = []string{}
		}
		if test.key == "*" {
			k.Roles = nil
		}
		if got := strings.Join(k.Carries(strings.Fields(test.has), strings.Fields(test.never), satisfies), " "); got != test.want {
			t.Errorf("%+v: %q", test, got)
		}
	}
}
