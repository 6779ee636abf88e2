package factor

import (
	"testing"
	"time"
)

// A proof is fresh for as long as was asked for; one of the future never is.
func TestWithin(t *testing.T) {
	for age, fresh := range map[time.Duration]bool{0: true, time.Minute: true, time.Minute + 1: false, -1: false, -time.Hour: false, Unknown: false} {
		for k := range kinds {
			if got := (Shown{}).With(k, age).Within(time.Minute); got.Has(k) != fresh || !fresh && got != 0 {
				t.Errorf("%v, a proof of an age of %v: %v", k, age, got)
			}
		}
	}
	if got := (Shown{}).Within(time.Hour); got != 0 {
		t.Errorf("nothing was shown: %v", got)
	}
}
