package secret

import (
	"fmt"
	"math"
	"slices"
	"strings"

	"github.com/sethvargo/go-diceware/diceware"
	"golang.org/x/text/unicode/norm"

	"ostiarius/third_party/zxcvbn"
)

// A Strength estimates how hard a password is to guess for somebody who knows common
// passwords, words, keyboards, and what the password is for.
type Strength struct {
	Bits float64 `json:"bits"` // the logarithm of the number of guesses, to base 2
	Word string  `json:"word"` // "refused", "weak", "fair", "good" or "strong"
}

// The guesses, in bits, below which a password is refused as common: fewer than a million
// are tried in a day even where tries are slowed.
const leastBits = 20

// Only so many characters are looked at; what follows can only make it harder.
const estimated = 64

// Estimate returns how strong a password is. The context are words that an attacker would
// try first: the names of the site and of the account.
func Estimate(password string, context ...string) Strength {
	password = norm.NFC.String(password)
	runes := []rune(password)
	var words []string
	for _, text := range context {
		for _, word := range strings.FieldsFunc(strings.ToLower(text), func(r rune) bool { return strings.ContainsRune(" .,-_@", r) }) {
			if len(word) > 2 {
				words = append(words, word)
			}
		}
	}
	bits := zxcvbn.PasswordStrength(string(runes[:min(len(runes), estimated)]), words).Entropy
	distinct := slices.Compact(slices.Sorted(slices.Values(runes)))
	bits = math.Min(bits, float64(len(distinct))*6) // whatever else they are, aaaaaaaa and abababab are few guesses
	// What is left beside the names of the place is all that has to be guessed.
	left := strings.ToLower(password)
	for _, word := range words {
		left = strings.ReplaceAll(left, word, "")
	}
	left = strings.Trim(left, " .,-_@!")
	if len(left) < len(password)/2 {
		bits = math.Min(bits, float64(len(left))*4)
	}
	bits = math.Round(bits*10) / 10
	return Strength{Bits: bits, Word: wordFor(bits, len(runes))}
}

// wordFor says in a word how strong a password is, of so many bits and characters.
func wordFor(bits float64, characters int) string {
	switch {
	case bits < leastBits || characters < 8:
		return "refused"
	case bits < 30:
		return "weak"
	case bits < 40:
		return "fair"
	case bits < 55:
		return "good"
	}
	return "strong"
}

// Unfit says why a password cannot be taken as a new one.
type Unfit struct {
	Why  string // "short", "long" or "common"
	text string
}

func (u *Unfit) Error() string { return u.text }

// CheckNew says what is wrong with a new password, in a sentence, or nil. A password has
// at least 8 characters and is neither common nor made of words that everybody would try
// here; nothing is asked about what its characters are (NIST SP 800-63B-4, 3.1.1.2). At
// most 1,000 bytes are taken, so that hashing stays bounded.
//
// The error is an *Unfit.
func CheckNew(password string, context ...string) error {
	switch n := len([]rune(norm.NFC.String(password))); {
	case n < 8:
		return &Unfit{"short", fmt.Sprintf("the password has %d characters; it needs at least 8", n)}
	case len(password) > MaxPassword:
		return &Unfit{"long", fmt.Sprintf("the password has more than %d bytes", MaxPassword)}
	case Estimate(password, context...).Word == "refused":
		return &Unfit{"common", "the password is one of those that are guessed first: a common one, a word, a pattern, or a name of this " +
			"place; three or four words that have nothing to do with each other are easy to keep and hard to guess"}
	}
	return nil
}

// GenerateWords returns a random password of words, about 13 bits each.
func GenerateWords(words int) (string, error) {
	list, err := diceware.Generate(words)
	if err != nil {
		return "", fmt.Errorf("a password of words cannot be generated: %w", err)
	}
	return strings.Join(list, "-"), nil
}
