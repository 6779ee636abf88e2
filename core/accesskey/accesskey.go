// Package accesskey has the tokens by which programs come as an account (RFC 6750), and their rules.
package accesskey

import (
	"crypto/rand"
	"crypto/sha256"
	"encoding/base32"
	"encoding/binary"
	"encoding/hex"
	"hash/crc32"
	"net/netip"
	"slices"
	"strings"
	"time"

	"ostiarius/core/secret"
)

// Prefix is what each token begins with, so that programs which look for secrets in what is published find it.
const Prefix = "ostiarius_key_"

// Pattern is the regular expression of a token, for such programs.
const Pattern = Prefix + "[a-z2-7]{59}"

// size is the random bytes of a token.
const size = 32

var letters = base32.NewEncoding("abcdefghijklmnopqrstuvwxyz234567").WithPadding(base32.NoPadding)

// New returns a token, and its hash.
func New() (string, secret.TokenHash) {
	raw := make([]byte, size, size+4)
	rand.Read(raw)
	return write(raw), sha256.Sum256(raw)
}

// write writes a token: its bytes and behind them their checksum, each in letters of its own.
func write(raw []byte) string {
	var sum [4]byte
	binary.BigEndian.PutUint32(sum[:], crc32.ChecksumIEEE(raw))
	return Prefix + letters.EncodeToString(raw) + letters.EncodeToString(sum[:])
}

// Hash returns the hash of a token as somebody brings it, and false for what is none: by its checksum a mistyped one, or another program's,
// is known as that without asking anybody.
func Hash(token string) (h secret.TokenHash, ok bool) {
	text, ok := strings.CutPrefix(token, Prefix)
	if !ok || len(text) != letters.EncodedLen(size)+letters.EncodedLen(4) {
		return h, false
	}
	raw, err := letters.DecodeString(text[:letters.EncodedLen(size)])
	if err != nil || write(raw) != token { // also what is written otherwise and would read the same
		return h, false
	}
	return sha256.Sum256(raw), true
}

// scheme is that of RFC 6750, section 2.1; its letters may be of either case (RFC 9110, section 11.1).
const scheme = "bearer "

// In returns the token in the Authorization fields of a request, and whether they are meant for us at all: the tokens of other
// programs, such as what is behind, are theirs. One token beside other fields is ours, and none.
func In(fields []string) (token string, ours bool) {
	for _, field := range fields {
		if len(field) > len(scheme) && strings.EqualFold(field[:len(scheme)], scheme) {
			if text := strings.TrimLeft(field[len(scheme):], " "); strings.HasPrefix(text, Prefix) {
				token, ours = text, true
			}
		}
	}
	if len(fields) > 1 {
		token = ""
	}
	return token, ours
}

// A Key is what is kept of a token.
type Key struct {
	Hash     secret.TokenHash
	Account  int64
	Name     string
	Roles    []string       // that it carries; nil for all that the account has
	Networks []netip.Prefix // from which it counts; nil for all
	MadeAt   time.Time
	MadeBy   string
	Until    time.Time // zero for no end
	UsedAt   time.Time // roughly; zero for never
	UsedFrom string
}

// Handle names a key without giving it away.
func (k *Key) Handle() string { return hex.EncodeToString(k.Hash[:10]) }

// Counts reports whether the key counts at a time, brought from an address.
func (k *Key) Counts(now time.Time, from netip.Addr) bool {
	if !k.Until.IsZero() && !now.Before(k.Until) || k.MadeAt.After(now.Add(time.Minute)) {
		return false
	}
	return k.Networks == nil || slices.ContainsFunc(k.Networks, func(n netip.Prefix) bool { return n.Contains(from) })
}

// Carries returns the roles that come with the key: of those that it is to carry the ones that the account has now, as satisfies
// says of a role that is granted and one that is asked for; none that brings one of the roles which keys never carry.
func (k *Key) Carries(has, never []string, satisfies func(granted, asked string) bool) (roles []string) {
	roles = slices.Clone(has)
	if k.Roles != nil {
		roles = slices.DeleteFunc(slices.Clone(k.Roles), func(role string) bool {
			return !slices.ContainsFunc(has, func(granted string) bool { return satisfies(granted, role) })
		})
	}
	return slices.DeleteFunc(roles, func(role string) bool {
		return slices.ContainsFunc(never, func(forbidden string) bool { return satisfies(role, forbidden) })
	})
}
