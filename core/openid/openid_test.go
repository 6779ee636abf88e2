package openid

import (
	"crypto/ecdsa"
	"crypto/ed25519"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/rsa"
	"crypto/sha256"
	"crypto/sha512"
	"encoding/base64"
	"encoding/json"
	"errors"
	"maps"
	"strings"
	"testing"
	"time"

	"github.com/go-jose/go-jose/v4"
)

var now = time.Date(2026, 11, 26, 12, 0, 0, 0, time.UTC)

func expected() Expected {
	return Expected{Issuer: "https://id.example", Client: "marram", Nonce: "n-1", Now: now, AccessToken: "access"}
}

func claims() map[string]any {
	return map[string]any{
		"iss": "https://id.example", "sub": "u-7", "aud": "marram", "exp": now.Add(time.Minute).Unix(), "iat": now.Unix(), "nonce": "n-1",
		"email": "ines@marram.example", "email_verified": true, "groups": []string{"crew"},
	}
}

func signWith(t testing.TB, algorithm jose.SignatureAlgorithm, key any, id, kind string, claims map[string]any) string {
	t.Helper()
	options := &jose.SignerOptions{}
	if kind != "" {
		options = options.WithType(jose.ContentType(kind))
	}
	signer, err := jose.NewSigner(jose.SigningKey{Algorithm: algorithm, Key: jose.JSONWebKey{Key: key, KeyID: id}}, options)
	if err != nil {
		t.Fatal(err)
	}
	text, err := json.Marshal(claims)
	if err != nil {
		t.Fatal(err)
	}
	signed, err := signer.Sign(text)
	if err != nil {
		t.Fatal(err)
	}
	raw, err := signed.CompactSerialize()
	if err != nil {
		t.Fatal(err)
	}
	return raw
}

