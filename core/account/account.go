// Package account holds the rules of accounts: their names and the roles granted to them.
package account

import (
	"fmt"
	"slices"
	"strings"
	"time"
	"unicode"

	"golang.org/x/text/secure/precis"
	"golang.org/x/text/unicode/norm"
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
	Unset    bool // there is no password yet
}

// A Grant is a role given to an account.
type Grant struct {
	Role  string
	From  time.Time
	Until time.Time // zero for no end
	By    string
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

// EmailKey returns the form in which e-mail addresses are compared: letter case and the
// form of accents make no difference. The error says why the text is no address; "" is
// none, and fine.
//
// What is before the @ could distinguish letter case (RFC 5321, section 2.4), but nobody
// gives out such addresses, and people do not type them alike twice.
func EmailKey(address string) (string, error) {
	if address == "" {
		return "", nil
	}
	local, domain, ok := strings.Cut(address, "@")
	if !ok || local == "" || domain == "" || len(address) > 254 || strings.ContainsFunc(address, func(r rune) bool {
		return unicode.IsSpace(r) || unicode.IsControl(r) || strings.ContainsRune("<>,;:@\\\"()[]", r) && r != '@'
	}) || strings.Contains(domain, "@") {
		return "", fmt.Errorf("%q is no e-mail address", address)
	}
	return strings.Map(lower, norm.NFC.String(address)), nil
}

// lower is the small letter of a letter; but none beyond ASCII becomes one of ASCII, such as the
// dotted capital I of Turkish an i: that is another address, which somebody else may have.
func lower(r rune) rune {
	if l := unicode.ToLower(r); l > unicode.MaxASCII || r <= unicode.MaxASCII {
		return l
	}
	return r
}

// reserved are the characters that separate names elsewhere: in addresses, in HTTP Basic
// credentials, in the notation of visitors.
const reserved = `/\?#%;:,+`

// Key returns the form in which names are compared: the UsernameCaseMapped profile of
// PRECIS (RFC 8265, section 3.3). Case, width and Unicode form make no difference.
//
// The error says in words why the name cannot be used.
func Key(name string) (string, error) {
	if len(name) > 200 {
		return "", fmt.Errorf("the name is longer than 200 bytes")
	}
	if i := strings.IndexAny(name, reserved); i >= 0 {
		return "", fmt.Errorf("the name %q has a %q; a name has none of %s", name, name[i], reserved)
	}
	key, err := precis.UsernameCaseMapped.String(name)
	if err != nil || key == "" {
		return "", fmt.Errorf("the name %q is empty, or has spaces or characters that do not belong in a name", name)
	}
	return key, nil
}
