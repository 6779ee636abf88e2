package brief

import "testing"

// What is cut ends with a whole character, and has no more bytes than are asked for.
func TestCut(t *testing.T) {
	for _, test := range []struct {
		s    string
		n    int
		want string
	}{
		{"", 3, ""}, {"abc", 3, "abc"}, {"abcd", 3, "abc"}, {"abc", 0, ""}, {"äb", 3, "äb"}, {"äb", 2, "ä"}, {"äb", 1, ""},
		{"a€", 3, "a"}, {"a€b", 4, "a€"}, {"🔦🔦", 7, "🔦"},
	} {
		if got := Cut(test.s, test.n); got != test.want {
			t.Errorf("%q, %d: %q, want %q", test.s, test.n, got, test.want)
		}
	}
}