func ed(t testing.TB) (ed25519.PrivateKey, []jose.JSONWebKey) {
	t.Helper()
	public, private, err := ed25519.GenerateKey(rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	return private, []jose.JSONWebKey{{Key: public, KeyID: "k1", Use: "sig", Algorithm: "EdDSA"}}
}

func TestEachAlgorithm(t *testing.T) {
	edPublic, edKey, _ := ed25519.GenerateKey(rand.Reader)
	p256, _ := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	p384, _ := ecdsa.GenerateKey(elliptic.P384(), rand.Reader)
	rsaKey, _ := rsa.GenerateKey(rand.Reader, 2048)
	for algorithm, key := range map[jose.SignatureAlgorithm][2]any{
		jose.EdDSA: {edKey, edPublic}, jose.ES256: {p256, p256.Public()}, jose.ES384: {p384, p384.Public()},
		jose.RS256: {rsaKey, rsaKey.Public()}, jose.PS384: {rsaKey, rsaKey.Public()}, jose.RS512: {rsaKey, rsaKey.Public()},
	} {
		said := claims()
		said["at_hash"] = halfHash(string(algorithm), "access")
		c, err := ReadIDToken(signWith(t, algorithm, key[0], "k1", "JWT", said),
			[]jose.JSONWebKey{{Key: key[1], KeyID: "other"}, {Key: key[1], KeyID: "k1"}}, expected())
		if err != nil || c.Subject != "u-7" || c.Email != "ines@marram.example" || !c.Verified {
			t.Errorf("%s: %+v %v", algorithm, c, err)
		}
	}
}

// Core, section 3.1.3.6: the hash of an access token, of the example in appendix A.3 (RS256).
func TestVectorHash(t *testing.T) {
	if got := halfHash("RS256", "jHkWEdUXMU1BwAsC4vtUsZwnNvTIxEl0z9K3vx5KF0Y"); got != "77QmUPtjPfzWtF2AnpK9RQ" {
		t.Error(got)
	}
}

// RFC 7515, appendix A.3: a signature with ES256; and appendix A.1, with HS256, which is not taken.
func TestVectorsOfJWS(t *testing.T) {
	const key = `{"kty":"EC","crv":"P-256","x":"f83OJ3D2xF1Bg8vub9tLe1gHMzV76e8Tus9uPHvRVEU",` +
		`"y":"x_FEzRu9m36HLN_tue659LNpXW6pCyStikYjKIWI5a0"}`
	var k jose.JSONWebKey
	if err := k.UnmarshalJSON([]byte(key)); err != nil {
		t.Fatal(err)
	}
	const token = "eyJhbGciOiJFUzI1NiJ9.eyJpc3MiOiJqb2UiLA0KICJleHAiOjEzMDA4MTkzODAsDQogImh0dHA6Ly9leGFtcGxlLmNvbS9pc19yb290Ijp0cnVlfQ." +
		"DtEhU3ljbEg8L38VWAfUAqOyKAM6-Xx-F4GawxaepmXFCgfTjDxw5djxLa8ISlSApmWQxfKTUJqPP3-Kg6NU1Q"
	payload, _, err := verify(token, []jose.JSONWebKey{k}, "JWT")
	if err != nil || !strings.Contains(string(payload), `"iss":"joe"`) {
		t.Errorf("%s %v", payload, err)
	}
	if _, _, err := verify(token[:len(token)-2]+"1A", []jose.JSONWebKey{k}, "JWT"); err == nil {
		t.Error("another signature is taken")
	}
	const hs256 = "eyJ0eXAiOiJKV1QiLA0KICJhbGciOiJIUzI1NiJ9." +
		"eyJpc3MiOiJqb2UiLA0KICJleHAiOjEzMDA4MTkzODAsDQogImh0dHA6Ly9leGFtcGxlLmNvbS9pc19yb290Ijp0cnVlfQ." +
		"dBjftJeZ4CVP-mB92K27uhbUJU1p1r_wW1gFWFOEjXk"
	if _, _, err := verify(hs256, []jose.JSONWebKey{k}, "JWT"); err == nil {
		t.Error("HS256 is taken")
	}
}

func TestWhatIsRefused(t *testing.T) {
	private, keys := ed(t)
	for name, test := range map[string]struct {
		change func(c map[string]any, e *Expected)
		want   string
	}{
		"right":                   {func(map[string]any, *Expected) {}, ""},
		"a clock that differs":    {func(c map[string]any, e *Expected) { e.Now = now.Add(2 * time.Minute) }, ""},
		"another issuer":          {func(c map[string]any, e *Expected) { c["iss"] = "https://id.example/" }, "is from"},
		"no issuer":               {func(c map[string]any, e *Expected) { delete(c, "iss") }, "is from"},
		"another audience":        {func(c map[string]any, e *Expected) { c["aud"] = "other" }, "another site (aud)"},
		"no audience":             {func(c map[string]any, e *Expected) { delete(c, "aud") }, "aud"},
		"several audiences":       {func(c map[string]any, e *Expected) { c["aud"] = []string{"marram", "other"} }, "azp"},
		"several, given to us":    {func(c map[string]any, e *Expected) { c["aud"], c["azp"] = []string{"marram", "other"}, "marram" }, ""},
		"given to another":        {func(c map[string]any, e *Expected) { c["azp"] = "other" }, "azp"},
		"too old":                 {func(c map[string]any, e *Expected) { c["exp"] = now.Add(-3 * time.Minute).Unix() }, "too old"},
		"no end":                  {func(c map[string]any, e *Expected) { delete(c, "exp") }, "too old"},
		"an end that is text":     {func(c map[string]any, e *Expected) { c["exp"] = "tomorrow" }, "cannot be read"},
		"an end that is endless":  {func(c map[string]any, e *Expected) { c["exp"] = 1e300 }, "out of range"},
		"from the future":         {func(c map[string]any, e *Expected) { c["iat"] = now.Add(time.Hour).Unix() }, "future"},
		"not yet":                 {func(c map[string]any, e *Expected) { c["nbf"] = now.Add(time.Hour).Unix() }, "future"},
		"no time":                 {func(c map[string]any, e *Expected) { delete(c, "iat") }, "future"},
		"another nonce":           {func(c map[string]any, e *Expected) { c["nonce"] = "n-2" }, "nonce"},
		"no nonce":                {func(c map[string]any, e *Expected) { delete(c, "nonce") }, "nonce"},
		"no nonce on either side": {func(c map[string]any, e *Expected) { delete(c, "nonce"); e.Nonce = "" }, "nonce"},
		"another access token":    {func(c map[string]any, e *Expected) { c["at_hash"] = halfHash("EdDSA", "other") }, "at_hash"},
		"nobody":                  {func(c map[string]any, e *Expected) { c["sub"] = "" }, "who it is about"},
		"a proof that is old": {func(c map[string]any,
			e *Expected) {
			c["auth_time"] = now.Add(-time.Hour).Unix()
			e.Since = now
		}, "auth_time"},
		"no proof":                    {func(c map[string]any, e *Expected) { e.Since = now }, "auth_time"},
		"a proof anew":                {func(c map[string]any, e *Expected) { c["auth_time"] = now.Unix(); e.Since = now }, ""},
		"an address that is not true": {func(c map[string]any, e *Expected) { c["email_verified"] = "yes" }, "unverified"},
	} {
		c, e := claims(), expected()
		test.change(c, &e)
		got, err := ReadIDToken(signWith(t, jose.EdDSA, private, "k1", "", c), keys, e)
		if test.want == "unverified" {
			if err != nil || got.Verified {
				t.Errorf("%s: %+v %v", name, got, err)
			}
			continue
		}
		if (err == nil) != (test.want == "") || err != nil && !strings.Contains(err.Error(), test.want) {
			t.Errorf("%s: %v", name, err)
		}
	}
}

func TestSignaturesThatAreNone(t *testing.T) {
	private, keys := ed(t)
	raw := signWith(t, jose.EdDSA, private, "k1", "JWT", claims())
	parts := strings.Split(raw, ".")
	header := func(text string) string { return base64.RawURLEncoding.EncodeToString([]byte(text)) }
	other, otherKeys := ed(t)
	otherKeys[0].KeyID = "k2"
	for name, token := range map[string]string{
		"none": header(`{"alg":"none"}`) + "." + parts[1] + ".", "None": header(`{"alg":"None"}`) + "." + parts[1] + ".",
		"no signature": parts[0] + "." + parts[1] + ".", "two parts": parts[0] + "." + parts[1],
		"another payload": parts[0] + "." + header(`{"iss":"https://id.example","sub":"root"}`) + "." + parts[2],
		"another's key":   signWith(t, jose.EdDSA, other, "k1", "JWT", claims()),
		"its own key": header(`{"alg":"EdDSA","jwk":{"kty":"OKP","crv":"Ed25519","x":"`+
			base64.RawURLEncoding.EncodeToString(other.Public().(ed25519.PublicKey))+`"}}`) + "." + parts[1] + "." + parts[2],
		"a logout token":          signWith(t, jose.EdDSA, private, "k1", "logout+jwt", claims()),
		"an access token":         signWith(t, jose.EdDSA, private, "k1", "at+jwt", claims()),
		"what must be understood": header(`{"alg":"EdDSA","crit":["x"],"x":1}`) + "." + parts[1] + "." + parts[2],
		"too long":                strings.Repeat("a", 70000), "nothing": "",
	} {
		if _, err := ReadIDToken(token, keys, expected()); err == nil {
			t.Errorf("%s is taken", name)
		}
	}
	if _, err := ReadIDToken(signWith(t, jose.EdDSA, other, "k2", "JWT", claims()), keys, expected()); !errors.Is(err, ErrKey) {
		t.Errorf("a key that is not known: %v", err)
	}
	if _, err := ReadIDToken(signWith(t, jose.EdDSA, other, "k2", "JWT", claims()), append(keys, otherKeys...), expected()); err != nil {
		t.Errorf("once it is known: %v", err)
	}
	encryption := keys[0]
	encryption.Use = "enc"
	if _, err := ReadIDToken(raw, []jose.JSONWebKey{encryption}, expected()); err == nil {
		t.Error("signed with a key that is for something else")
	}
}

func TestProviders(t *testing.T) {
	good := map[string]any{
		"issuer": "https://id.example", "authorization_endpoint": "https://id.example/a", "token_endpoint": "https://id.example/t",
		"jwks_uri": "https://id.example/k",
	}
	for name, test := range map[string]struct {
		change map[string]any
		ok     bool
	}{
		"right": {nil, true}, "another issuer": {map[string]any{"issuer": "https://id.example/"}, false},
		"in the clear":                {map[string]any{"token_endpoint": "http://id.example/t"}, false},
		"tokens on this machine":      {map[string]any{"token_endpoint": "http://localhost:1/t"}, false},
		"who it is, on this machine":  {map[string]any{"userinfo_endpoint": "http://127.0.0.1/u"}, false},
		"keys on this machine":        {map[string]any{"jwks_uri": "https://127.0.0.1/k"}, false},
		"signing out on this machine": {map[string]any{"end_session_endpoint": "http://[::1]/e"}, false},
		"a form on this machine":      {map[string]any{"authorization_endpoint": "http://localhost/a"}, false},
		"no keys":                     {map[string]any{"jwks_uri": ""}, false},
		"a script":                    {map[string]any{"authorization_endpoint": "javascript:alert(1)"}, false},
		"no codes":                    {map[string]any{"response_types_supported": []string{"id_token"}}, false},
		"a file":                      {map[string]any{"jwks_uri": "file:///etc/passwd"}, false},
		"with a fragment":             {map[string]any{"authorization_endpoint": "https://id.example/a#x"}, false},
	} {
		said := maps.Clone(good)
		maps.Copy(said, test.change)
		text, _ := json.Marshal(said)
		if _, err := ReadProvider(text, "https://id.example"); (err == nil) != test.ok {
			t.Errorf("%s: %v", name, err)
		}
	}
	if _, err := ReadProvider([]byte(`{"issuer": "http://localhost:1", "authorization_endpoint": "http://localhost:1/a", `+
		`"token_endpoint": "http://localhost:1/t", "jwks_uri": "http://localhost:1/k"}`), "http://localhost:1"); err != nil {
		t.Errorf("all of it on this machine: %v", err)
	}
	if _, err := ReadProvider([]byte("<html>"), "https://id.example"); err == nil {
		t.Error("a page")
	}
}

func TestLogoutTokens(t *testing.T) {
	private, keys := ed(t)
	good := map[string]any{
		"iss": "https://id.example", "aud": "marram", "iat": now.Unix(), "exp": now.Add(time.Minute).Unix(), "jti": "1", "sub": "u-7",
		"sid": "s-1", "events": map[string]any{logoutEvent: map[string]any{}},
	}
	for name, test := range map[string]struct {
		change map[string]any
		ok     bool
	}{
		"right": {nil, true}, "with a nonce": {map[string]any{"nonce": "n"}, false},
		"no event":              {map[string]any{"events": map[string]any{}}, false},
		"another event":         {map[string]any{"events": map[string]any{"x": map[string]any{}}}, false},
		"an event that is none": {map[string]any{"events": map[string]any{logoutEvent: true}}, false},
		"nobody":                {map[string]any{"sub": "", "sid": ""}, false}, "a session alone": {map[string]any{"sub": ""}, true},
		"for another": {map[string]any{"aud": "other"}, false},
		"old":         {map[string]any{"exp": now.Add(-time.Hour).Unix()}, false}, "no number": {map[string]any{"jti": ""}, false},
	} {
		said := maps.Clone(good)
		maps.Copy(said, test.change)
		l, err := ReadLogoutToken(signWith(t, jose.EdDSA, private, "k1", "logout+jwt", said), keys, "https://id.example", "marram", now)
		if (err == nil) != test.ok || err == nil && l.Session != "s-1" {
			t.Errorf("%s: %+v %v", name, l, err)
		}
	}
}

func FuzzIDToken(f *testing.F) {
	private, keys := ed(f)
	raw := signWith(f, jose.EdDSA, private, "k1", "JWT", claims())
	f.Add(raw)
	f.Add("eyJhbGciOiJub25lIn0.e30.")
	f.Add(signWith(f, jose.EdDSA, private, "", "", map[string]any{"aud": []string{"marram"}}))
	signed := raw[:strings.LastIndexByte(raw, '.')]
	f.Fuzz(func(t *testing.T, token string) {
		if _, err := ReadIDToken(token, keys, expected()); err == nil && !strings.HasPrefix(token, signed+".") {
			t.Errorf("%q is taken", token)
		}
	})
}

// The hash of an access token is by the hash of the signature, also where that is SHA-512; worked out here anew.
func TestHalfOfEachHash(t *testing.T) {
	s256, s384, s512 := sha256.Sum256([]byte("access")), sha512.Sum384([]byte("access")), sha512.Sum512([]byte("access"))
	for algorithm, half := range map[string][]byte{
		"RS256": s256[:16], "ES256": s256[:16], "PS256": s256[:16], "ES384": s384[:24], "RS384": s384[:24], "RS512": s512[:32],
		"PS512": s512[:32],
		"ES512": s512[:32], "EdDSA": s512[:32],
	} {
		if got, want := halfHash(algorithm, "access"), base64.RawURLEncoding.EncodeToString(half); got != want {
			t.Errorf("%s: %s, want %s", algorithm, got, want)
		}
	}
}

// A token that names no key is tried with each; one that names a key with that alone. A proof from the future is none.
func TestKeysThatAreNotNamed(t *testing.T) {
	private, keys := ed(t)
	_, others := ed(t)
	other := others[0]
	other.KeyID = "k0"
	both := []jose.JSONWebKey{other, keys[0]}
	if _, err := ReadIDToken(signWith(t, jose.EdDSA, private, "", "", claims()), both, expected()); err != nil {
		t.Errorf("the second of two: %v", err)
	}
	if _, err := ReadIDToken(signWith(t, jose.EdDSA, private, "", "", claims()), both[:1], expected()); !errors.Is(err, ErrKey) {
		t.Errorf("none of them: %v", err)
	}
	if _, err := ReadIDToken(signWith(t, jose.EdDSA, private, "k0", "", claims()), both, expected()); err == nil {
		t.Error("by another key than it names")
	}
	for after, ok := range map[time.Duration]bool{0: true, Skew: true, Skew + 2*time.Second: false, time.Hour: false} {
		c := claims()
		c["auth_time"] = now.Add(after).Unix()
		if _, err := ReadIDToken(signWith(t, jose.EdDSA, private, "k1", "", c), keys, expected()); (err == nil) != ok {
			t.Errorf("a proof made in %v: %v", after, err)
		}
	}
}
