// Package identity signs who is calling, so that a server behind can check it, and need not believe whoever reaches it.
package identity

import (
	"crypto/ed25519"
	"crypto/rand"
	"crypto/sha256"
	"encoding/base64"
	"sync"
	"time"

	"github.com/go-jose/go-jose/v4"
	"github.com/go-jose/go-jose/v4/jwt"

	"ostiarius/service/base/guard"
)

// Field is the header field in which a token is handed on.
const Field = "Ostiarius-Identity"

// How long a token counts, a key signs, and a key is given out afterwards.
const (
	Lasts   = time.Minute
	signs   = 24 * time.Hour
	overlap = time.Hour
)

// A Signer signs who is calling: a JSON Web Token (RFC 7519) with EdDSA (RFC 8037). Its keys are in memory alone, so nobody finds them
// on a disk; with each start of the process there are others.
type Signer struct {
	now func() time.Time

	mu   sync.Mutex
	keys []key // the newest first
}

type key struct {
	made    time.Time
	private ed25519.PrivateKey
	id      string
	signer  jose.Signer
}

// New returns a Signer by a clock.
func New(now func() time.Time) *Signer { return &Signer{now: now} }

// Claims are what a token says.
type Claims struct {
	jwt.Claims
	Roles   []string `json:"roles"`   // with those that they include
	Door    string   `json:"door"`    // that decided
	Request string   `json:"request"` // see RequestHash
}

// RequestHash is what a token says of the request that it goes with: the SHA-256 of its method, a space and its target as the server behind
// receives it, in base64url without padding.
func RequestHash(method, target string) string {
	sum := sha256.Sum256([]byte(method + " " + target))
	return base64.RawURLEncoding.EncodeToString(sum[:])
}

// Sign returns a token about a request that was admitted, for an audience: the account as the subject (none for nobody), the address of
// the site as the issuer, and what it goes with.
func (s *Signer) Sign(t *guard.Turn, audience, method, target string) (string, error) {
	now := s.now()
	k, err := s.current(now)
	if err != nil {
		return "", err
	}
	issuer := "http://"
	if t.Secure {
		issuer = "https://"
	}
	c := Claims{
		Claims: jwt.Claims{
			Issuer: issuer + t.Place.Host, Audience: jwt.Audience{audience}, IssuedAt: jwt.NewNumericDate(now),
			Expiry: jwt.NewNumericDate(now.Add(Lasts)),
		},
		Roles: []string{}, Request: RequestHash(method, target),
	}
	if t.Visitor.SignedIn {
		c.Subject, c.Roles = t.Visitor.Account, append(c.Roles, t.Book.RolesOf(&t.Visitor)...)
	}
	if t.Door != nil {
		c.Door = t.Door.Label()
	}
	return jwt.Signed(k.signer).Claims(c).Serialize()
}

// Keys returns the keys by which tokens are checked (RFC 7517): the one that signs, and one that has signed until lately.
func (s *Signer) Keys() (jose.JSONWebKeySet, error) {
	if _, err := s.current(s.now()); err != nil {
		return jose.JSONWebKeySet{}, err
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	set := jose.JSONWebKeySet{}
	for _, k := range s.keys {
		set.Keys = append(set.Keys, jose.JSONWebKey{Key: k.private.Public(), KeyID: k.id, Algorithm: string(jose.EdDSA), Use: "sig"})
	}
	return set, nil
}

// current returns the key that signs, and makes it if there is none or it is too old.
func (s *Signer) current(now time.Time) (*key, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	for len(s.keys) > 0 && now.Sub(s.keys[len(s.keys)-1].made) >= signs+overlap {
		s.keys = s.keys[:len(s.keys)-1]
	}
	if len(s.keys) > 0 && now.Sub(s.keys[0].made) < signs {
		return &s.keys[0], nil
	}
	_, private, err := ed25519.GenerateKey(rand.Reader)
	if err != nil {
		return nil, err
	}
	k := key{made: now, private: private, id: rand.Text()[:12]}
	k.signer, err = jose.NewSigner(jose.SigningKey{Algorithm: jose.EdDSA, Key: jose.JSONWebKey{Key: private, KeyID: k.id}},
		(&jose.SignerOptions{}).WithType("JWT"))
	if err != nil {
		return nil, err
	}
	s.keys = append([]key{k}, s.keys...)
	return &s.keys[0], nil
}
