package session

import (
	"crypto/hmac"
	"crypto/rand"
	"crypto/sha256"
	"encoding/base64"
	"encoding/binary"
	"time"
)

// A Marker makes marks for pages. A page that carries a mark was loaded by the person in front of the browser: the page
// keeps its mark to itself, and another page of the same origin, which has the same cookie, has none. The marks of one
// Marker mean nothing to another.
type Marker struct{ key []byte }

// NewMarker returns a Marker with a key that nobody has.
func NewMarker() *Marker {
	key := make([]byte, sha256.Size)
	rand.Read(key)
	return &Marker{key}
}

// Mark returns a mark for an owner, made at that time. The owner is a text that names whom the mark is for, and what for.
func (m *Marker) Mark(owner string, at time.Time) string {
	text := binary.BigEndian.AppendUint64(nil, uint64(at.UnixMilli()))
	return base64.RawURLEncoding.EncodeToString(append(text, m.seal(text, owner)...))
}

func (m *Marker) seal(text []byte, owner string) []byte {
	h := hmac.New(sha256.New, m.key)
	h.Write(text)
	h.Write([]byte(owner))
	return h.Sum(nil)
}

// Age returns how long before now a mark of an owner was made. It is Unknown for anything that isn't such a mark, and for
// a mark from the future.
func (m *Marker) Age(mark, owner string, now time.Time) time.Duration {
	raw, err := base64.RawURLEncoding.Strict().DecodeString(mark)
	if err != nil || len(raw) != 8+sha256.Size || !hmac.Equal(raw[8:], m.seal(raw[:8], owner)) {
		return Unknown
	}
	made := Session{ProvedAt: time.UnixMilli(int64(binary.BigEndian.Uint64(raw)))}
	return made.ProofAge(now)
}
