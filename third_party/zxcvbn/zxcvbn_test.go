package zxcvbn

import (
	"math/rand/v2"
	"strings"
	"testing"

	original "github.com/ccojocar/zxcvbn-go"
)

// The copy estimates every password as the original does: words, names, keyboards, dates, repeats, sequences, digits for letters,
// and what is made of several of these by lot.
func TestAsTheOriginal(t *testing.T) {
	parts := []string{
		"password", "Lighthouse", "dragon", "mary", "Smith", "qwertyuiop", "zxcvbn", "7410852", "aaaa", "abcdef", "13.5.1997", "2011-10-02",
		"p4ssw0rd", "l3tm31n", "x", "Ω", " ", "!", "correct", "horse", "4815162342", "keeper", "marram",
	}
	random := rand.New(rand.NewPCG(1, 2))
	for range 40 {
		var password strings.Builder
		for range 1 + random.IntN(4) {
			password.WriteString(parts[random.IntN(len(parts))])
		}
		own := []string{"marram", "keeper"}[:random.IntN(3)]
		got, want := PasswordStrength(password.String(), own), original.PasswordStrength(password.String(), own)
		if got.Entropy != want.Entropy || got.Score != want.Score {
			t.Errorf("%q: %v bits, score %d; the original says %v bits, score %d", password.String(), got.Entropy, got.Score, want.Entropy, want.Score)
		}
	}
}
