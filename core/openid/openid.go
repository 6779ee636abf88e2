// Package openid reads what a provider of OpenID Connect says, and takes none of it without proof: its description of itself
// (OpenID Connect Discovery 1.0), ID tokens (Core 1.0, section 3.1.3.7) and logout tokens (Back-Channel Logout 1.0).
package openid

import (
	"crypto/sha256"
	"crypto/sha512"
	"crypto/subtle"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"math"
	"net"
	"net/url"
	"slices"
	"strings"
	"time"

	"github.com/go-jose/go-jose/v4"

	"ostiarius/core/brief"
	"ostiarius/core/exact"
)

// Algorithms are the signatures that are taken. "none" is not one of them, and nor is any that somebody could make who knows what
// is public.
var Algorithms = []jose.SignatureAlgorithm{jose.EdDSA, jose.ES256, jose.ES384, jose.PS256, jose.PS384, jose.RS256, jose.RS384, jose.RS512}

// Skew is by how much the provider's clock may differ from ours.
const Skew = 2 * time.Minute

// A Provider is what a provider says of itself.
type Provider struct {
	Issuer                 string   `json:"issuer"`
	Authorization          string   `json:"authorization_endpoint"`
	Token                  string   `json:"token_endpoint"`
	Userinfo               string   `json:"userinfo_endpoint"`
	Keys                   string   `json:"jwks_uri"`
	EndSession             string   `json:"end_session_endpoint"` // RP-Initiated Logout 1.0
	NamesIssuer            bool     `json:"authorization_response_iss_parameter_supported"`
	ResponseTypes          []string `json:"response_types_supported"`
	TokenAuthentication    []string `json:"token_endpoint_auth_methods_supported"`
	BackChannelLogout      bool     `json:"backchannel_logout_supported"`
	BackChannelLogoutBySID bool     `json:"backchannel_logout_session_supported"`
}

// ReadProvider reads what a provider says of itself, which must be the one that was asked for (Discovery, section 4.3).
func ReadProvider(text []byte, issuer string) (p Provider, err error) {
	if err := exact.Unmarshal(text, &p); err != nil {
		return p, fmt.Errorf("what the provider says of itself cannot be read: %w", err)
	}
	if p.Issuer != issuer {
		return p, fmt.Errorf("the provider says that it is %q, and not %q", brief.Cut(p.Issuer, 100), issuer)
	}
	// A provider on the web has everything on the web: what its tokens and codes are sent to is no program of this machine.
	here := false
	if u, err := url.Parse(issuer); err == nil {
		here = onThisMachine(u.Hostname())
	}
	for _, e := range []struct {
		what, address string
		needed        bool
	}{{"authorization_endpoint", p.Authorization, true}, {"token_endpoint", p.Token, true}, {"jwks_uri", p.Keys, true},
		{"userinfo_endpoint", p.Userinfo, false}, {"end_session_endpoint", p.EndSession, false}} {
		if e.address == "" && !e.needed {
			continue
		}
		if u, err := url.Parse(e.address); err != nil || u.Host == "" || u.Fragment != "" || u.User != nil ||
			onThisMachine(u.Hostname()) && !here || u.Scheme != "https" && !(u.Scheme == "http" && onThisMachine(u.Hostname())) {
			return p, fmt.Errorf("the provider's %s is %q, which is no https address of the web", e.what, brief.Cut(e.address, 100))
		}
	}
	if len(p.ResponseTypes) > 0 && !slices.Contains(p.ResponseTypes, "code") {
		return p, errors.New("the provider gives out no codes (response_types_supported)")
	}
	return p, nil
}

func onThisMachine(host string) bool {
	ip := net.ParseIP(host)
	return host == "localhost" || strings.HasSuffix(host, ".localhost") || ip != nil && ip.IsLoopback()
}

// Expected is what an ID token has to say.
type Expected struct {
	Issuer, Client, Nonce string
	Now                   time.Time
	// AccessToken is what came with it, whose hash it may have.
	AccessToken string
	// Since is when the provider was asked to ask for a proof anew; zero if it was not.
	Since time.Time
}

