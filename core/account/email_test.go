package account

import (
	"strings"
	"testing"
)

func TestEmail(t *testing.T) {
	for address, want := range map[string]string{
		"ines@marram.example": "ines@marram.example", "Ines@Marram.EXAMPLE": "ines@marram.example",
		"o'neil+log@marram.example": "o'neil+log@marram.example", "jos\u00e9@b\u00fccher.example": "jos\u00e9@b\u00fccher.example",
		"jose\u0301@xn--bcher-kva.example": "jos\u00e9@b\u00fccher.example", "a.b.c@localhost": "a.b.c@localhost", "": "",
	} {
		if got, err := EmailKey(address); err != nil || got != want {
			t.Errorf("EmailKey(%q) = %q, %v; want %q", address, got, err, want)
		}
	}
	for _, bad := range []string{
		"ines", "@marram.example", "ines@", "a@b@c", ".a@marram.example", "a.@marram.example", "a..b@marram.example",
		"a b@marram.example", "a@marram example", "a@marram_point.example", "a@-x.example", "a@x.example.",
		"a@[192.0.2.7]", "\"a\"@marram.example", "Ines <a@marram.example>", "a@marram.example\r\nBcc: b@marram.example",
		"a\u202e@marram.example", "a\x00@marram.example", "\xff@marram.example",
		strings.Repeat("a", 65) + "@marram.example", "a@" + strings.Repeat("b", 64) + ".example", "a@" + strings.Repeat("b.", 130) + "example",
	} {
		if key, err := EmailKey(bad); err == nil {
			t.Errorf("EmailKey(%q) = %q", bad, key)
		}
	}
}

// What is taken as an address makes no second one, no line and no parameter in the dialogue of SMTP.
func FuzzSplitEmail(f *testing.F) {
	for _, seed := range []string{"ines@marram.example", "a@b.example> SIZE=9", "\u00e9@\u00e9.example", "a@xn--zzzz", "a@b\u3002c",
		"x@y\r\nz"} {
		f.Add(seed)
	}
	f.Fuzz(func(t *testing.T, address string) {
		local, domain, err := SplitEmail(address)
		if err != nil {
			return
		}
		if local == "" || domain == "" || strings.ContainsAny(local, " \r\n\t<>\"@,;:\\()[]\x00") ||
			strings.Trim(domain, "abcdefghijklmnopqrstuvwxyz0123456789.-") != "" || len(local)+1+len(domain) > longestAddress {
			t.Errorf("%q is %q at %q", address, local, domain)
		}
		key, err := EmailKey(address)
		if err != nil {
			t.Fatalf("%q: %v", address, err)
		}
		if again, err := EmailKey(key); err != nil || again != key {
			t.Errorf("%q has the key %q, whose key is %q, %v", address, key, again, err)
		}
	})
}
