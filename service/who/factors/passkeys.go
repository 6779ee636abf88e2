package factors

import (
	"context"
	"crypto/hmac"
	"crypto/rand"
	"encoding/base64"
	"encoding/binary"
	"errors"
	"fmt"
	"net/netip"
	"strings"
	"time"

	"ostiarius/core/account"
	kind "ostiarius/core/activity"
	"ostiarius/core/exact"
	"ostiarius/core/passkey"
	"ostiarius/core/throttle"
	"ostiarius/service/base/mistake"
	"ostiarius/service/who/sessions"
	"ostiarius/store"
)

// A Page is where a passkey is made or used.
type Page struct {
	Origin string // such as https://marram.example
	Host   string // without its port
}

// CanHave reports whether browsers have passkeys for the host of a page: it has to have a name.
func (p Page) CanHave() bool {
	_, err := netip.ParseAddr(strings.Trim(p.Host, "[]"))
	return err != nil && p.Host != ""
}

// A Question is what a page's script hands to the browser, in the form of the standard's JSON (Web Authentication Level 3, sections
// 5.1.8 and 5.1.9).
type Question map[string]any

// The most passkeys that an account may have, and the longest name of one.
const (
	mostPasskeys = 20
	longestName  = 60
)

// AskNew returns the question to make a passkey for an account.
func (o *Factors) AskNew(ctx context.Context, a *account.Account, page Page) (Question, error) {
	held, err := o.o.Store.Passkeys(ctx, a.ID)
	if err != nil {
		return nil, err
	}
	algorithms := []map[string]any{}
	for _, algorithm := range passkey.Algorithms {
		algorithms = append(algorithms, map[string]any{"type": "public-key", "alg": algorithm})
	}
	return Question{
		"rp":               map[string]any{"id": page.Host, "name": o.o.Book().Site},
		"user":             map[string]any{"id": encode(o.handle(a.ID)), "name": a.Name, "displayName": a.Name},
		"challenge":        encode(o.challenge(purposeOf("make", a), a.ID)),
		"pubKeyCredParams": algorithms, "timeout": answerWithin.Milliseconds(), "excludeCredentials": describe(held, page),
		"authenticatorSelection": map[string]any{"residentKey": "preferred", "userVerification": "preferred"}, "attestation": "none",
	}, nil
}

// AskAny returns the question for a passkey of whoever is there.
func (o *Factors) AskAny(page Page) Question {
	return Question{
		"challenge": encode(o.challenge("sign in", 0)), "timeout": answerWithin.Milliseconds(), "rpId": page.Host,
		"userVerification": "required", "allowCredentials": []any{},
	}
}

// SomePasskeys reports whether anybody has a passkey for the host of a page.
func (o *Factors) SomePasskeys(ctx context.Context, page Page) (bool, error) {
	return o.o.Store.PasskeysFor(ctx, page.Host)
}

// AskOf returns the question for a passkey of an account; nil if it has none for the host of the page.
func (o *Factors) AskOf(ctx context.Context, a *account.Account, page Page) (Question, error) {
	held, err := o.o.Store.Passkeys(ctx, a.ID)
	if err != nil {
		return nil, err
	}
	allowed := describe(held, page)
	if len(allowed) == 0 {
		return nil, nil
	}
	return Question{"challenge": encode(o.challenge(purposeOf("show", a), a.ID)), "timeout": answerWithin.Milliseconds(),
		"rpId": page.Host, "userVerification": "preferred", "allowCredentials": allowed}, nil
}

func describe(held []store.Passkey, page Page) []map[string]any {
	all := []map[string]any{}
	for _, p := range held {
		if p.Party == page.Host {
			all = append(all, map[string]any{"type": "public-key", "id": p.ID})
		}
	}
	return all
}

// An answer is what the browser gives, in the form of the standard's JSON.
type answer struct {
	ID       string `json:"id"`
	Response struct {
		ClientData    binaryText `json:"clientDataJSON"`
		Attestation   binaryText `json:"attestationObject"`
		Authenticator binaryText `json:"authenticatorData"`
		Signature     binaryText `json:"signature"`
		Handle        binaryText `json:"userHandle"`
	} `json:"response"`
}

type binaryText []byte

func (b *binaryText) UnmarshalText(text []byte) (err error) {
	*b, err = base64.RawURLEncoding.DecodeString(strings.TrimRight(string(text), "="))
	return err
}

func readAnswer(text string) (a answer, err error) {
	if err := exact.Unmarshal([]byte(text), &a); err != nil {
		return a, err
	}
	id, err := base64.RawURLEncoding.DecodeString(strings.TrimRight(a.ID, "="))
	a.ID = encode(id)
	return a, err
}

func encode(raw []byte) string { return base64.RawURLEncoding.EncodeToString(raw) }

// handle is the name by which authenticators know an account: nobody can read from it who that is.
func (o *Factors) handle(id int64) []byte { return o.mark("handle", id, nil) }

