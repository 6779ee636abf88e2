// Package passkey reads and verifies what an authenticator says: when a passkey is made, and when it is used (Web Authentication
// Level 3). Nothing is taken that the standard does not allow, and of what it leaves open, the narrower reading is taken.
package passkey

import (
	"bytes"
	"crypto"
	"crypto/ecdsa"
	"crypto/ed25519"
	"crypto/elliptic"
	"crypto/rsa"
	"crypto/sha256"
	"crypto/subtle"
	"encoding/base64"
	"encoding/binary"
	"errors"
	"fmt"
	"math/big"
	"slices"

	"github.com/fxamacker/cbor/v2"

	"ostiarius/core/brief"
	"ostiarius/core/exact"
)

// Algorithms are the signatures that are taken, the dearest to us first (IANA COSE Algorithms).
var Algorithms = []int64{es256, eddsa, rs256}

const (
	es256 int64 = -7
	eddsa int64 = -8
	rs256 int64 = -257 // authenticators of older computers have no other
)

// A Ceremony is what an answer of an authenticator has to belong to.
type Ceremony struct {
	Challenge []byte
	Origin    string // of the page, such as https://marram.example
	Party     string // the relying party: the host, or one above it
	Verified  bool   // that its owner was verified, by a PIN or a finger, is asked for
}

// A Credential is a passkey that was made.
type Credential struct {
	ID       []byte
	Key      []byte // a COSE_Key (RFC 9052, section 7)
	Uses     uint32 // the authenticator's own count
	Verified bool
}

// A Use is what the use of a passkey has shown.
type Use struct {
	Uses     uint32
	Verified bool
}

// The flags of authenticator data (section 6.1).
const (
	userPresent  = 1 << 0
	userVerified = 1 << 2
	backupCan    = 1 << 3
	backupIs     = 1 << 4
	hasAttested  = 1 << 6
	hasMore      = 1 << 7
)

// Errors that people can do something about. Whatever else is wrong is not for them.
var (
	ErrOrigin     = errors.New("the passkey was used for another site")
	ErrChallenge  = errors.New("the answer belongs to another question")
	ErrUnverified = errors.New("the authenticator has not verified who uses it")
	ErrSignature  = errors.New("the signature is not of this passkey")
)

// Register verifies that a passkey was made (section 7.1). Attestation was not asked for, so there is none, or one by the passkey itself.
func Register(clientData, attestation []byte, c Ceremony) (Credential, error) {
	if err := c.client(clientData, "webauthn.create"); err != nil {
		return Credential{}, err
	}
	var object struct {
		Format    string          `cbor:"fmt"`
		Statement cbor.RawMessage `cbor:"attStmt"`
		Data      []byte          `cbor:"authData"`
	}
	if err := strictly.Unmarshal(attestation, &object); err != nil {
		return Credential{}, fmt.Errorf("the attestation cannot be read: %w", err)
	}
	data, err := readData(object.Data)
	if err != nil {
		return Credential{}, err
	}
	if err := c.data(&data); err != nil {
		return Credential{}, err
	}
	if data.id == nil {
		return Credential{}, errors.New("the authenticator has sent no passkey")
	}
	key, err := readKey(data.key)
	if err != nil {
		return Credential{}, err
	}
	switch object.Format {
	case "none":
		if !bytes.Equal(object.Statement, []byte{0xa0}) {
			return Credential{}, errors.New("an attestation that is none has a statement")
		}
	case "packed":
		if err := ownAttestation(object.Statement, key, object.Data, clientData); err != nil {
			return Credential{}, err
		}
	default:
		return Credential{}, fmt.Errorf("the authenticator attests by %q, which was not asked for", object.Format)
	}
	return Credential{ID: data.id, Key: data.key, Uses: data.uses, Verified: data.flags&userVerified != 0}, nil
}

// ownAttestation verifies an attestation that the passkey has made itself (section 8.2).
func ownAttestation(statement []byte, k key, data, clientData []byte) error {
	var s struct {
		Algorithm int64             `cbor:"alg"`
		Signature []byte            `cbor:"sig"`
		Chain     []cbor.RawMessage `cbor:"x5c"`
	}
	if err := strictly.Unmarshal(statement, &s); err != nil {
		return fmt.Errorf("the attestation cannot be read: %w", err)
	}
	if s.Chain != nil || s.Algorithm != k.algorithm {
		return errors.New("the authenticator attests by somebody else, which was not asked for")
	}
	return k.verify(signed(data, clientData), s.Signature)
}

