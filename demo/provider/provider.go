// Package provider is a small provider of OpenID Connect, to try signing in elsewhere with: there one chooses who one is, and has
// it misbehave. It stands in for a real one and keeps nobody out.
package provider

import (
	"crypto"
	"crypto/ed25519"
	"crypto/rand"
	"crypto/sha256"
	"crypto/sha512"
	"crypto/subtle"
	_ "embed"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"html/template"
	"maps"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/go-jose/go-jose/v4"
)

// A Person is somebody who has an account there.
type Person struct {
	Subject, Username, Name, Email string
	Verified                       bool
	Groups                         []string
}

// The ways in which it can misbehave.
const (
	WrongNonce   = "wrong nonce"
	OldToken     = "old token"
	OtherSite    = "for another site"
	OtherIssuer  = "from another issuer"
	RotatedKeys  = "rotated keys"
	UnknownKey   = "a key that it does not give out"
	BadSignature = "wrong signature"
	NoSignature  = "no signature"
	WrongHash    = "wrong at_hash"
	Unproven     = "unproven address"
	OtherIss     = "another iss in the answer"
	NoIss        = "no iss in the answer"
	OldProof     = "no proof anew"
	Refuses      = "refuses"
	Slow         = "slow"
	Down         = "down"
)

// Misbehaviours are all of them, with what they are.
var Misbehaviours = []struct{ Name, About string }{
	{WrongNonce, "the token answers another question"}, {OldToken, "the token has ended"},
	{OtherSite, "the token is for another site"}, {OtherIssuer, "the token is from somebody else"},
	{RotatedKeys, "it signs with another key, and gives that out; this is no fault"},
	{UnknownKey, "it signs with a key that it does not give out"}, {BadSignature, "the signature is wrong"},
	{NoSignature, "the token is not signed"},
	{WrongHash, "the token came with another access token"}, {Unproven, "the address of who signs in is not proven"},
	{OtherIss, "the answer is another provider's"}, {NoIss, "the answer does not say whose it is"},
	{OldProof, "a proof anew is not asked for"},
	{Refuses, "who signs in is refused"}, {Slow, "it takes 20 seconds to answer"}, {Down, "it answers nothing but errors"},
}

// A Provider is a running stand-in: an http.Handler for its pages, and its state.
type Provider struct {
	Issuer string // its own name
	Base   string // where it is, if that is another address; "" for at its issuer
	Client string // the one site that it knows
	Secret string // of that; "" for none
	People []Person
	Now    func() time.Time

	mu      sync.Mutex
	faults  map[string]bool
	key     ed25519.PrivateKey
	keyID   int
	codes   map[string]grant
	tokens  map[string]Person
	mux     *http.ServeMux
	logouts []string // addresses that were led back to, the latest last
}

type grant struct {
	person                     Person
	nonce, redirect, challenge string
	authTime                   time.Time
	until                      time.Time
}

// New returns a provider of that name for one site.
func New(issuer, client, secret string, people ...Person) *Provider {
	p := &Provider{
		Issuer: issuer, Client: client, Secret: secret, People: people, Now: time.Now, faults: map[string]bool{},
		codes: map[string]grant{}, tokens: map[string]Person{},
	}
	_, p.key, _ = ed25519.GenerateKey(rand.Reader)
	p.mux = http.NewServeMux()
	p.mux.HandleFunc("GET /.well-known/openid-configuration", p.describe)
	p.mux.HandleFunc("GET /keys", p.keys)
	p.mux.HandleFunc("GET /authorize", p.choose)
	p.mux.HandleFunc("POST /authorize", p.authorize)
	p.mux.HandleFunc("POST /token", p.token)
	p.mux.HandleFunc("GET /userinfo", p.userinfo)
	p.mux.HandleFunc("GET /sign-out", p.signOut)
	p.mux.HandleFunc("GET /{$}", p.switches)
	p.mux.HandleFunc("POST /faults", p.setFaults)
	return p
}

