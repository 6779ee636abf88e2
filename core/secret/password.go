// Package secret knows how secrets are made, kept and compared: password hashes, tokens
// and generated passwords.
package secret

import (
	"crypto/rand"
	"crypto/subtle"
	"encoding/base64"
	"fmt"
	"math/big"
	"strings"

	"golang.org/x/crypto/argon2"
	"golang.org/x/text/unicode/norm"
)

// Cost is what one password hash costs to compute (RFC 9106).
type Cost struct {
	Memory  uint32 // KiB
	Passes  uint32
	Threads uint8
}

// DefaultCost is the first choice of the OWASP Password Storage Cheat Sheet for
// argon2id: 19 MiB, two passes, one thread.
var DefaultCost = Cost{Memory: 19 * 1024, Passes: 2, Threads: 1}

const saltSize, hashSize = 16, 32

// Hash returns the argon2id hash of a password in the PHC string format, with a new
// salt. The password is normalised (NFC), so that it does not matter on which keyboard
// an accent was typed (NIST SP 800-63B-4, 3.1.1.2).
func Hash(password string, cost Cost) string {
	salt := make([]byte, saltSize)
	rand.Read(salt)
	key := argon2.IDKey([]byte(norm.NFC.String(password)), salt, cost.Passes, cost.Memory, cost.Threads, hashSize)
	return fmt.Sprintf("$argon2id$v=%d$m=%d,t=%d,p=%d$%s$%s", argon2.Version, cost.Memory, cost.Passes, cost.Threads,
		base64.RawStdEncoding.EncodeToString(salt), base64.RawStdEncoding.EncodeToString(key))
}

// Bound is the most that a hash may ask for that is brought from elsewhere: about a second of a
// processor. A file could otherwise stop the service with each try at one name.
var Bound = Cost{Memory: 256 * 1024, Passes: 10, Threads: 4}

// most is the most that any hash may ask for, also one that was made here.
var most = Cost{Memory: 1024 * 1024, Passes: 20, Threads: 16}

// A kept is a hash in its parts.
type kept struct {
	cost      Cost
	salt, key []byte
}

// read reads a hash in the PHC string format.
func read(hash string) (k kept, ok bool) {
	var version int
	fields := strings.Split(hash, "$")
	if len(fields) != 6 || fields[0] != "" || fields[1] != "argon2id" {
		return k, false
	}
	if _, err := fmt.Sscanf(fields[2]+" "+fields[3], "v=%d m=%d,t=%d,p=%d", &version, &k.cost.Memory, &k.cost.Passes,
		&k.cost.Threads); err != nil {
		return k, false
	}
	var err, err2 error
	k.salt, err = base64.RawStdEncoding.DecodeString(fields[4])
	k.key, err2 = base64.RawStdEncoding.DecodeString(fields[5])
	return k, err == nil && err2 == nil && version == argon2.Version && len(k.key) >= 16 && len(k.key) <= 64 && k.cost.Passes >= 1 &&
		k.cost.Threads >= 1
}

func (c Cost) within(bound Cost) bool {
	return c.Memory <= bound.Memory && c.Passes <= bound.Passes && c.Threads <= bound.Threads
}

// CheckKept says what is wrong with a hash that is brought from elsewhere, if it may ask for what
// Bound says, or what ours cost if that is more.
func CheckKept(hash string, ours Cost) error {
	k, ok := read(hash)
	bound := Cost{max(Bound.Memory, ours.Memory), max(Bound.Passes, ours.Passes), max(Bound.Threads, ours.Threads)}
	work := uint64(Bound.Memory) * 4 // KiB that are gone over: the most memory four times, or less more often
	switch {
	case !ok:
		return fmt.Errorf("the hash of the password is none of argon2id ($argon2id$v=19$...)")
	case !k.cost.within(bound) || uint64(k.cost.Memory)*uint64(k.cost.Passes) > max(work, uint64(ours.Memory)*uint64(ours.Passes)):
		return fmt.Errorf("the hash of the password asks for %d MiB and %d passes; at most %d MiB, %d passes and 1 GiB in all are taken",
			k.cost.Memory>>10, k.cost.Passes, bound.Memory>>10, bound.Passes)
	}
	return nil
}

// Verify reports whether the password is the one that was hashed. The time it takes does
// not depend on the password. A hash that cannot be read, or asks for too much, matches nothing.
func Verify(hash, password string) bool {
	k, ok := read(hash)
	if !ok || !k.cost.within(most) || len(password) > MaxPassword {
		return false
	}
	got := argon2.IDKey([]byte(norm.NFC.String(password)), k.salt, k.cost.Passes, k.cost.Memory, k.cost.Threads, uint32(len(k.key)))
	return subtle.ConstantTimeCompare(got, k.key) == 1
}

// Rises reports whether a hash cost less to compute than cost says, so that it should be
// replaced when the password is next seen. So should one that cannot be read.
func Rises(hash string, cost Cost) bool {
	k, ok := read(hash)
	return !ok || k.cost.Memory < cost.Memory || k.cost.Passes < cost.Passes
}

// Asks returns the kind of a hash and what it asks for, and false if it is none of argon2id.
func Asks(hash string) (kind string, asks Cost, ok bool) {
	k, ok := read(hash)
	return "argon2id", k.cost, ok
}

// The characters of generated passwords: those that look plain in no print, and all that every keyboard has and
// no form or command line changes the meaning of.
const (
	readable  = "abcdefghijkmnpqrstuvwxyzACDEFGHJKLMNPQRTUVWXY34679"
	printable = "abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789!#%*+-.:=?@_"
)

// Generate returns a random password of four groups of five characters, about 112 bits.
func Generate() string { return GenerateCharacters(20, true) }

// The fewest and the most characters of a generated password.
const LeastGenerated, MostGenerated = 10, 64

// GenerateCharacters returns a random password of so many characters: of those that cannot be mistaken for each
// other, in groups of five, about 5.6 bits each; or of more, about 6.2 bits each.
func GenerateCharacters(length int, plain bool) string {
	from := printable
	if plain {
		from = readable
	}
	var b strings.Builder
	for i := range length {
		if plain && i > 0 && i%5 == 0 {
			b.WriteByte('-')
		}
		n, err := rand.Int(rand.Reader, big.NewInt(int64(len(from))))
		if err != nil {
			panic(err) // crypto/rand does not fail; if it does, nothing is safe
		}
		b.WriteByte(from[n.Int64()])
	}
	return b.String()
}

// MaxPassword is the longest password, in bytes, that is read.
const MaxPassword = 1000
