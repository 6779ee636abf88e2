package secret

import (
	"crypto/rand"
	"crypto/sha256"
	"crypto/subtle"
	"encoding/base64"
)

// A TokenHash is what the store keeps of a token. Tokens are random, so a plain hash is
// enough: there is nothing to guess.
type TokenHash [sha256.Size]byte

// NewToken returns an opaque token of 256 random bits, as text for a cookie, and its
// hash.
func NewToken() (string, TokenHash) {
	var raw [32]byte
	rand.Read(raw[:])
	return base64.RawURLEncoding.EncodeToString(raw[:]), sha256.Sum256(raw[:])
}

// HashToken returns the hash of a token that somebody brings, and false if the text is
// no token at all.
func HashToken(text string) (TokenHash, bool) {
	if len(text) != 43 {
		return TokenHash{}, false
	}
	var raw [33]byte
	n, err := base64.RawURLEncoding.Strict().Decode(raw[:], []byte(text))
	if err != nil || n != 32 {
		return TokenHash{}, false
	}
	return sha256.Sum256(raw[:32]), true
}

// Equal reports whether two secrets are the same. The time it takes depends on how long they are alone.
func Equal(a, b string) bool {
	if len(a) != len(b) {
		return false
	}
	var differ byte
	for i := range len(a) {
		differ |= a[i] ^ b[i]
	}
	return subtle.ConstantTimeByteEq(differ, 0) == 1
}