// Misbehave makes it misbehave in some ways, and in no others.
func (p *Provider) Misbehave(how ...string) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.faults = map[string]bool{}
	for _, one := range how {
		p.faults[one] = true
	}
	if p.faults[RotatedKeys] {
		_, p.key, _ = ed25519.GenerateKey(rand.Reader)
		p.keyID++
	}
}

func (p *Provider) does(fault string) bool {
	p.mu.Lock()
	defer p.mu.Unlock()
	return p.faults[fault]
}

func (p *Provider) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	own := r.URL.Path == "/" || r.URL.Path == "/faults"
	if !own && p.does(Down) {
		http.Error(w, "This is down.", http.StatusInternalServerError)
		return
	}
	if !own && r.URL.Path != "/authorize" && p.does(Slow) {
		select {
		case <-time.After(20 * time.Second):
		case <-r.Context().Done():
			return
		}
	}
	p.mux.ServeHTTP(w, r)
}

func (p *Provider) at(path string) string {
	if p.Base != "" {
		return p.Base + path
	}
	return p.Issuer + path
}

func writeJSON(w http.ResponseWriter, status int, value any) {
	w.Header().Set("Content-Type", "application/json")
	w.Header().Set("Cache-Control", "no-store")
	w.WriteHeader(status)
	json.NewEncoder(w).Encode(value)
}

func (p *Provider) describe(w http.ResponseWriter, _ *http.Request) {
	writeJSON(w, http.StatusOK, map[string]any{
		"issuer": p.Issuer, "authorization_endpoint": p.at("/authorize"), "token_endpoint": p.at("/token"), "jwks_uri": p.at("/keys"),
		"userinfo_endpoint": p.at("/userinfo"), "end_session_endpoint": p.at("/sign-out"),
		"response_types_supported": []string{"code"}, "subject_types_supported": []string{"public"},
		"id_token_signing_alg_values_supported": []string{"EdDSA"}, "code_challenge_methods_supported": []string{"S256"},
		"authorization_response_iss_parameter_supported": true, "backchannel_logout_supported": true,
	})
}

func (p *Provider) id() string { return fmt.Sprint("key-", p.keyID) }

func (p *Provider) keys(w http.ResponseWriter, _ *http.Request) {
	p.mu.Lock()
	defer p.mu.Unlock()
	writeJSON(w, http.StatusOK,
		jose.JSONWebKeySet{Keys: []jose.JSONWebKey{{Key: p.key.Public(), KeyID: p.id(), Use: "sig", Algorithm: string(jose.EdDSA)}}})
}

//go:embed pages.html
var pages string

var templates = template.Must(template.New("pages").Parse(pages))

func (p *Provider) choose(w http.ResponseWriter, r *http.Request) {
	q := r.URL.Query()
	problem := ""
	switch {
	case q.Get("client_id") != p.Client:
		problem = "No such site is known here."
	case q.Get("response_type") != "code" || !slices.Contains(strings.Fields(q.Get("scope")), "openid"):
		problem = "The site asks for something that is not given here."
	case q.Get("code_challenge_method") != "S256" || q.Get("code_challenge") == "":
		problem = "The site has not made a code challenge."
	}
	w.Header().Set("Content-Type", "text/html; charset=utf-8")
	if problem != "" {
		w.WriteHeader(http.StatusBadRequest)
	}
	templates.ExecuteTemplate(w, "choose",
		map[string]any{"Problem": problem, "People": p.People, "Query": r.URL.RawQuery, "Again": q.Get("prompt") == "login"})
}

