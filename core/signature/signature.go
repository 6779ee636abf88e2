// Package signature signs what programs tell each other over HTTP, and checks such signatures, as the specification Standard
// Webhooks says: HMAC-SHA256 over the number of what is told, a time stamp and the body.
package signature

import (
	"crypto/hmac"
	"crypto/rand"
	"crypto/sha256"
	"encoding/base64"
	"errors"
	"fmt"
	"strconv"
	"strings"
	"time"
)

// The header fields that a signature needs.
const (
	ID        = "webhook-id"
	Timestamp = "webhook-timestamp"
	Signature = "webhook-signature"
)

// Tolerance is how far the time stamp may be from the time at which it is checked.
const Tolerance = 5 * time.Minute

// A Secret is a key that both sides have.
type Secret struct{ key string }

const (
	prefix   = "whsec_"
	version  = "v1"
	keySize  = 32
	shortest = 24 // bytes of a key, as the specification says
	longest  = 64
)

// NewSecret returns a random secret.
func NewSecret() Secret {
	key := make([]byte, keySize)
	rand.Read(key)
	return Secret{string(key)}
}

// ReadSecret reads a secret in its usual form, whsec_ and base64. The error does not say what it is.
func ReadSecret(text string) (Secret, error) {
	key, err := base64.StdEncoding.DecodeString(strings.TrimPrefix(strings.TrimSpace(text), prefix))
	if err != nil {
		return Secret{}, errors.New("the secret is not in base64; it looks like whsec_ and 44 letters and digits")
	}
	if len(key) < shortest || len(key) > longest {
		return Secret{}, fmt.Errorf("the secret has %d bytes; it must have from %d to %d", len(key), shortest, longest)
	}
	return Secret{string(key)}, nil
}

// Text returns the secret in the form in which it is passed on.
func (s Secret) Text() string { return prefix + base64.StdEncoding.EncodeToString([]byte(s.key)) }

// String hides the secret from logs.
func (s Secret) String() string { return "(a secret)" }

// Sign returns the value of the signature field.
func (s Secret) Sign(id string, at time.Time, body []byte) string {
	return version + "," + base64.StdEncoding.EncodeToString(s.sum(id, strconv.FormatInt(at.Unix(), 10), body))
}

func (s Secret) sum(id, at string, body []byte) []byte {
	h := hmac.New(sha256.New, []byte(s.key))
	h.Write([]byte(id + "." + at + "."))
	h.Write(body)
	return h.Sum(nil)
}

// A Head is the three header fields of something that was told.
type Head struct{ ID, Timestamp, Signature string }

// Why something that was told is not believed.
var (
	ErrMissing   = errors.New("a header field of the signature is missing")
	ErrMalformed = errors.New("a header field of the signature cannot be read")
	ErrLate      = errors.New("the time stamp is more than five minutes old")
	ErrEarly     = errors.New("the time stamp is more than five minutes ahead")
	ErrForged    = errors.New("no signature is right")
)

// The longest header fields that are read, and how many signatures one may have.
const (
	longestID         = 200
	longestSignatures = 4096
	mostSignatures    = 20
)

// Check reports whether something was told by who has one of the secrets, and not long ago. All signatures are compared with
// all secrets whatever is found, so that time tells nothing.
func Check(secrets []Secret, h Head, body []byte, now time.Time) error {
	if h.ID == "" || h.Timestamp == "" || h.Signature == "" {
		return ErrMissing
	}
	if len(h.ID) > longestID || len(h.Signature) > longestSignatures ||
		strings.ContainsFunc(h.ID, func(r rune) bool { return r <= ' ' || r > '~' }) {
		return ErrMalformed
	}
	seconds, err := strconv.ParseInt(h.Timestamp, 10, 64)
	if err != nil || strconv.FormatInt(seconds, 10) != h.Timestamp || seconds < 0 || seconds > 1<<40 {
		return ErrMalformed
	}
	right := false
	texts := strings.Fields(h.Signature)
	if len(texts) > mostSignatures {
		return ErrMalformed
	}
	for _, text := range texts {
		kind, value, _ := strings.Cut(text, ",")
		if kind != version { // another way to sign
			continue
		}
		sum, err := base64.StdEncoding.Strict().DecodeString(value)
		if err != nil {
			continue
		}
		for _, s := range secrets {
			if hmac.Equal(sum, s.sum(h.ID, h.Timestamp, body)) {
				right = true
			}
		}
	}
	at := time.Unix(seconds, 0)
	switch {
	case !right:
		return ErrForged
	case now.Sub(at) > Tolerance:
		return ErrLate
	case at.Sub(now) > Tolerance:
		return ErrEarly
	}
	return nil
}
