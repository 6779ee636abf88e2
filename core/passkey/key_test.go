package passkey

import (
	"bytes"
	"encoding/base64"
	"encoding/binary"
	"fmt"
	"maps"
	"strings"
	"testing"

	"github.com/fxamacker/cbor/v2"

	"ostiarius/core/passkey/pretend"
)

func encoded(t testing.TB, v any) []byte {
	t.Helper()
	raw, err := cbor.Marshal(v)
	if err != nil {
		t.Fatal(err)
	}
	return raw
}

// Of each algorithm there is one kind of key, on one curve, of one length; everything else is refused.
func TestKeysThatAreTaken(t *testing.T) {
	good := map[int64]map[int64]any{}
	for _, algorithm := range Algorithms {
		raw := map[int64]any{}
		if err := cbor.Unmarshal(pretend.New(algorithm, "https://marram.example", "marram.example").COSE(), &raw); err != nil {
			t.Fatal(err)
		}
		good[algorithm] = raw
		if k, err := readKey(encoded(t, raw)); err != nil || k.public == nil {
			t.Errorf("%d: %v", algorithm, err)
		}
	}
	point := append(good[es256][-2].([]byte), good[es256][-3].([]byte)...)
	modulus := func(n int) []byte { return append([]byte{0xc1}, bytes.Repeat([]byte{0x33}, n-1)...) }
	for name, test := range map[string]struct {
		algorithm int64
		change    map[int64]any // nil takes away
		ok        bool
	}{
		"ES256 of another kind":          {es256, map[int64]any{1: 1}, false},
		"ES256 on P-384":                 {es256, map[int64]any{-1: 2}, false},
		"ES256, a short x":               {es256, map[int64]any{-2: make([]byte, 31)}, false},
		"ES256, a long y":                {es256, map[int64]any{-3: make([]byte, 33)}, false},
		"ES256, no point of the curve":   {es256, map[int64]any{-2: bytes.Repeat([]byte{1}, 32)}, false},
		"ES256, y as a sign":             {es256, map[int64]any{-3: true}, false},
		"ES256, divided elsewhere":       {es256, map[int64]any{-2: point[:31], -3: point[31:]}, false},
		"ES256, no x":                    {es256, map[int64]any{-2: nil}, false},
		"EdDSA of another kind":          {eddsa, map[int64]any{1: 2}, false},
		"EdDSA on Ed448":                 {eddsa, map[int64]any{-1: 7}, false},
		"EdDSA, 31 bytes":                {eddsa, map[int64]any{-2: make([]byte, 31)}, false},
		"EdDSA, text in place of bytes":  {eddsa, map[int64]any{-2: strings.Repeat("x", 32)}, false},
		"EdDSA, a list in place of them": {eddsa, map[int64]any{-2: make([]int, 32)}, false},
		"RS256 of another kind":          {rs256, map[int64]any{1: 2}, false},
		"RS256, 2048 bits":               {rs256, map[int64]any{-1: modulus(256)}, true},
		"RS256, 2040 bits":               {rs256, map[int64]any{-1: modulus(255)}, false},
		"RS256, 1024 bits":               {rs256, map[int64]any{-1: modulus(128)}, false},
		"RS256, 8192 bits":               {rs256, map[int64]any{-1: modulus(1024)}, true},
		"RS256, 8200 bits":               {rs256, map[int64]any{-1: modulus(1025)}, false},
		"RS256, a zero in front":         {rs256, map[int64]any{-1: append([]byte{0}, modulus(255)...)}, false},
		"RS256, e of 1":                  {rs256, map[int64]any{-2: []byte{1}}, false},
		"RS256, e of 3":                  {rs256, map[int64]any{-2: []byte{3}}, true},
		"RS256, e that is even":          {rs256, map[int64]any{-2: []byte{1, 0, 0}}, false},
		"RS256, e of five bytes":         {rs256, map[int64]any{-2: []byte{1, 0, 0, 0, 1}}, false},
		"RS256, no e":                    {rs256, map[int64]any{-2: nil}, false},
		"another algorithm":              {es256, map[int64]any{3: -35}, false},
		"no algorithm":                   {es256, map[int64]any{3: nil}, false},
		"another one's algorithm":        {es256, map[int64]any{3: eddsa}, false},
	} {
		fields := maps.Clone(good[test.algorithm])
		for label, value := range test.change {
			if fields[label] = value; value == nil {
				delete(fields, label)
			}
		}
		if k, err := readKey(encoded(t, fields)); (err == nil) != test.ok {
			t.Errorf("%s: %+v %v", name, k, err)
		}
	}
}