// authorize gives out a code for who was chosen, or refuses.
func (p *Provider) authorize(w http.ResponseWriter, r *http.Request) {
	if err := r.ParseForm(); err != nil {
		http.Error(w, "The form cannot be read.", http.StatusBadRequest)
		return
	}
	q, err := url.ParseQuery(r.PostForm.Get("query"))
	back, wrong := url.Parse(q.Get("redirect_uri"))
	if err != nil || wrong != nil || back.Host == "" || q.Get("client_id") != p.Client {
		http.Error(w, "No such site is known here.", http.StatusBadRequest)
		return
	}
	answer := back.Query()
	answer.Set("state", q.Get("state"))
	switch {
	case p.does(NoIss):
	case p.does(OtherIss):
		answer.Set("iss", "https://another.example")
	default:
		answer.Set("iss", p.Issuer)
	}
	i := slices.IndexFunc(p.People, func(one Person) bool { return one.Subject == r.PostForm.Get("subject") })
	if i < 0 || p.does(Refuses) {
		answer.Set("error", "access_denied")
	} else {
		code := rand.Text()
		at := p.Now()
		if p.does(OldProof) {
			at = at.Add(-time.Hour)
		}
		p.mu.Lock()
		p.codes[code] = grant{p.People[i], q.Get("nonce"), q.Get("redirect_uri"), q.Get("code_challenge"), at, p.Now().Add(time.Minute)}
		p.mu.Unlock()
		answer.Set("code", code)
	}
	back.RawQuery = answer.Encode()
	http.Redirect(w, r, back.String(), http.StatusSeeOther)
}

// token exchanges a code, once.
func (p *Provider) token(w http.ResponseWriter, r *http.Request) {
	refuse := func(code string) { writeJSON(w, http.StatusBadRequest, map[string]string{"error": code}) }
	if err := r.ParseForm(); err != nil {
		refuse("invalid_request")
		return
	}
	client, secret, basic := r.BasicAuth()
	if basic { // RFC 6749, section 2.3.1
		client, _ = url.QueryUnescape(client)
		secret, _ = url.QueryUnescape(secret)
	} else {
		client, secret = r.PostForm.Get("client_id"), r.PostForm.Get("client_secret")
	}
	p.mu.Lock()
	g, ok := p.codes[r.PostForm.Get("code")]
	delete(p.codes, r.PostForm.Get("code"))
	p.mu.Unlock()
	sum := sha256.Sum256([]byte(r.PostForm.Get("code_verifier")))
	switch {
	case client != p.Client || subtle.ConstantTimeCompare([]byte(secret), []byte(p.Secret)) != 1:
		refuse("invalid_client")
		return
	case r.PostForm.Get("grant_type") != "authorization_code" || !ok || p.Now().After(g.until) ||
		r.PostForm.Get("redirect_uri") != g.redirect || base64.RawURLEncoding.EncodeToString(sum[:]) != g.challenge:
		refuse("invalid_grant")
		return
	}
	access := rand.Text()
	p.mu.Lock()
	p.tokens[access] = g.person
	p.mu.Unlock()
	writeJSON(w, http.StatusOK,
		map[string]any{"access_token": access, "token_type": "Bearer", "expires_in": 60, "id_token": p.idToken(g, access)})
}

func (p *Provider) idToken(g grant, access string) string {
	now := p.Now()
	half := sha512.Sum512([]byte(access))
	said := map[string]any{
		"iss": p.Issuer, "aud": p.Client, "sub": g.person.Subject, "iat": now.Unix(), "exp": now.Add(5 * time.Minute).Unix(),
		"auth_time": g.authTime.Unix(), "nonce": g.nonce, "sid": "at-" + g.person.Subject,
		"at_hash": base64.RawURLEncoding.EncodeToString(half[:32]), "preferred_username": g.person.Username, "name": g.person.Name,
		"email": g.person.Email, "email_verified": g.person.Verified && !p.does(Unproven), "groups": g.person.Groups,
	}
	for fault, change := range map[string]map[string]any{
		WrongNonce: {"nonce": "another"}, OldToken: {"exp": now.Add(-time.Hour).Unix(), "iat": now.Add(-2 * time.Hour).Unix()},
		OtherSite: {"aud": "another"}, OtherIssuer: {"iss": "https://another.example"}, WrongHash: {"at_hash": "another"},
	} {
		if p.does(fault) {
			maps.Copy(said, change)
		}
	}
	return p.Sign("JWT", said)
}

