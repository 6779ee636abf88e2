package elsewhere

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/go-jose/go-jose/v4"
	"golang.org/x/oauth2"

	"ostiarius/core/exact"
	"ostiarius/core/openid"
	"ostiarius/core/policy"
)

// A provider is one that the policy names, with what it has said of itself.
type provider struct {
	o    *Options
	name string
	at   string // where it describes itself

	mu      sync.Mutex
	issuer  string
	is      openid.Provider
	keys    []jose.JSONWebKey
	read    time.Time // when it was asked; zero for never
	keysAt  time.Time
	failing time.Time // when it was asked in vain
	why     error
}

// How long what a provider says of itself is taken as it was, how often it is asked for other keys, and after what time it is asked
// again that could not be reached.
const (
	describedFor = time.Hour
	keysEvery    = 10 * time.Second
	failsFor     = 5 * time.Second
)

// errUnreachable says that a provider does not answer as one does.
type errUnreachable struct{ error }

// described returns what a provider says of itself, and its keys. It asks for everybody, so nobody breaks that off by hanging up.
func (p *provider) described(ctx context.Context, issuer string) (openid.Provider, []jose.JSONWebKey, error) {
	ctx = context.WithoutCancel(ctx)
	p.mu.Lock()
	defer p.mu.Unlock()
	now := p.o.Now()
	if p.issuer != issuer {
		p.issuer, p.read, p.why = issuer, time.Time{}, nil
	}
	if !p.read.IsZero() && now.Sub(p.read) < describedFor && !p.read.After(now) {
		return p.is, p.keys, nil
	}
	if p.why != nil && now.Sub(p.failing) < failsFor && !p.failing.After(now) { // nobody waits once more for the same
		return p.is, nil, p.why
	}
	is, keys, err := p.ask(ctx, issuer)
	if err != nil {
		p.failing, p.why = now, err
		if !p.read.IsZero() && now.Sub(p.read) < 24*describedFor {
			return p.is, p.keys, nil // what it said before is better than nothing; its signatures are looked at in any case
		}
		return is, nil, err
	}
	p.is, p.keys, p.read, p.keysAt, p.why = is, keys, now, now, nil
	return is, keys, nil
}

// ask asks a provider for its description and its keys.
func (p *provider) ask(ctx context.Context, issuer string) (is openid.Provider, keys []jose.JSONWebKey, err error) {
	at := p.at
	if at == "" {
		at = issuer
	}
	text, err := p.get(ctx, strings.TrimSuffix(at, "/")+"/.well-known/openid-configuration", "") // Discovery, section 4
	if err != nil {
		return is, nil, errUnreachable{err}
	}
	if is, err = openid.ReadProvider(text, issuer); err != nil {
		return is, nil, err
	}
	keys, err = p.askKeys(ctx, is.Keys)
	return is, keys, err
}

func (p *provider) askKeys(ctx context.Context, at string) ([]jose.JSONWebKey, error) {
	text, err := p.get(ctx, at, "")
	if err != nil {
		return nil, errUnreachable{err}
	}
	var set struct {
		Keys []json.RawMessage `json:"keys"`
	}
	if err := exact.Unmarshal(text, &set); err != nil {
		return nil, fmt.Errorf("the keys of the provider cannot be read: %w", err)
	}
	var keys []jose.JSONWebKey
	for _, raw := range set.Keys {
		var k jose.JSONWebKey
		if k.UnmarshalJSON(raw) == nil { // one of a kind that is not known is another's business (RFC 7517, section 5)
			keys = append(keys, k)
		}
	}
	return keys, nil
}

// freshKeys returns the keys that a provider has now, if it was not asked for them a moment ago.
func (p *provider) freshKeys(ctx context.Context) ([]jose.JSONWebKey, error) {
	p.mu.Lock()
	defer p.mu.Unlock()
	now := p.o.Now()
	if now.Sub(p.keysAt) < keysEvery && !p.keysAt.After(now) {
		return p.keys, nil
	}
	p.keysAt = now
	keys, err := p.askKeys(context.WithoutCancel(ctx), p.is.Keys)
	if err == nil {
		p.keys = keys
	}
	return p.keys, err
}

// The most that a provider says at a time.
const mostSaid = 1 << 20

// get fetches what is at an address of a provider, with an access token if there is one.
func (p *provider) get(ctx context.Context, at, token string) ([]byte, error) {
	r, err := http.NewRequestWithContext(ctx, http.MethodGet, at, nil)
	if err != nil {
		return nil, err
	}
	r.Header.Set("Accept", "application/json")
	if token != "" {
		r.Header.Set("Authorization", "Bearer "+token)
	}
	answer, err := p.o.client.Do(r)
	if err != nil {
		return nil, fmt.Errorf("it does not answer: %w", withoutAddress(err))
	}
	defer answer.Body.Close()
	if answer.StatusCode != http.StatusOK {
		return nil, fmt.Errorf("it answers %s", answer.Status)
	}
	text, err := io.ReadAll(io.LimitReader(answer.Body, mostSaid+1))
	if err == nil && len(text) > mostSaid {
		err = errors.New("it says more than can be")
	}
	return text, err
}

// config is how codes are asked for and exchanged.
func (p *provider) config(d *policy.DeclaredElsewhere, is openid.Provider, back string) *oauth2.Config {
	style := oauth2.AuthStyleInHeader // client_secret_basic, which is what there is if nothing is said (Discovery, section 3)
	secret := p.o.Secrets[p.name]
	if secret == "" || len(is.TokenAuthentication) > 0 && !slices.Contains(is.TokenAuthentication, "client_secret_basic") {
		style = oauth2.AuthStyleInParams
	}
	return &oauth2.Config{
		ClientID: d.Client, ClientSecret: secret, RedirectURL: back, Scopes: append([]string{"openid", "profile", "email"}, d.Scopes...),
		Endpoint: oauth2.Endpoint{AuthURL: is.Authorization, TokenURL: is.Token, AuthStyle: style},
	}
}

// bounded reads no more of an answer than a provider says at a time, also where somebody else's code reads it.
type bounded struct{ next http.RoundTripper }

func (b bounded) RoundTrip(r *http.Request) (*http.Response, error) {
	answer, err := b.next.RoundTrip(r)
	if err == nil {
		answer.Body = struct {
			io.Reader
			io.Closer
		}{io.LimitReader(answer.Body, mostSaid+1), answer.Body}
	}
	return answer, err
}

// newClient returns what speaks to providers. It follows nobody elsewhere.
func newClient() *http.Client {
	return &http.Client{
		Transport: bounded{&http.Transport{
			Proxy: http.ProxyFromEnvironment, MaxIdleConnsPerHost: 2, IdleConnTimeout: time.Minute, TLSHandshakeTimeout: 5 * time.Second,
			ResponseHeaderTimeout: 5 * time.Second,
		}},
		Timeout: 8 * time.Second, CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse },
	}
}