// Claims are what an ID token says.
type Claims struct {
	Subject  string // who it is, for the provider, for ever (Core, section 2)
	Session  string // of the provider, "" if it says none
	Proven   time.Time
	Username string
	Name     string
	Email    string
	Verified bool // the address, as the provider says
	All      map[string]any
}

// ErrKey says that no key that is known made the signature: the provider may have others by now.
var ErrKey = errors.New("it is signed with a key that the provider does not give out")

// ReadIDToken verifies an ID token that came from the token endpoint.
func ReadIDToken(raw string, keys []jose.JSONWebKey, e Expected) (c Claims, err error) {
	payload, algorithm, err := verify(raw, keys, "JWT", "")
	if err != nil {
		return c, err
	}
	t, all, err := readToken(payload)
	if err != nil {
		return c, err
	}
	if err := t.addressed(e.Issuer, e.Client, e.Now); err != nil {
		return c, err
	}
	switch {
	case t.Subject == "" || len(t.Subject) > 255:
		return c, errors.New("it does not say who it is about")
	case e.Nonce == "" || subtle.ConstantTimeCompare([]byte(t.Nonce), []byte(e.Nonce)) != 1:
		return c, errors.New("it answers another question (nonce)")
	case t.AtHash != "" && subtle.ConstantTimeCompare([]byte(t.AtHash), []byte(halfHash(algorithm, e.AccessToken))) != 1:
		return c, errors.New("it came with another access token (at_hash)")
	case !e.Since.IsZero() && (t.AuthTime.Time.IsZero() || t.AuthTime.Before(e.Since.Add(-Skew))):
		return c, errors.New("the provider has not asked for a proof anew (auth_time)")
	case t.AuthTime.After(e.Now.Add(Skew)):
		return c, errors.New("the proof was made in the future (auth_time)")
	}
	return Claims{t.Subject, t.Session, t.AuthTime.Time, t.Username, t.Name, t.Email, bool(t.Verified), all}, nil
}

// A LogoutToken says that somebody has signed out at the provider.
type LogoutToken struct {
	ID      string
	Subject string // "" for whoever has the session
	Session string // "" for all of the subject
	Until   time.Time
}

// logoutEvent is what a logout token says that it is (Back-Channel Logout 1.0, section 2.4).
const logoutEvent = "http://schemas.openid.net/event/backchannel-logout"

// ReadLogoutToken verifies a logout token (Back-Channel Logout 1.0, section 2.6).
func ReadLogoutToken(raw string, keys []jose.JSONWebKey, issuer, client string, now time.Time) (l LogoutToken, err error) {
	payload, _, err := verify(raw, keys, "JWT", "logout+jwt")
	if err != nil {
		return l, err
	}
	t, all, err := readToken(payload)
	if err != nil {
		return l, err
	}
	if err := t.addressed(issuer, client, now); err != nil {
		return l, err
	}
	events, _ := all["events"].(map[string]any)
	_, isLogout := events[logoutEvent].(map[string]any)
	_, hasNonce := all["nonce"]
	switch {
	case !isLogout || hasNonce:
		return l, errors.New("it is no logout token")
	case t.Subject == "" && t.Session == "":
		return l, errors.New("it does not say who has signed out")
	case t.ID == "":
		return l, errors.New("it has no number (jti)")
	}
	return LogoutToken{t.ID, t.Subject, t.Session, t.Expires.Time}, nil
}

// verify returns what a token says whose signature one of the keys has made (RFC 7515), and with which algorithm. Its typ, if it
// has one, is one of those given.
func verify(raw string, keys []jose.JSONWebKey, types ...string) (payload []byte, algorithm string, err error) {
	if len(raw) > 64<<10 {
		return nil, "", errors.New("it is too long")
	}
	signed, err := jose.ParseSignedCompact(raw, Algorithms)
	if err != nil {
		return nil, "", fmt.Errorf("it cannot be read, or is signed in no way that is taken: %w", err)
	}
	header := signed.Signatures[0].Header
	if kind, _ := header.ExtraHeaders[jose.HeaderType].(string); !slices.ContainsFunc(types,
		func(t string) bool { return strings.EqualFold(kind, t) }) && kind != "" {
		return nil, "", fmt.Errorf("it is a %q", brief.Cut(kind, 100))
	}
	for i := range keys {
		k := &keys[i]
		if header.KeyID != "" && k.KeyID != header.KeyID || k.Use != "" && k.Use != "sig" || k.Algorithm != "" &&
			k.Algorithm != header.Algorithm || !k.IsPublic() || !k.Valid() {
			continue
		}
		if payload, err := signed.Verify(k.Key); err == nil {
			return payload, header.Algorithm, nil
		}
		if header.KeyID != "" {
			return nil, "", errors.New("its signature is wrong")
		}
	}
	return nil, "", ErrKey
}