// Sign signs what it says as a token of a type.
func (p *Provider) Sign(kind string, said map[string]any) string {
	p.mu.Lock()
	defer p.mu.Unlock()
	text, _ := json.Marshal(said)
	if p.faults[NoSignature] {
		return base64.RawURLEncoding.EncodeToString([]byte(`{"alg":"none"}`)) + "." + base64.RawURLEncoding.EncodeToString(text) + "."
	}
	key, id := crypto.Signer(p.key), p.id()
	if p.faults[UnknownKey] || p.faults[BadSignature] {
		_, key, _ = ed25519.GenerateKey(rand.Reader)
		if p.faults[UnknownKey] {
			id = "another"
		}
	}
	signer, err := jose.NewSigner(jose.SigningKey{Algorithm: jose.EdDSA, Key: jose.JSONWebKey{Key: key, KeyID: id}},
		(&jose.SignerOptions{}).WithType(jose.ContentType(kind)))
	if err != nil {
		return ""
	}
	signed, err := signer.Sign(text)
	if err != nil {
		return ""
	}
	raw, _ := signed.CompactSerialize()
	return raw
}

// LogoutToken says that a person has signed out (Back-Channel Logout 1.0, section 2.4).
func (p *Provider) LogoutToken(subject string) string {
	now := p.Now()
	return p.Sign("logout+jwt",
		map[string]any{
			"iss": p.Issuer, "aud": p.Client, "sub": subject, "iat": now.Unix(), "exp": now.Add(time.Minute).Unix(), "jti": rand.Text(),
			"events": map[string]any{"http://schemas.openid.net/event/backchannel-logout": map[string]any{}},
		})
}

func (p *Provider) userinfo(w http.ResponseWriter, r *http.Request) {
	p.mu.Lock()
	person, ok := p.tokens[strings.TrimPrefix(r.Header.Get("Authorization"), "Bearer ")]
	p.mu.Unlock()
	if !ok {
		w.Header().Set("WWW-Authenticate", `Bearer error="invalid_token"`)
		w.WriteHeader(http.StatusUnauthorized)
		return
	}
	writeJSON(w, http.StatusOK,
		map[string]any{
			"sub": person.Subject, "name": person.Name, "email": person.Email, "email_verified": person.Verified, "groups": person.Groups,
		})
}

// signOut ends what there is here, which is nothing, and leads back.
func (p *Provider) signOut(w http.ResponseWriter, r *http.Request) {
	back, err := url.Parse(r.URL.Query().Get("post_logout_redirect_uri"))
	if err != nil || back.Host == "" || r.URL.Query().Get("client_id") != p.Client {
		http.Error(w, "You are signed out here.", http.StatusOK)
		return
	}
	p.mu.Lock()
	p.logouts = append(p.logouts, back.String())
	p.mu.Unlock()
	http.Redirect(w, r, back.String(), http.StatusSeeOther)
}

// SignedOut are the addresses to which people were led back who signed out, the latest last.
func (p *Provider) SignedOut() []string {
	p.mu.Lock()
	defer p.mu.Unlock()
	return slices.Clone(p.logouts)
}

func (p *Provider) switches(w http.ResponseWriter, _ *http.Request) {
	type shown struct {
		Name, About string
		On          bool
	}
	var all []shown
	for _, m := range Misbehaviours {
		all = append(all, shown{m.Name, m.About, p.does(m.Name)})
	}
	w.Header().Set("Content-Type", "text/html; charset=utf-8")
	templates.ExecuteTemplate(w, "switches", map[string]any{"All": all, "People": p.People})
}

func (p *Provider) setFaults(w http.ResponseWriter, r *http.Request) {
	if err := r.ParseForm(); err == nil {
		p.Misbehave(r.PostForm["fault"]...)
	}
	http.Redirect(w, r, "/", http.StatusSeeOther)
}
