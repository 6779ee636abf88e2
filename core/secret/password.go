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

// Verify reports whether the password is the one that was hashed. The time it takes does
// not depend on the password. A hash that cannot be read matches nothing.
func Verify(hash, password string) bool {
	var version int
	var cost Cost
	fields := strings.Split(hash, "$")
	if len(fields) != 6 || fields[0] != "" || fields[1] != "argon2id" {
		return false
	}
	if _, err := fmt.Sscanf(fields[2]+" "+fields[3], "v=%d m=%d,t=%d,p=%d", &version, &cost.Memory, &cost.Passes, &cost.Threads); err != nil {
		return false
	}
	salt, err := base64.RawStdEncoding.DecodeString(fields[4])
	key, err2 := base64.RawStdEncoding.DecodeString(fields[5])
	if err != nil || err2 != nil || version != argon2.Version || len(key) < 16 || len(key) > 64 ||
		cost.Passes < 1 || cost.Passes > 100 || cost.Threads < 1 || cost.Memory > 4<<20 {
		return false
	}
	got := argon2.IDKey([]byte(norm.NFC.String(password)), salt, cost.Passes, cost.Memory, cost.Threads, uint32(len(key)))
	return subtle.ConstantTimeCompare(got, key) == 1
}

// Rises reports whether a hash cost less to compute than cost says, so that it should be
// replaced when the password is next seen. So should one that cannot be read.
func Rises(hash string, cost Cost) bool {
	var version int
	var was Cost
	fields := strings.Split(hash, "$")
	if len(fields) != 6 || fields[1] != "argon2id" {
		return true
	}
	if _, err := fmt.Sscanf(fields[2]+" "+fields[3], "v=%d m=%d,t=%d,p=%d", &version, &was.Memory, &was.Passes, &was.Threads); err != nil {
		return true
	}
	return was.Memory < cost.Memory || was.Passes < cost.Passes
}

// The characters of generated passwords: none that look alike in print.
const readable = "abcdefghijkmnpqrstuvwxyzACDEFGHJKLMNPQRTUVWXY34679"

// Generate returns a random password of four groups of five characters, about 112 bits.
func Generate() string {
	var b strings.Builder
	for i := range 20 {
		if i > 0 && i%5 == 0 {
			b.WriteByte('-')
		}
		n, err := rand.Int(rand.Reader, big.NewInt(int64(len(readable))))
		if err != nil {
			panic(err) // crypto/rand does not fail; if it does, nothing is safe
		}
		b.WriteByte(readable[n.Int64()])
	}
	return b.String()
}

// MaxPassword is the longest password, in bytes, that is read.
const MaxPassword = 1000
