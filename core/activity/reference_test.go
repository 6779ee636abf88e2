package activity

import (
	"slices"
	"testing"
)

func TestReferences(t *testing.T) {
	for _, typed := range []string{"ABIO-L2Z7", "abio-l2z7", "abiol2z7", " ABIO L2Z7 ", "AB1O-12Z7", "ablo–i2z7", "AB10 l2z7", "ab-io-l2-z7"} {
		if !slices.Contains(References(typed), "ABIO-L2Z7") {
			t.Errorf("%q: %q", typed, References(typed))
		}
	}
	for _, none := range []string{"", "ABIO-L2Z", "ABIO-L2Z77", "ABIO-L2Z%", "ABIO-L2Z9"} {
		if all := References(none); len(all) > 0 {
			t.Errorf("%q: %q", none, all)
		}
	}
	if all := References("IIIIIIII"); len(all) != 256 {
		t.Errorf("%d", len(all))
	}
}
