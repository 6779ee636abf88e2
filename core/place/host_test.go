package place

import (
	"strings"
	"testing"
)

func TestHost(t *testing.T) {
	for _, test := range []struct{ raw, want string }{
		{"marram.example", "marram.example"}, {"Marram.Example:8460", "marram.example"}, {"marram.example.", "marram.example"},
		{"127.0.0.1:80", "127.0.0.1"}, {"[::1]:80", "[::1]"}, {"[0:0::1]", "[::1]"}, {"", ""}, {"a:", "a"},
	} {
		if got, err := readHost(test.raw); err != nil || got != test.want {
			t.Errorf("host %q = %q, %v; want %q", test.raw, got, err, test.want)
		}
	}
	for _, bad := range []string{"a b", "a/b", "a@b", "a..b", ".a", "[::1", "[::1]x", "[1.2.3.4]", "[fe80::1%eth0]", "a:b", "a:123456",
		"a,b", "é", "a\x00", strings.Repeat("a", 300)} {
		if got, err := readHost(bad); err == nil {
			t.Errorf("host %q was read as %q", bad, got)
		}
	}
}
