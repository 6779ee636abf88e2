package elsewhere

import (
	"context"
	"crypto/hmac"
	"crypto/rand"
	"crypto/sha256"
	"encoding/base64"
	"encoding/json"
	"maps"
	"time"

	"golang.org/x/oauth2"

	"ostiarius/core/account"
	"ostiarius/core/policy"
	"ostiarius/service/who/sessions"
)

// A Purpose is why somebody goes to a provider.
type Purpose string

// The purposes.
const (
	ToSignIn Purpose = "sign in"
	ToLink   Purpose = "link" // the account there with one here
	ToProve  Purpose = "prove"
)

// A way is somebody on their way to a provider and back. Their browser carries it, marked so that nobody else can have made it:
// strangers could fill any memory with ways that nobody goes to the end of. It answers nobody else's question (RFC 9700, section
// 4.7), and none twice.
type way struct {
	Provider, Issuer string
	Purpose          Purpose
	Account          int64 // that is signed in; 0 for nobody
	State            string
	Nonce            string
	Verifier         string
	Back             string // where they come back to
	Next             string
	Since            time.Time
}

// How long somebody may be on their way, or think about what they have come with; how many of the latter are kept, and of ways that
// have come to an end; and how long the address may be to which somebody goes on, since a browser has to carry it.
const (
	wayLasts    = 15 * time.Minute
	mostKept    = 20_000
	mostSpent   = 200_000
	longestNext = 1500
)

// Begin sends somebody on their way to a provider: to an address there, with a token that their browser brings back. The account is
// the one that is signed in, nil for nobody; back is where the provider sends them.
func (o *Providers) Begin(ctx context.Context, name string, purpose Purpose, a *account.Account, back, next string) (to,
	token string, err error) {
	d := policy.ElsewhereNamed(o.o.Book(), name)
	if d == nil {
		return "", "", ErrUnknown
	}
	p := o.provider(name)
	is, _, err := p.described(ctx, d.Issuer)
	if err != nil {
		return "", "", o.failed(ctx, d, nil, sessions.Origin{}, err)
	}
	if len(next) > longestNext {
		next = ""
	}
	w := way{
		Provider: name, Issuer: d.Issuer, Purpose: purpose, State: rand.Text() + rand.Text(), Nonce: rand.Text() + rand.Text(),
		Verifier: oauth2.GenerateVerifier(), Back: back, Next: next, Since: o.o.Now(),
	}
	if a != nil {
		w.Account = a.ID
	}
	options := []oauth2.AuthCodeOption{oauth2.S256ChallengeOption(w.Verifier), oauth2.SetAuthURLParam("nonce", w.Nonce)}
	if purpose == ToProve {
		options = append(options, oauth2.SetAuthURLParam("prompt", "login"), oauth2.SetAuthURLParam("max_age", "0"))
	}
	token, err = o.seal(w)
	return p.config(d, is, back).AuthCodeURL(w.State, options...), token, err
}

func (o *Providers) lasts(since time.Time) bool {
	now := o.o.Now()
	return now.Sub(since) < wayLasts && !since.After(now)
}

// seal writes a way as a browser carries it.
func (o *Providers) seal(w way) (string, error) {
	text, err := json.Marshal(w)
	if err != nil {
		return "", err
	}
	return base64.RawURLEncoding.EncodeToString(append(o.mark(text), text...)), nil
}

func (o *Providers) mark(text []byte) []byte {
	h := hmac.New(sha256.New, o.key)
	h.Write(text)
	return h.Sum(nil)
}

// take returns the way of a token, which nobody goes twice.
func (o *Providers) take(token string) (w way, ok bool) {
	raw, err := base64.RawURLEncoding.Strict().DecodeString(token)
	if err != nil || len(raw) < sha256.Size || !hmac.Equal(raw[:sha256.Size], o.mark(raw[sha256.Size:])) ||
		json.Unmarshal(raw[sha256.Size:], &w) != nil || !o.lasts(w.Since) {
		return way{}, false
	}
	o.mu.Lock()
	defer o.mu.Unlock()
	if len(o.spent) >= mostSpent {
		maps.DeleteFunc(o.spent, func(_ string, since time.Time) bool { return !o.lasts(since) })
	}
	if _, again := o.spent[w.State]; again || len(o.spent) >= mostSpent {
		return way{}, false
	}
	o.spent[w.State] = w.Since
	return w, true
}
