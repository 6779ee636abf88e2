package api

import (
	"crypto/hmac"
	"crypto/rand"
	"crypto/sha256"
	"encoding/base64"
	"encoding/binary"
	"time"

	"ostiarius/core/session"
)

// A Marker makes marks by which a page of the console shows that the password was typed for it, and
// when. The page keeps its mark to itself; another page of the same origin, which has the same cookie,
// has none. The marks of one Marker are nothing to another.
type Marker struct{ key []byte }

// NewMarker returns a Marker with a key that nobody has.
func NewMarker() *Marker {
	key := make([]byte, sha256.Size)
	rand.Read(key)
	return &Marker{key}
}

// Mark returns a mark for an account whose password was typed at that time.
func (m *Marker) Mark(account string, at time.Time) string {
	text := binary.BigEndian.AppendUint64(nil, uint64(at.UnixMilli()))
	return base64.RawURLEncoding.EncodeToString(append(text, m.seal(text, account)...))
}

func (m *Marker) seal(text []byte, account string) []byte {
	h := hmac.New(sha256.New, m.key)
	h.Write(text)
	h.Write([]byte(account))
	return h.Sum(nil)
}

// Age returns how long before now the password was typed that a mark of an account shows;
// session.Unknown for what is none of its marks, and for one from a time to come.
func (m *Marker) Age(mark, account string, now time.Time) time.Duration {
	raw, err := base64.RawURLEncoding.Strict().DecodeString(mark)
	if err != nil || len(raw) != 8+sha256.Size || !hmac.Equal(raw[8:], m.seal(raw[:8], account)) {
		return session.Unknown
	}
	typed := session.Session{ProvedAt: time.UnixMilli(int64(binary.BigEndian.Uint64(raw)))}
	return typed.ProofAge(now)
}