// challenge makes a challenge for a purpose, and an account if it is for one. It is random, tells until when it counts, and is marked,
// so that nothing has to be kept of the questions that strangers are asked.
func (o *Factors) challenge(purpose string, id int64) []byte {
	raw := make([]byte, 16, 64)
	rand.Read(raw)
	raw = binary.BigEndian.AppendUint64(raw, uint64(o.o.Now().Add(answerWithin).UnixMilli()))
	return append(raw, o.mark(purpose, id, raw)...)
}

// isOurs reports whether a challenge was made for a purpose, and not long ago.
func (o *Factors) isOurs(challenge []byte, purpose string, id int64) bool {
	if len(challenge) != 24+32 {
		return false
	}
	raw, now := challenge[:24], o.o.Now()
	until := time.UnixMilli(int64(binary.BigEndian.Uint64(raw[16:])))
	return hmac.Equal(challenge[24:], o.mark(purpose, id, raw)) && now.Before(until)
}

// spend reports whether a challenge is answered for the first time.
func (o *Factors) spend(challenge []byte) bool {
	o.mu.Lock()
	defer o.mu.Unlock()
	now := o.o.Now()
	for c, until := range o.spent {
		if !now.Before(until) {
			delete(o.spent, c)
		}
	}
	if _, again := o.spent[string(challenge)]; again {
		return false
	}
	o.spent[string(challenge)] = now.Add(answerWithin)
	return true
}

// ceremony is what an answer has to belong to. The error is passkey.ErrChallenge if it is for no question that was asked of this
// account for this purpose a moment ago.
func (o *Factors) ceremony(clientData []byte, purpose string, id int64, page Page) (passkey.Ceremony, error) {
	challenge, err := passkey.ChallengeOf(clientData)
	if err != nil || !o.isOurs(challenge, purpose, id) {
		return passkey.Ceremony{}, passkey.ErrChallenge
	}
	return passkey.Ceremony{Challenge: challenge, Origin: page.Origin, Party: page.Host}, nil
}

// Add adds a passkey that the browser of an account's owner has made, under a name. It returns codes to keep if the account had
// none. The error is a *mistake.Error.
func (o *Factors) Add(ctx context.Context, a *account.Account, page Page, text, name string, from sessions.Origin) (kept []string,
	err error) {
	said, err := readAnswer(text)
	if err != nil {
		return nil, mistake.Invalid("the answer of the browser cannot be read")
	}
	c, err := o.ceremony(said.Response.ClientData, purposeOf("make", a), a.ID, page)
	if err != nil {
		return nil, mistake.Of(err)
	}
	made, err := passkey.Register(said.Response.ClientData, said.Response.Attestation, c)
	if err != nil {
		return nil, mistake.Of(err)
	}
	if said.ID != encode(made.ID) {
		return nil, mistake.Invalid("the browser and the authenticator speak of two passkeys")
	}
	if !o.spend(c.Challenge) {
		return nil, mistake.Of(passkey.ErrChallenge)
	}
	held, err := o.o.Store.Passkeys(ctx, a.ID)
	if err != nil {
		return nil, err
	}
	if len(held) >= mostPasskeys {
		return nil, mistake.Invalid("an account has %d passkeys at most; remove one first", mostPasskeys)
	}
	if name = strings.Join(strings.Fields(name), " "); name == "" {
		name = fmt.Sprintf("passkey %d", len(held)+1)
	}
	if len(name) > longestName {
		name = strings.ToValidUTF8(name[:longestName], "")
	}
	kept, hashes, err := o.firstKept(ctx, a)
	if err != nil {
		return nil, err
	}
	err = o.o.Store.AddPasskey(ctx, a, store.Passkey{ID: said.ID, Account: a.ID, Name: name, Party: page.Host, Key: made.Key,
		Uses: made.Uses, MadeAt: o.o.Now()},
		hashes, o.o.Letters.FactorsChanged(a, from.Language, "factors.told-passkey", "name", name),
		o.event(kind.FactorAdded, a, a.Name, from, "passkey "+name))
	switch {
	case errors.Is(err, store.ErrTaken):
		return nil, mistake.Taken("this passkey is set up already")
	case errors.Is(err, store.ErrNone):
		return nil, errTooLate
	}
	return kept, err
}

// Remove takes a passkey away, for its owner.
func (o *Factors) Remove(ctx context.Context, a *account.Account, id string, from sessions.Origin) error {
	p, err := o.o.Store.Passkey(ctx, id)
	if err == nil && p.Account != a.ID {
		err = store.ErrNone
	}
	if err == nil && a.Unset {
		if last, err := o.isLastWay(ctx, a); err != nil || last {
			if err == nil {
				err = mistake.Invalid("this is the only way into the account; choose a password first, or set up another passkey")
			}
			return err
		}
	}
	if err == nil {
		err = o.o.Store.RemovePasskey(ctx, a.ID, id,
			o.o.Letters.FactorsChanged(a, from.Language, "factors.told-passkey-gone", "name", p.Name),
			o.event(kind.FactorRemoved, a, a.Name, from, "passkey "+p.Name))
	}
	if errors.Is(err, store.ErrNone) {
		return mistake.Unknown("there is no such passkey; perhaps it was removed already")
	}
	return err
}

