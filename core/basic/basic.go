// Package basic reads and writes the credentials of HTTP Basic authentication (RFC 7617).
package basic

import (
	"encoding/base64"
	"errors"
	"strings"
	"unicode"
	"unicode/utf8"

	"golang.org/x/text/unicode/norm"
)

// Errors say why an Authorization header is not read. None of them shows what is in it.
var (
	ErrSeveral   = errors.New("the request has several Authorization headers")
	ErrMalformed = errors.New("the Authorization header is not as RFC 7617 has it")
)

var strict = base64.StdEncoding.Strict()

// Longest is the longest header that is read, in bytes.
const Longest = 4096

// Credentials are a user-id and a password.
type Credentials struct {
	User     string // in Unicode form NFC; empty if somebody has typed nothing, which nobody is called
	Password string // in Unicode form NFC
}

// Read reads the values of a request's Authorization headers. It returns false if there are
// no Basic credentials: no header, or one of another scheme. The user-id ends at the first
// colon, so that a password may have some (RFC 7617, section 2). Nothing is guessed: one
// header, one space, padded Base64, UTF-8, no control characters.
func Read(values []string) (c Credentials, ok bool, err error) {
	switch {
	case len(values) == 0:
		return c, false, nil
	case len(values) > 1:
		return c, false, ErrSeveral
	}
	scheme, rest, _ := strings.Cut(values[0], " ")
	if !strings.EqualFold(scheme, "Basic") {
		if len(scheme) >= 5 && strings.EqualFold(strings.TrimSpace(scheme[:5]), "Basic") {
			return c, false, ErrMalformed // such as "Basic\tx", or "Basic," before another
		}
		return c, false, nil
	}
	if len(values[0]) > Longest {
		return c, false, ErrMalformed
	}
	// 1*SP (RFC 9110, section 11.4)
	raw, err := strict.DecodeString(strings.TrimLeft(rest, " "))
	// which the decoder passes over
	if err != nil || len(raw) == 0 || strings.IndexByte(rest, '\r') >= 0 || strings.IndexByte(rest, '\n') >= 0 {
		return c, false, ErrMalformed
	}
	text := string(raw)
	ascii := strings.IndexFunc(text, func(r rune) bool { return r >= utf8.RuneSelf }) < 0
	user, password, hasColon := strings.Cut(text, ":")
	if !hasColon || !ascii && !utf8.ValidString(text) || strings.ContainsFunc(text, unicode.IsControl) {
		return c, false, ErrMalformed
	}
	if !ascii { // which is in form NFC
		user, password = norm.NFC.String(user), norm.NFC.String(password)
	}
	return Credentials{user, password}, true, nil
}