// token are the claims that are looked at (RFC 7519, section 4.1; Core, sections 2 and 5.1).
type token struct {
	Issuer   string   `json:"iss"`
	Subject  string   `json:"sub"`
	Audience audience `json:"aud"`
	Party    string   `json:"azp"`
	Expires  moment   `json:"exp"`
	NotYet   moment   `json:"nbf"`
	Issued   moment   `json:"iat"`
	AuthTime moment   `json:"auth_time"`
	Nonce    string   `json:"nonce"`
	AtHash   string   `json:"at_hash"`
	ID       string   `json:"jti"`
	Session  string   `json:"sid"`
	Username string   `json:"preferred_username"`
	Name     string   `json:"name"`
	Email    string   `json:"email"`
	Verified yes      `json:"email_verified"`
}

func readToken(payload []byte) (t token, all map[string]any, err error) {
	if err := exact.Unmarshal(payload, &t); err == nil {
		err = exact.Unmarshal(payload, &all)
		return t, all, err
	} else {
		return t, nil, fmt.Errorf("what it says cannot be read: %w", err)
	}
}

// addressed reports whether a token is from an issuer for a client, now.
func (t *token) addressed(issuer, client string, now time.Time) error {
	switch {
	case t.Issuer != issuer:
		return fmt.Errorf("it is from %q, and not from %q", brief.Cut(t.Issuer, 100), issuer)
	case !slices.Contains(t.Audience, client):
		return errors.New("it is for another site (aud)")
	case len(t.Audience) > 1 && t.Party == "", t.Party != "" && t.Party != client:
		return errors.New("it was given to another site (azp)")
	case t.Expires.IsZero() || !now.Before(t.Expires.Add(Skew)):
		return errors.New("it is too old (exp)")
	case t.Issued.IsZero() || t.Issued.After(now.Add(Skew)) || t.NotYet.After(now.Add(Skew)):
		return errors.New("it is from the future (iat, nbf)")
	}
	return nil
}

// halfHash is the left half of the hash of a token by the hash of the signature's algorithm, in base64url (Core, section 3.1.3.6).
func halfHash(algorithm, token string) string {
	var sum []byte
	switch {
	case strings.HasSuffix(algorithm, "256"):
		s := sha256.Sum256([]byte(token))
		sum = s[:]
	case strings.HasSuffix(algorithm, "384"):
		s := sha512.Sum384([]byte(token))
		sum = s[:]
	default: // also EdDSA with Ed25519, which hashes with SHA-512
		s := sha512.Sum512([]byte(token))
		sum = s[:]
	}
	return base64.RawURLEncoding.EncodeToString(sum[:len(sum)/2])
}

// audience is one name, or a list of them.
type audience []string

func (a *audience) UnmarshalJSON(text []byte) error {
	var one string
	if err := json.Unmarshal(text, &one); err == nil {
		*a = audience{one}
		return nil
	}
	return json.Unmarshal(text, (*[]string)(a))
}

// moment is a time in seconds since 1970 (RFC 7519, section 2, NumericDate).
type moment struct{ time.Time }

func (m *moment) UnmarshalJSON(text []byte) error {
	var seconds float64
	if err := json.Unmarshal(text, &seconds); err != nil {
		return err
	}
	if seconds < 0 || seconds > 1<<40 || math.IsNaN(seconds) {
		return errors.New("a time is out of range")
	}
	m.Time = time.UnixMilli(int64(seconds * 1000))
	return nil
}

// yes is true, or the text "true", as some providers write it; everything else is no.
type yes bool

func (y *yes) UnmarshalJSON(text []byte) error {
	*y = string(text) == "true" || string(text) == `"true"`
	return nil
}