// isLastWay reports whether the owner of an account without a password has one passkey and no account elsewhere to sign in with.
func (o *Factors) isLastWay(ctx context.Context, a *account.Account) (bool, error) {
	held, err := o.o.Store.Passkeys(ctx, a.ID)
	if err != nil || len(held) > 1 {
		return false, err
	}
	links, err := o.o.Store.ElsewhereLinks(ctx, a.ID)
	return len(links) == 0, err
}

// Show takes a passkey of an account. The error is ErrWrong, or *throttle.Slow: each wrong one is recorded.
func (o *Factors) Show(ctx context.Context, a *account.Account, page Page, text string, from sessions.Origin) error {
	limit := throttle.Key{Name: fmt.Sprintf("passkeys of account %d", a.ID), Rule: throttle.Pair}
	if wait := o.o.Limiter.Try(o.o.Now(), limit); wait > 0 {
		return &throttle.Slow{Wait: wait}
	}
	defer o.o.Limiter.Over(limit)
	shown, err := o.use(ctx, a, page, text, purposeOf("show", a), false, from)
	if err == nil && shown.ID != a.ID {
		err = ErrWrong
	}
	if err == nil {
		o.o.Limiter.Succeeded(limit)
	}
	return err
}

// SignIn finds the account of whoever shows a passkey, without a name; its owner was verified. The error is ErrWrong, or *throttle.Slow.
func (o *Factors) SignIn(ctx context.Context, page Page, text string, from sessions.Origin) (*account.Account, error) {
	limit := throttle.Key{Name: "passkeys " + throttle.NetworkNamed(from.Network), Rule: throttle.Network}
	if wait := o.o.Limiter.Try(o.o.Now(), limit); wait > 0 {
		return nil, &throttle.Slow{Wait: wait}
	}
	defer o.o.Limiter.Over(limit)
	a, err := o.use(ctx, nil, page, text, "sign in", true, from)
	if err == nil {
		o.o.Limiter.Succeeded(limit)
	}
	return a, err
}

// use takes a passkey, of an account if that is known already, and returns its account.
func (o *Factors) use(ctx context.Context, of *account.Account, page Page, text, purpose string, verified bool,
	from sessions.Origin) (*account.Account, error) {
	ctx = context.WithoutCancel(ctx)
	fail := func(a *account.Account, what kind.Kind, why string) (*account.Account, error) {
		e := store.Activity{At: o.o.Now(), Kind: what, Network: from.Network, Detail: why}
		if a != nil {
			e = o.event(what, a, "", from, why)
		}
		return nil, errors.Join(ErrWrong, o.o.Store.Record(ctx, e))
	}
	said, err := readAnswer(text)
	if err != nil {
		return fail(of, kind.FactorFailed, "the answer of the browser cannot be read")
	}
	p, err := o.o.Store.Passkey(ctx, said.ID)
	if errors.Is(err, store.ErrNone) {
		return fail(of, kind.FactorFailed, "unknown passkey")
	}
	if err != nil {
		return nil, err
	}
	a := of
	if of == nil || of.ID != p.Account {
		if of != nil {
			return fail(of, kind.FactorFailed, "the passkey of another account")
		}
		if a, err = o.o.Store.AccountByID(ctx, p.Account); err != nil {
			return nil, err
		}
	}
	subject := int64(0)
	if of != nil {
		subject = of.ID
	}
	c, err := o.ceremony(said.Response.ClientData, purpose, subject, page)
	if err == nil {
		c.Verified = verified
		if p.Party != page.Host {
			err = passkey.ErrOrigin
		}
	}
	handle := said.Response.Handle
	if err == nil && (of == nil || len(handle) > 0) && !hmac.Equal(handle, o.handle(a.ID)) {
		err = errors.New("the authenticator names another account")
	}
	var used passkey.Use
	if err == nil {
		used, err = passkey.Assert(said.Response.ClientData, said.Response.Authenticator, said.Response.Signature, p.Key, c)
	}
	if err != nil {
		return fail(a, kind.FactorFailed, "passkey "+p.Name+": "+err.Error())
	}
	if passkey.Copied(p.Uses, used.Uses) {
		return fail(a, kind.PasskeyCopied,
			fmt.Sprintf("passkey %s: its count is %d and was %d, so there may be a copy of it", p.Name, used.Uses, p.Uses))
	}
	if !o.spend(c.Challenge) {
		return fail(a, kind.FactorFailed, "passkey "+p.Name+": the same answer twice")
	}
	if err := o.o.Store.UsePasskey(ctx, p.ID, p.Uses, used.Uses, o.o.Now()); errors.Is(err, store.ErrNone) {
		return fail(a, kind.FactorFailed, "passkey "+p.Name+": it was used twice at once, or has just been removed")
	} else if err != nil {
		return nil, err
	}
	return a, nil
}
