package openid

import (
	"encoding/json"
	"maps"
	"strings"
	"testing"
	"time"

	"github.com/go-jose/go-jose/v4"
)

// What is just within a bound is taken, and what is just beyond is not.
func TestBoundsOfTokens(t *testing.T) {
	private, keys := ed(t)
	take := func(what string, change func(c map[string]any), want bool) {
		t.Helper()
		c := claims()
		change(c)
		if _, err := ReadIDToken(signWith(t, jose.EdDSA, private, "k1", "", c), keys, expected()); (err == nil) != want {
			t.Errorf("%s: %v", what, err)
		}
	}
	take("a subject of 255 bytes", func(c map[string]any) { c["sub"] = strings.Repeat("x", 255) }, true)
	take("a subject of 256 bytes", func(c map[string]any) { c["sub"] = strings.Repeat("x", 256) }, false)
	take("too old by less than two minutes", func(c map[string]any) { c["exp"] = now.Add(-2*time.Minute + time.Second).Unix() }, true)
	take("too old by two minutes", func(c map[string]any) { c["exp"] = now.Add(-2 * time.Minute).Unix() }, false)
	take("made in two minutes", func(c map[string]any) { c["iat"] = now.Add(2 * time.Minute).Unix() }, true)
	take("made in more than two minutes", func(c map[string]any) { c["iat"] = now.Add(2*time.Minute + time.Second).Unix() }, false)
	take("a claim that is written otherwise", func(c map[string]any) { c["Sub"] = "root" }, false)
	// A token has at most 64 kB, whatever is in it.
	length := func(padding int) (string, int) {
		c := claims()
		c["padding"] = strings.Repeat("x", padding)
		raw := signWith(t, jose.EdDSA, private, "k1", "", c)
		return raw, len(raw)
	}
	fits, most := "", 64<<10
	for padding := most*3/4 - 600; padding < most*3/4; padding++ {
		raw, n := length(padding)
		if n <= most {
			fits = raw
			continue
		}
		if _, err := ReadIDToken(raw, keys, expected()); err == nil || !strings.Contains(err.Error(), "too long") {
			t.Errorf("%d bytes: %v", n, err)
		}
		break
	}
	if _, err := ReadIDToken(fits, keys, expected()); err != nil || len(fits) < most-1 {
		t.Errorf("%d bytes: %v", len(fits), err)
	}
}

// Times are numbers from 1970 on, for some 34,000 years.
func TestMoments(t *testing.T) {
	for text, want := range map[string]bool{
		"0": true, "0.25": true, "1764158400.5": true, "1099511627776": true, "1099511627777": false, "2e12": false, "-1": false,
		"-0.001": false, `"1"`: false, "null": true, "[]": false,
	} {
		var m moment
		if err := json.Unmarshal([]byte(text), &m); (err == nil) != want {
			t.Errorf("%s: %s %v", text, m, err)
		}
	}
	var m moment
	if err := json.Unmarshal([]byte("1764158400.5"), &m); err != nil || !m.Equal(time.Date(2025, 11, 26, 12, 0, 0, 500e6, time.UTC)) {
		t.Errorf("%s %v", m, err)
	}
}

// A key counts if it is for signatures, for this algorithm, and the one that is named; the others are passed over, and the next may count.
func TestKeysThatCount(t *testing.T) {
	private, keys := ed(t)
	right := keys[0]
	with := func(change func(k *jose.JSONWebKey)) jose.JSONWebKey {
		k := right
		change(&k)
		return k
	}
	secretly := jose.JSONWebKey{Key: private, KeyID: "k1"}
	for what, test := range map[string]struct {
		key jose.JSONWebKey
		ok  bool
	}{
		"right":                 {right, true},
		"for whatever":          {with(func(k *jose.JSONWebKey) { k.Use, k.Algorithm = "", "" }), true},
		"for encryption":        {with(func(k *jose.JSONWebKey) { k.Use = "enc" }), false},
		"for another algorithm": {with(func(k *jose.JSONWebKey) { k.Algorithm = "RS256" }), false},
		"of another name":       {with(func(k *jose.JSONWebKey) { k.KeyID = "k2" }), false},
		"without a name":        {with(func(k *jose.JSONWebKey) { k.KeyID = "" }), false},
		"a private key":         {secretly, false},
		"no key":                {jose.JSONWebKey{KeyID: "k1"}, false},
	} {
		raw := signWith(t, jose.EdDSA, private, "k1", "JWT", claims())
		if _, err := ReadIDToken(raw, []jose.JSONWebKey{test.key}, expected()); (err == nil) != test.ok {
			t.Errorf("%s: %v", what, err)
		}
		if _, err := ReadIDToken(raw, []jose.JSONWebKey{test.key, right}, expected()); err != nil {
			t.Errorf("%s, and the right one after it: %v", what, err)
		}
	}
	// Who names a key whose signature it is not has signed with another: no other key of that name is tried.
	_, others := ed(t)
	_, err := ReadIDToken(signWith(t, jose.EdDSA, private, "k1", "JWT", claims()), []jose.JSONWebKey{others[0], right}, expected())
	if err == nil || !strings.Contains(err.Error(), "signature is wrong") {
		t.Errorf("two keys of one name: %v", err)
	}
}

// Each endpoint of a provider is an https address, of the web where the provider is, and what is needed is there.
func TestEndpoints(t *testing.T) {
	good := map[string]any{"issuer": "https://id.example", "authorization_endpoint": "https://id.example/a",
		"token_endpoint": "https://id.example/t",
		"jwks_uri":       "https://id.example/k", "userinfo_endpoint": "https://id.example/u", "end_session_endpoint": "https://id.example/e"}
	needed := map[string]bool{"authorization_endpoint": true, "token_endpoint": true, "jwks_uri": true}
	for endpoint := range good {
		if endpoint == "issuer" {
			continue
		}
		for address, ok := range map[string]bool{
			"https://id.example/x": true, "https://other.example/x?y=1": true, "": !needed[endpoint], "http://id.example/x": false,
			"https:///x":             false,
			"https://id.example/x#y": false, "https://ines@id.example/x": false, "https://id.example:port/x": false, "/x": false,
			"https://localhost/x":   false,
			"https://a.localhost/x": false, "https://127.0.0.2/x": false, "https://[::1]/x": false, "http://localhost/x": false,
			"https://192.0.2.7/x": true,
		} {
			said := maps.Clone(good)
			said[endpoint] = address
			text, err := json.Marshal(said)
			if err != nil {
				t.Fatal(err)
			}
			if _, err := ReadProvider(text, "https://id.example"); (err == nil) != ok {
				t.Errorf("%s %q: %v", endpoint, address, err)
			}
		}
	}
	if _, err := ReadProvider([]byte(`{"issuer": "https://id.example:port"}`), "https://id.example:port"); err == nil {
		t.Error("an issuer that is no address")
	}
}