// Assert verifies that a passkey was used, of which the key is kept (section 7.2).
func Assert(clientData, authenticatorData, signature, cosekey []byte, c Ceremony) (Use, error) {
	if err := c.client(clientData, "webauthn.get"); err != nil {
		return Use{}, err
	}
	data, err := readData(authenticatorData)
	if err != nil {
		return Use{}, err
	}
	if err := c.data(&data); err != nil {
		return Use{}, err
	}
	k, err := readKey(cosekey)
	if err != nil {
		return Use{}, err
	}
	if err := k.verify(signed(authenticatorData, clientData), signature); err != nil {
		return Use{}, err
	}
	return Use{data.uses, data.flags&userVerified != 0}, nil
}

// Copied reports whether a count tells of a copy of the passkey: it has to grow, if the authenticator counts at all (section 7.2, step 22).
func Copied(before, uses uint32) bool { return (before != 0 || uses != 0) && uses <= before }

func signed(data, clientData []byte) []byte {
	sum := sha256.Sum256(clientData)
	return append(bytes.Clone(data), sum[:]...)
}

// client verifies what the browser says (section 5.8.1).
func (c *Ceremony) client(text []byte, what string) error {
	var said struct {
		Type        string `json:"type"`
		Challenge   string `json:"challenge"`
		Origin      string `json:"origin"`
		CrossOrigin bool   `json:"crossOrigin"`
		TopOrigin   string `json:"topOrigin"`
	}
	if err := exact.Unmarshal(text, &said); err != nil {
		return fmt.Errorf("what the browser says cannot be read: %w", err)
	}
	challenge, err := base64.RawURLEncoding.Strict().DecodeString(said.Challenge)
	switch {
	case said.Type != what:
		return fmt.Errorf("this is %q, and not %q", brief.Cut(said.Type, 40), what)
	case err != nil || subtle.ConstantTimeCompare(challenge, c.Challenge) != 1:
		return ErrChallenge
	case said.Origin != c.Origin || said.CrossOrigin || said.TopOrigin != "":
		return ErrOrigin
	}
	return nil
}

// data verifies what the authenticator says.
func (c *Ceremony) data(d *data) error {
	party := sha256.Sum256([]byte(c.Party))
	switch {
	case subtle.ConstantTimeCompare(d.party, party[:]) != 1:
		return ErrOrigin
	case d.flags&userPresent == 0:
		return errors.New("the authenticator says that nobody was there")
	case c.Verified && d.flags&userVerified == 0:
		return ErrUnverified
	case d.flags&backupIs != 0 && d.flags&backupCan == 0:
		return errors.New("the authenticator contradicts itself")
	}
	return nil
}

// data is authenticator data (section 6.1).
type data struct {
	party []byte
	flags byte
	uses  uint32
	id    []byte // nil if there is no passkey in it
	key   []byte
}

// The longest number of a passkey (section 5.8.3).
const longestID = 1023

// readData reads authenticator data, to its last byte.
func readData(raw []byte) (d data, err error) {
	short := errors.New("the authenticator data is too short")
	if len(raw) < 37 {
		return d, short
	}
	d.party, d.flags, d.uses = raw[:32], raw[32], binary.BigEndian.Uint32(raw[33:37])
	rest := raw[37:]
	if d.flags&hasAttested != 0 {
		if len(rest) < 18 {
			return d, short
		}
		n := int(binary.BigEndian.Uint16(rest[16:18]))
		if rest = rest[18:]; len(rest) < n {
			return d, short
		}
		if n == 0 || n > longestID {
			return d, errors.New("the number of the passkey is of no length that is allowed")
		}
		d.id, rest = rest[:n], rest[n:]
		after, err := one(rest)
		if err != nil {
			return d, fmt.Errorf("the key cannot be read: %w", err)
		}
		d.key, rest = rest[:len(rest)-len(after)], after
	}
	if d.flags&hasMore != 0 {
		if rest, err = one(rest); err != nil {
			return d, fmt.Errorf("the extensions cannot be read: %w", err)
		}
	}
	if len(rest) > 0 {
		return d, errors.New("the authenticator data is too long")
	}
	return d, nil
}