// Whatever is cut off, an answer is refused, and nothing falls over.
func TestDataThatIsCutOff(t *testing.T) {
	k := pretend.New(es256, "https://marram.example", "marram.example")
	for name, whole := range map[string][]byte{"with a passkey": k.Data(true), "without": k.Data(false)} {
		if d, err := readData(whole); err != nil || (d.id != nil) != (name == "with a passkey") {
			t.Errorf("%s: %v", name, err)
		}
		for n := range whole {
			if _, err := readData(whole[:n:n]); err == nil {
				t.Errorf("%s: %d bytes of %d are taken", name, n, len(whole))
			}
		}
		if _, err := readData(append(bytes.Clone(whole), 0)); err == nil {
			t.Errorf("%s: a byte more is taken", name)
		}
	}
	for n, want := range map[int]bool{0: false, 1: true, 1023: true, 1024: false, 65535: false} {
		k.ID = bytes.Repeat([]byte{7}, n)
		if _, err := readData(k.Data(true)); (err == nil) != want {
			t.Errorf("a number of %d bytes: %v", n, err)
		}
	}
	// One that says it is longer than what there is.
	k.ID = []byte{1, 2, 3}
	long := k.Data(true)
	binary.BigEndian.PutUint16(long[53:55], uint16(len(long)))
	if _, err := readData(long); err == nil {
		t.Error("a number that is longer than all there is")
	}
}

// A page in a frame of another site uses no passkey, whether the browser names that site or not.
func TestFrames(t *testing.T) {
	c := Ceremony{Challenge: []byte("a question of thirty-two letters"), Origin: "https://marram.example", Party: "marram.example"}
	said := func(more string) []byte {
		return fmt.Appendf(nil, `{"type":"webauthn.get","challenge":%q,"origin":"https://marram.example"%s}`,
			base64.RawURLEncoding.EncodeToString(c.Challenge), more)
	}
	for more, ok := range map[string]bool{"": true, `,"crossOrigin":false`: true, `,"crossOrigin":true`: false,
		`,"topOrigin":"https://evil.example"`:                     false,
		`,"crossOrigin":false,"topOrigin":"https://evil.example"`: false, `,"crossOrigin":true,"topOrigin":"https://marram.example"`: false} {
		if err := c.client(said(more), "webauthn.get"); (err == nil) != ok {
			t.Errorf("%s: %v", more, err)
		}
	}
}

// Nobody vouches for a passkey but itself: there is no statement where there is to be none, and no chain of others.
func TestAttestationsThatWereNotAskedFor(t *testing.T) {
	c := Ceremony{Challenge: []byte("a question of thirty-two letters"), Origin: "https://marram.example", Party: "marram.example"}
	for _, algorithm := range Algorithms {
		k := pretend.New(algorithm, c.Origin, c.Party)
		client := k.Client("webauthn.create", c.Challenge)
		data := k.Data(true)
		own := k.Sign(data, client)
		other := pretend.New(algorithm, c.Origin, c.Party)
		for name, test := range map[string]struct {
			format    string
			statement map[string]any
			ok        bool
		}{
			"none":                          {"none", map[string]any{}, true},
			"none with a statement":         {"none", map[string]any{"x": 1}, false},
			"its own":                       {"packed", map[string]any{"alg": algorithm, "sig": own}, true},
			"its own, by somebody else":     {"packed", map[string]any{"alg": algorithm, "sig": other.Sign(data, client)}, false},
			"with a chain":                  {"packed", map[string]any{"alg": algorithm, "sig": own, "x5c": [][]byte{{1}}}, false},
			"with a chain of none":          {"packed", map[string]any{"alg": algorithm, "sig": own, "x5c": [][]byte{}}, false},
			"by an algorithm not its own":   {"packed", map[string]any{"alg": int64(-36), "sig": own}, false},
			"without a signature":           {"packed", map[string]any{"alg": algorithm}, false},
			"of something else":             {"packed", map[string]any{"alg": algorithm, "sig": k.Sign(data[:37], client)}, false},
			"of a form that nobody has":     {"none ", map[string]any{}, false},
			"with a statement that is text": {"packed", map[string]any{"alg": "x"}, false},
		} {
			object := encoded(t, map[string]any{"fmt": test.format, "attStmt": test.statement, "authData": data})
			if _, err := Register(client, object, c); (err == nil) != test.ok {
				t.Errorf("%d, %s: %v", algorithm, name, err)
			}
		}
	}
}
