package account

import (
	"fmt"
	"strings"
	"unicode"
	"unicode/utf8"

	"golang.org/x/net/idna"
	"golang.org/x/text/unicode/norm"
)

// Lengths in bytes (RFC 5321, section 4.5.3.1): of what stands before the @, and of all but the brackets.
const longestLocal, longestAddress = 64, 254

// domains reads domains as they are looked up (RFC 5891), with the lengths that the DNS allows.
var domains = idna.New(idna.MapForLookup(), idna.BidiRule(), idna.StrictDomainName(true), idna.CheckHyphens(true),
	idna.VerifyDNSLength(true))

// SplitEmail reads an e-mail address and returns its two parts, the domain as it is asked for in the DNS. The error
// is an *Unfit and says that it is none that mail can be sent to.
//
// Before the @ stands a Dot-string (RFC 5321, section 4.1.2), of any letters (RFC 6531, section 3.3); the quoted form
// and addresses of machines are not taken, since people have neither. The domain may be an internationalised one (RFC 5891).
func SplitEmail(address string) (local, domain string, err error) {
	wrong := &Unfit{"email", fmt.Sprintf("%q is no e-mail address", address)}
	at := strings.LastIndexByte(address, '@')
	if at < 1 || !utf8.ValidString(address) {
		return "", "", wrong
	}
	local = address[:at]
	for _, atom := range strings.Split(local, ".") {
		if atom == "" || strings.ContainsFunc(atom, isNoAtom) {
			return "", "", wrong
		}
	}
	domain, err = domains.ToASCII(address[at+1:])
	if err != nil || domain == "" || strings.HasSuffix(domain, ".") || len(local) > longestLocal || len(address) > longestAddress ||
		len(local)+1+len(domain) > longestAddress {
		return "", "", wrong
	}
	return local, domain, nil
}

// isNoAtom reports whether a character is none of an atom: atext of RFC 5322, section 3.2.3, and what is beyond ASCII
// and can be seen.
func isNoAtom(r rune) bool {
	if r > unicode.MaxASCII {
		return !unicode.IsGraphic(r) || unicode.IsSpace(r)
	}
	return !(r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z' || r >= '0' && r <= '9' || strings.ContainsRune("!#$%&'*+-/=?^_`{|}~", r))
}

// EmailKey returns the form in which e-mail addresses are compared: letter case, the form of accents and the two
// forms of an internationalised domain make no difference. The error says why the text is no address; "" is
// none, and fine.
//
// What is before the @ could distinguish letter case (RFC 5321, section 2.4), but nobody
// gives out such addresses, and people do not type them alike twice.
func EmailKey(address string) (string, error) {
	if address == "" {
		return "", nil
	}
	local, domain, err := SplitEmail(address)
	if err != nil {
		return "", err
	}
	if shown, err := domains.ToUnicode(domain); err == nil {
		domain = shown
	}
	return strings.Map(lower, norm.NFC.String(local+"@"+domain)), nil
}

// lower is the small letter of a letter; but none beyond ASCII becomes one of ASCII, such as the
// dotted capital I of Turkish an i: that is another address, which somebody else may have.
func lower(r rune) rune {
	if l := unicode.ToLower(r); l > unicode.MaxASCII || r <= unicode.MaxASCII {
		return l
	}
	return r
}
