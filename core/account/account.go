// Package account holds the rules of accounts: their names and the roles granted to them.
package account

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/mtibben/confusables"
	"golang.org/x/text/cases"
	"golang.org/x/text/language"
	"golang.org/x/text/secure/precis"
	"golang.org/x/text/unicode/norm"
	"golang.org/x/text/width"

	"ostiarius/core/factor"
	"ostiarius/core/words"
)

// An Account is somebody, or a device, who can sign in.
type Account struct {
	ID       int64
	Name     string // as it was written
	Email    string
	Notes    string // of the stewards
	Disabled bool
	MadeAt   time.Time
	MadeBy   string // by whom or what
	SignedIn time.Time
	Grants   []Grant
	Unset    bool           // there is no password yet
	LeavesAt time.Time      // when it is deleted, since its owner wants that; zero for not at all
	Language words.Language // in which its owner reads; "" for not known
	// Proofs counts how often what proves who somebody is has changed, such as the password. What was
	// proven before the last change counts no longer.
	Proofs int64
	// Enrolled is what its owner can show beside the password.
	Enrolled factor.Set
}

// Unfit says why a name or an address cannot be used.
type Unfit struct {
	What string // "name" or "email"
	text string
}

func (u *Unfit) Error() string { return u.text }

// NoName says that a text cannot be used as a name.
func NoName(name string) error {
	return &Unfit{"name", fmt.Sprintf("the name %q has characters that do not belong in a name", name)}
}

// A Grant is a role given to an account.
type Grant struct {
	Role  string
	From  time.Time
	Until time.Time // zero for no end
	By    string
	Order string // the latest for which it was granted; "" for none
}

// Active reports whether the grant holds at the time now.
func (g Grant) Active(now time.Time) bool {
	return !now.Before(g.From) && (g.Until.IsZero() || now.Before(g.Until))
}

// Roles returns the roles that the account has at the time now.
func (a *Account) Roles(now time.Time) []string {
	var roles []string
	for _, g := range a.Grants {
		if g.Active(now) && !slices.Contains(roles, g.Role) {
			roles = append(roles, g.Role)
		}
	}
	return roles
}

// Changes returns when next a grant begins or ends after now; zero for never.
func (a *Account) Changes(now time.Time) (next time.Time) {
	for _, g := range a.Grants {
		for _, t := range []time.Time{g.From, g.Until} {
			if t.After(now) && (next.IsZero() || t.Before(next)) {
				next = t
			}
		}
	}
	return next
}

// ParseTime reads a time (RFC 3339), or a date in zone: its beginning, or its end.
func ParseTime(s string, zone *time.Location, end bool) (time.Time, error) {
	if t, err := time.Parse(time.RFC3339, s); err == nil {
		return t, nil
	}
	if t, err := time.ParseInLocation("2006-01-02", s, zone); err == nil {
		if end {
			t = t.AddDate(0, 0, 1)
		}
		return t, nil
	}
	return time.Time{}, fmt.Errorf("%q is no time; write a date such as 2027-03-31, or a time such as 2027-03-31T18:00:00Z", s)
}

// Fold returns a text with its letters as names are compared: case, width and Unicode form make no
// difference. Of a name that can be used it is the Key.
func Fold(text string) string {
	return norm.NFC.String(cases.Lower(language.Und, cases.HandleFinalSigma(false)).String(width.Fold.String(text)))
}

// reserved are the characters that separate names elsewhere: in addresses, in HTTP Basic
// credentials, in the notation of visitors.
const reserved = `/\?#%;:,+`

// Walking is the name in the place of an account that a walk through the site has. Nobody else has it.
const Walking = "(walk)"

// Skeleton returns a text that is the same for names which look alike (UTS 39, section 4), of a name as Key returns it.
// Dots and dashes, which are easily overlooked, make no difference either. It is "" for a name of nothing else.
func Skeleton(key string) string {
	seen := strings.Map(func(r rune) rune {
		if strings.ContainsRune("._-'", r) {
			return -1
		}
		return r
	}, key)
	return strings.ToLower(confusables.Skeleton(seen))
}

// Key returns the form in which names are compared: the UsernameCaseMapped profile of
// PRECIS (RFC 8265, section 3.3). Case, width and Unicode form make no difference. What is reserved is looked for in
// that form: a fullwidth ＠ becomes an @. A name of dots alone would be another place in an address (RFC 3986, section 5.2.4).
//
// The error is an *Unfit, and says in words why the name cannot be used.
func Key(name string) (string, error) {
	if len(name) > 200 {
		return "", &Unfit{"name", "the name is longer than 200 bytes"}
	}
	if i := strings.IndexAny(name, reserved); i >= 0 {
		return "", &Unfit{"name", fmt.Sprintf("the name %q has a %q; a name has none of %s", name, name[i], reserved)}
	}
	key, err := precis.UsernameCaseMapped.String(name)
	if err != nil || key == "" {
		return "", &Unfit{"name", fmt.Sprintf("the name %q is empty, or has spaces or characters that do not belong in a name", name)}
	}
	if i := strings.IndexAny(key, reserved); i >= 0 || strings.Count(key, "@") != strings.Count(name, "@") {
		return "", &Unfit{"name", fmt.Sprintf("the name %q has a wide form of one of %s@", name, reserved)}
	}
	if strings.Trim(key, ".") == "" || key == Walking {
		return "", &Unfit{"name", fmt.Sprintf("the name %q means something else; choose another one", name)}
	}
	return key, nil
}
