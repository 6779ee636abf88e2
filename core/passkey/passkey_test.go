package passkey_test

import (
	"crypto/rand"
	"errors"
	"strings"
	"testing"

	"ostiarius/core/passkey"
	"ostiarius/core/passkey/pretend"
)

const origin, party = "https://marram.example", "marram.example"

func ceremony() passkey.Ceremony {
	challenge := make([]byte, 32)
	rand.Read(challenge)
	return passkey.Ceremony{Challenge: challenge, Origin: origin, Party: party, Verified: true}
}

func TestRoundOfEachAlgorithm(t *testing.T) {
	for _, algorithm := range passkey.Algorithms {
		for _, format := range []string{"none", "packed"} {
			k := pretend.New(algorithm, origin, party)
			k.Format = format
			made := ceremony()
			client := k.Client("webauthn.create", made.Challenge)
			credential, err := passkey.Register(client, k.Attestation(client), made)
			if err != nil || string(credential.ID) != string(k.ID) || !credential.Verified {
				t.Fatalf("%d %s: %+v %v", algorithm, format, credential, err)
			}
			used := ceremony()
			k.Uses = 7
			client, data := k.Client("webauthn.get", used.Challenge), k.Data(false)
			use, err := passkey.Assert(client, data, k.Sign(data, client), credential.Key, used)
			if err != nil || use.Uses != 7 || !use.Verified {
				t.Errorf("%d: %+v %v", algorithm, use, err)
			}
			other := pretend.New(algorithm, origin, party)
			if _, err := passkey.Assert(client, data, other.Sign(data, client), credential.Key, used); !errors.Is(err, passkey.ErrSignature) {
				t.Errorf("%d: the signature of another passkey: %v", algorithm, err)
			}
		}
	}
}

// Whatever is wrong with an answer, it is refused, when a passkey is made and when it is used.
func TestWhatIsRefused(t *testing.T) {
	for name, test := range map[string]struct {
		change func(k *pretend.Key, c *passkey.Ceremony)
		want   string
	}{
		"right": {func(*pretend.Key, *passkey.Ceremony) {}, ""},
		"another site": {func(k *pretend.Key, _ *passkey.Ceremony) { k.Origin = "https://marram.example.evil.example" },
			"another site"},
		"plain http":    {func(k *pretend.Key, _ *passkey.Ceremony) { k.Origin = "http://marram.example" }, "another site"},
		"another port":  {func(k *pretend.Key, _ *passkey.Ceremony) { k.Origin = origin + ":8443" }, "another site"},
		"another party": {func(k *pretend.Key, _ *passkey.Ceremony) { k.Party = "example" }, "another site"},
		"in a frame":    {func(k *pretend.Key, _ *passkey.Ceremony) { k.TopLevel = "https://evil.example" }, "another site"},
		"another challenge": {func(_ *pretend.Key,
			c *passkey.Ceremony) {
			c.Challenge = []byte("another one, of as many bytes.")
		}, "another question"},
		"no challenge":                   {func(_ *pretend.Key, c *passkey.Ceremony) { c.Challenge = nil }, "another question"},
		"another ceremony":               {func(k *pretend.Key, _ *passkey.Ceremony) { k.Type = "payment.get" }, "payment.get"},
		"nobody there":                   {func(k *pretend.Key, _ *passkey.Ceremony) { k.Flags = pretend.Verified }, "nobody was there"},
		"not verified":                   {func(k *pretend.Key, _ *passkey.Ceremony) { k.Flags = pretend.Present }, "not verified"},
		"backed up, though it cannot be": {func(k *pretend.Key, _ *passkey.Ceremony) { k.Flags |= 1 << 4 }, "contradicts"},
		"extensions that are not there":  {func(k *pretend.Key, _ *passkey.Ceremony) { k.Flags |= 1 << 7 }, "extensions"},
	} {
		k := pretend.New(-7, origin, party)
		c := ceremony()
		asked := c.Challenge
		test.change(k, &c)
		refused := func(what string, err error) {
			if (err == nil) != (test.want == "") || err != nil && !strings.Contains(err.Error(), test.want) {
				t.Errorf("%s, %s: %v", name, what, err)
			}
		}
		client := k.Client("webauthn.create", asked)
		_, err := passkey.Register(client, k.Attestation(client), c)
		refused("made", err)
		client = k.Client("webauthn.get", asked)
		data := k.Data(false)
		_, err = passkey.Assert(client, data, k.Sign(data, client), k.COSE(), c)
		refused("used", err)
	}
	k, c := pretend.New(-8, origin, party), ceremony()
	client := k.Client("webauthn.create", c.Challenge)
	whole := k.Attestation(client)
	for n := range whole {
		if _, err := passkey.Register(client, whole[:n], c); err == nil {
			t.Errorf("an attestation of %d bytes instead of %d", n, len(whole))
		}
	}
	if _, err := passkey.Register(client, append(whole, 0), c); err == nil {
		t.Error("an attestation with a byte more")
	}
	for _, format := range []string{"tpm", "fido-u2f", ""} {
		k.Format = format
		if _, err := passkey.Register(client, k.Attestation(client), c); err == nil {
			t.Errorf("attested by %q", format)
		}
	}
	k.Format = "packed"
	tampered := k.Attestation(client)
	if _, err := passkey.Register(append(client, ' '), tampered, c); err == nil {
		t.Error("an attestation of something else")
	}
	k.Format, k.ID = "none", make([]byte, 1024)
	if _, err := passkey.Register(client, k.Attestation(client), c); err == nil {
		t.Error("a number of 1024 bytes")
	}
}

func TestCopies(t *testing.T) {
	for _, test := range []struct {
		before, uses uint32
		copied       bool
	}{{0, 0, false}, {0, 1, false}, {1, 2, false}, {5, 900, false}, {1, 1, true}, {5, 4, true}, {5, 0, true}} {
		if got := passkey.Copied(test.before, test.uses); got != test.copied {
			t.Errorf("%+v: %v", test, got)
		}
	}
}

func FuzzRegister(f *testing.F) {
	k, c := pretend.New(-7, origin, party), ceremony()
	client := k.Client("webauthn.create", c.Challenge)
	f.Add(k.Attestation(client))
	k.Format = "packed"
	f.Add(k.Attestation(client))
	f.Add(pretend.New(-257, origin, party).Attestation(client))
	f.Fuzz(func(t *testing.T, raw []byte) {
		credential, err := passkey.Register(client, raw, c)
		if err == nil && (len(credential.ID) == 0 || len(credential.Key) == 0) {
			t.Errorf("%+v", credential)
		}
	})
}

// Nothing but the data that was signed is taken.
func FuzzAssert(f *testing.F) {
	k, c := pretend.New(-7, origin, party), ceremony()
	client, signed := k.Client("webauthn.get", c.Challenge), k.Data(false)
	signature, key := k.Sign(signed, client), k.COSE()
	f.Add(signed, key)
	f.Add(k.Data(true), pretend.New(-8, origin, party).COSE())
	f.Fuzz(func(t *testing.T, data, cose []byte) {
		_, err := passkey.Assert(client, data, signature, cose, c)
		if err == nil && string(data) != string(signed) {
			t.Errorf("%x with the key %x", data, cose)
		}
	})
}
