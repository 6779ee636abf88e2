// Package onetime has one-time codes: those that an app shows, another each half minute (RFC 6238), and those that somebody keeps
// for when there is no app.
package onetime

import (
	"crypto/hmac"
	"crypto/rand"
	"crypto/sha1"
	"crypto/sha256"
	"crypto/subtle"
	"encoding/base32"
	"encoding/binary"
	"encoding/hex"
	"fmt"
	"net/url"
	"strings"
	"time"
)

const (
	// Digits is how many digits a code has. All apps know six.
	Digits = 6
	// Lasts is how long a code is shown (RFC 6238, section 5.2).
	Lasts = 30 * time.Second
	// Drift is how many codes before and after the one of now are taken: clocks differ, and typing takes time (RFC 6238, section 6).
	Drift = 1
	// size is the length of a secret (RFC 4226, section 4, requirement 6).
	size = 20
)

// NewSecret returns a random secret, from which an app makes the codes.
func NewSecret() []byte {
	secret := make([]byte, size)
	rand.Read(secret)
	return secret
}

// Step returns the number of the code that is shown at a time.
func Step(now time.Time) int64 { return now.Unix() / int64(Lasts/time.Second) }

// At returns the code of a secret with a number (RFC 4226, section 5.3), with so many digits.
func At(secret []byte, step int64, digits int) string {
	var message [8]byte
	binary.BigEndian.PutUint64(message[:], uint64(step))
	h := hmac.New(sha1.New, secret)
	h.Write(message[:])
	sum := h.Sum(nil)
	at := sum[len(sum)-1] & 0xf
	number := binary.BigEndian.Uint32(sum[at:at+4]) & 0x7fffffff
	limit := uint32(1)
	for range digits {
		limit *= 10
	}
	return fmt.Sprintf("%0*d", digits, number%limit)
}

// Find returns the number of the code that somebody has typed, if it is one of about now, and later than the latest that was
// taken: each code counts once (RFC 6238, section 5.2). Its time does not depend on which it is.
func Find(secret []byte, typed string, now time.Time, latest int64) (step int64, ok bool) {
	typed = digitsOf(typed)
	for s := Step(now) - Drift; s <= Step(now)+Drift; s++ {
		same := subtle.ConstantTimeCompare([]byte(At(secret, s, Digits)), []byte(typed)) == 1
		if same && s > latest && !ok {
			step, ok = s, true
		}
	}
	return step, ok
}

// digitsOf leaves away the spaces with which apps show a code.
func digitsOf(typed string) string { return strings.NewReplacer(" ", "", "\u00a0", "").Replace(typed) }

// IsCode reports whether what somebody has typed has the form of a code of an app.
func IsCode(typed string) bool {
	typed = digitsOf(typed)
	return len(typed) == Digits && strings.Trim(typed, "0123456789") == ""
}

var letters = base32.StdEncoding.WithPadding(base32.NoPadding)

// Text writes a secret as people type it into an app that cannot read the picture.
func Text(secret []byte) string {
	text := letters.EncodeToString(secret)
	var parts []string
	for len(text) > 4 {
		parts, text = append(parts, text[:4]), text[4:]
	}
	return strings.Join(append(parts, text), " ")
}

// Address is what the picture has that an app reads: the secret, whose it is and for which site. Apps agree on its form.
func Address(secret []byte, site, name string) string {
	site = strings.ReplaceAll(site, ":", " ")
	values := url.Values{
		"secret": {letters.EncodeToString(secret)}, "issuer": {site}, "algorithm": {"SHA1"}, "digits": {fmt.Sprint(Digits)},
		"period": {fmt.Sprint(int(Lasts.Seconds()))},
	}
	return "otpauth://totp/" + url.PathEscape(site+":"+name) + "?" + strings.ReplaceAll(values.Encode(), "+", "%20")
}

// How many codes somebody keeps, and of how many random bits each is: nobody finds it from its hash, so a plain one is enough
// (NIST SP 800-63B-4, section 4.2.1.1, wants 64; ASVS 5.0, 6.5.2, 112 where a plain hash is kept).
const (
	Kept     = 10
	keptBits = 120
)

// alphabet has no letters that look like others.
var alphabet = base32.NewEncoding("abcdefghijkmnpqrstuvwxyz23456789").WithPadding(base32.NoPadding)

// NewKept returns codes for somebody to keep, as they are shown once, and their hashes.
func NewKept() (codes, hashes []string) {
	for range Kept {
		raw := make([]byte, keptBits/8)
		rand.Read(raw)
		var parts []string
		for text := alphabet.EncodeToString(raw); text != ""; text = text[4:] {
			parts = append(parts, text[:4])
		}
		code := strings.Join(parts, "-")
		codes, hashes = append(codes, code), append(hashes, HashKept(code))
	}
	return codes, hashes
}

// HashKept returns the hash of a kept code as somebody has typed it: letters of either case, with or without what stands between them.
func HashKept(typed string) string {
	plain := strings.Map(func(r rune) rune {
		if r == '-' || r == ' ' || r == '\u00a0' {
			return -1
		}
		return r
	}, strings.ToLower(typed))
	sum := sha256.Sum256([]byte(plain))
	return hex.EncodeToString(sum[:])
}