// strictly reads CBOR as the standard has it: in the form of CTAP2, no key twice, nothing of unknown length.
var strictly = func() cbor.DecMode {
	mode, err := cbor.DecOptions{
		DupMapKey: cbor.DupMapKeyEnforcedAPF, IndefLength: cbor.IndefLengthForbidden, TagsMd: cbor.TagsForbidden, MaxNestedLevels: 8,
		MaxArrayElements: 64, MaxMapPairs: 64,
	}.DecMode()
	if err != nil {
		panic(err)
	}
	return mode
}()

// one reads one map, and returns what stands behind it.
func one(raw []byte) (rest []byte, err error) {
	var m map[any]cbor.RawMessage
	return strictly.UnmarshalFirst(raw, &m)
}

// A key is the public key of a passkey.
type key struct {
	algorithm int64
	public    crypto.PublicKey
}

// readKey reads a COSE_Key of one of the Algorithms (RFC 9053, section 7; RFC 8230, section 4). The package for COSE that there is
// fell over keys that a stranger can send, so the three forms that are taken are read here, with the one for CBOR.
func readKey(raw []byte) (k key, err error) {
	var fields map[int64]cbor.RawMessage
	if err := strictly.Unmarshal(raw, &fields); err != nil {
		return k, fmt.Errorf("the key cannot be read: %w", err)
	}
	number := func(label int64) (n int64) {
		if strictly.Unmarshal(fields[label], &n) != nil {
			return 0 // which nothing is
		}
		return n
	}
	octets := func(label int64) (b []byte) {
		// a string of bytes, and nothing that can be made one
		if len(fields[label]) == 0 || fields[label][0]>>5 != 2 || strictly.Unmarshal(fields[label], &b) != nil {
			return nil
		}
		return b
	}
	k.algorithm = number(3)
	switch kind, x, y := number(1), octets(-2), octets(-3); {
	case k.algorithm == es256 && kind == 2 && number(-1) == 1 && len(x) == 32 && len(y) == 32:
		k.public, err = ecdsa.ParseUncompressedPublicKey(elliptic.P256(), slices.Concat([]byte{4}, x, y))
		return k, err
	case k.algorithm == eddsa && kind == 1 && number(-1) == 6 && len(x) == ed25519.PublicKeySize:
		k.public = ed25519.PublicKey(x)
		return k, nil
	case k.algorithm == rs256 && kind == 3:
		n, e := octets(-1), new(big.Int).SetBytes(x)
		if len(n) >= 256 && len(n) <= 1024 && n[0] != 0 && len(x) <= 4 && e.Int64() >= 3 && e.Bit(0) == 1 {
			k.public = &rsa.PublicKey{N: new(big.Int).SetBytes(n), E: int(e.Int64())}
			return k, nil
		}
	}
	return k, errors.New("the key is of no kind that was asked for")
}

func (k key) verify(message, signature []byte) error {
	sum := sha256.Sum256(message)
	ok := false
	switch public := k.public.(type) {
	case *ecdsa.PublicKey:
		ok = ecdsa.VerifyASN1(public, sum[:], signature)
	case ed25519.PublicKey:
		ok = ed25519.Verify(public, message, signature)
	case *rsa.PublicKey:
		ok = rsa.VerifyPKCS1v15(public, crypto.SHA256, sum[:], signature) == nil
	}
	if !ok {
		return ErrSignature
	}
	return nil
}

// ChallengeOf returns the challenge that an answer says it is for, to find out which that was; nothing is verified by that.
func ChallengeOf(clientData []byte) ([]byte, error) {
	var said struct {
		Challenge string `json:"challenge"`
	}
	if err := exact.Unmarshal(clientData, &said); err != nil {
		return nil, fmt.Errorf("what the browser says cannot be read: %w", err)
	}
	return base64.RawURLEncoding.Strict().DecodeString(said.Challenge)
}
