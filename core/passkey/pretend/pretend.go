// Package pretend is an authenticator in software, for tests: it makes passkeys and uses them as the standard says, and can be told
// to do so wrongly.
package pretend

import (
	"crypto/ecdsa"
	"crypto/ed25519"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/rsa"
	"crypto/sha256"
	"encoding/base64"
	"encoding/binary"
	"encoding/json"
	"fmt"

	"crypto"

	"github.com/fxamacker/cbor/v2"
)

// A Key is a passkey. Its fields can be changed between two uses, to see what becomes of that.
type Key struct {
	ID       []byte
	Handle   []byte // of its owner
	Uses     uint32 // so far; 0 does not count
	Party    string // whom it is for
	Origin   string // that the browser tells
	Flags    byte   // beside that of the passkey in it; present and verified
	Format   string // of the attestation; "none" or "packed"
	TopLevel string // where the page is in a frame of another
	Type     string // what the browser says that it does; "" for what it does

	algorithm int64
	signer    crypto.Signer
}

// The flags that a Key sets by itself.
const (
	Present  = 1 << 0
	Verified = 1 << 2
)

// New returns a passkey with a signature of an algorithm (-7, -8 or -257), of whoever is at a page with that origin.
func New(algorithm int64, origin, party string) *Key {
	k := &Key{ID: make([]byte, 32), Party: party, Origin: origin, Flags: Present | Verified, Format: "none", algorithm: algorithm}
	rand.Read(k.ID)
	var err error
	switch algorithm {
	case -7:
		k.signer, err = ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	case -8:
		_, k.signer, err = ed25519.GenerateKey(rand.Reader)
	case -257:
		k.signer, err = rsa.GenerateKey(rand.Reader, 2048)
	default:
		err = fmt.Errorf("there is no algorithm %d here", algorithm)
	}
	if err != nil {
		panic(err)
	}
	return k
}

// COSE returns its public key (RFC 9052, section 7).
func (k *Key) COSE() []byte {
	m := map[int]any{3: k.algorithm}
	switch public := k.signer.Public().(type) {
	case *ecdsa.PublicKey:
		point, err := public.Bytes()
		if err != nil {
			panic(err)
		}
		m[1], m[-1], m[-2], m[-3] = 2, 1, point[1:33], point[33:]
	case ed25519.PublicKey:
		m[1], m[-1], m[-2] = 1, 6, []byte(public)
	case *rsa.PublicKey:
		m[1], m[-1], m[-2] = 3, public.N.Bytes(), []byte{1, 0, 1}
	}
	return encode(m)
}

func encode(v any) []byte {
	mode, err := cbor.CTAP2EncOptions().EncMode()
	if err != nil {
		panic(err)
	}
	raw, err := mode.Marshal(v)
	if err != nil {
		panic(err)
	}
	return raw
}

// Data returns authenticator data, with the passkey in it if it is new.
func (k *Key) Data(isNew bool) []byte {
	party := sha256.Sum256([]byte(k.Party))
	flags := k.Flags
	if isNew {
		flags |= 1 << 6
	}
	raw := binary.BigEndian.AppendUint32(append(party[:], flags), k.Uses)
	if isNew {
		raw = append(raw, make([]byte, 16)...)
		raw = binary.BigEndian.AppendUint16(raw, uint16(len(k.ID)))
		raw = append(append(raw, k.ID...), k.COSE()...)
	}
	return raw
}

// Client returns what the browser says.
func (k *Key) Client(what string, challenge []byte) []byte {
	if k.Type != "" {
		what = k.Type
	}
	said := map[string]any{
		"type": what, "challenge": base64.RawURLEncoding.EncodeToString(challenge), "origin": k.Origin, "crossOrigin": k.TopLevel != "",
	}
	if k.TopLevel != "" {
		said["topOrigin"] = k.TopLevel
	}
	raw, err := json.Marshal(said)
	if err != nil {
		panic(err)
	}
	return raw
}

// Sign signs authenticator data and what the browser says.
func (k *Key) Sign(data, client []byte) []byte {
	sum := sha256.Sum256(client)
	message := append(append([]byte{}, data...), sum[:]...)
	digest := sha256.Sum256(message)
	hashed, options := digest[:], crypto.SignerOpts(crypto.SHA256)
	if k.algorithm == -8 {
		hashed, options = message, crypto.Hash(0)
	}
	signature, err := k.signer.Sign(rand.Reader, hashed, options)
	if err != nil {
		panic(err)
	}
	return signature
}

// Attestation returns what comes with a new passkey.
func (k *Key) Attestation(client []byte) []byte {
	data, statement := k.Data(true), map[string]any{}
	if k.Format == "packed" {
		statement = map[string]any{"alg": k.algorithm, "sig": k.Sign(data, client)}
	}
	return encode(map[string]any{"fmt": k.Format, "attStmt": statement, "authData": data})
}

// Make answers the question for a new passkey, which is JSON as the page has it.
func (k *Key) Make(question string) string {
	challenge := k.read(question)
	client := k.Client("webauthn.create", challenge)
	return k.answer(map[string][]byte{"clientDataJSON": client, "attestationObject": k.Attestation(client)})
}

// Use answers the question for a passkey.
func (k *Key) Use(question string) string {
	challenge := k.read(question)
	if k.Uses > 0 {
		k.Uses++
	}
	client, data := k.Client("webauthn.get", challenge), k.Data(false)
	return k.answer(map[string][]byte{
		"clientDataJSON": client, "authenticatorData": data, "signature": k.Sign(data, client), "userHandle": k.Handle,
	})
}

func (k *Key) read(question string) []byte {
	var q struct {
		Challenge string `json:"challenge"`
		User      struct {
			ID string `json:"id"`
		} `json:"user"`
	}
	if err := json.Unmarshal([]byte(question), &q); err != nil {
		panic(err)
	}
	if q.User.ID != "" {
		k.Handle, _ = base64.RawURLEncoding.DecodeString(q.User.ID)
	}
	challenge, err := base64.RawURLEncoding.DecodeString(q.Challenge)
	if err != nil {
		panic(err)
	}
	return challenge
}

func (k *Key) answer(response map[string][]byte) string {
	texts := map[string]string{}
	for name, raw := range response {
		if raw != nil {
			texts[name] = base64.RawURLEncoding.EncodeToString(raw)
		}
	}
	text, err := json.Marshal(map[string]any{"id": base64.RawURLEncoding.EncodeToString(k.ID), "type": "public-key", "response": texts})
	if err != nil {
		panic(err)
	}
	return string(text)
}
