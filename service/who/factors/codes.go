package factors

import (
	"context"
	"crypto/hmac"
	"crypto/sha256"
	"encoding/base64"
	"encoding/binary"
	"errors"
	"fmt"
	"time"

	"rsc.io/qr"

	"ostiarius/core/account"
	kind "ostiarius/core/activity"
	"ostiarius/core/factor"
	"ostiarius/core/onetime"
	"ostiarius/core/throttle"
	"ostiarius/service/base/mistake"
	"ostiarius/service/who/sessions"
	"ostiarius/store"
)

// How long somebody may take to set something up, or to answer a challenge.
const (
	setUpWithin  = 15 * time.Minute
	answerWithin = 5 * time.Minute
)

// A Fresh is a secret for one-time codes that is not set up yet: its owner types the first code of it.
type Fresh struct {
	Text    string // of the secret, to be typed
	Address string // for apps on the same device
	Picture string // a data URL of the picture that an app reads
	Sealed  string // what comes back with the first code
}

// NewCode returns a secret for one-time codes of an account.
func (o *Factors) NewCode(a *account.Account) (Fresh, error) { return o.fresh(a, onetime.NewSecret()) }

// SameCode returns what NewCode has returned, for a form that was filled in wrongly; the error is a *mistake.Error if that is too long ago.
func (o *Factors) SameCode(a *account.Account, sealed string) (Fresh, error) {
	secret, err := o.unseal(a, sealed)
	if err != nil {
		return Fresh{}, err
	}
	return o.fresh(a, secret)
}

func (o *Factors) fresh(a *account.Account, secret []byte) (Fresh, error) {
	f := Fresh{Text: onetime.Text(secret), Address: onetime.Address(secret, o.o.Book().Site, a.Name), Sealed: o.seal(a, secret)}
	picture, err := qr.Encode(f.Address, qr.M)
	if err != nil {
		return f, err
	}
	picture.Scale = 5
	f.Picture = "data:image/png;base64," + base64.StdEncoding.EncodeToString(picture.PNG())
	return f, nil
}

// seal has a secret come back from its owner's browser as it was, and soon. They have seen it, so it is not hidden.
func (o *Factors) seal(a *account.Account, secret []byte) string {
	raw := binary.BigEndian.AppendUint64(nil, uint64(o.o.Now().Add(setUpWithin).UnixMilli()))
	raw = append(raw, secret...)
	return base64.RawURLEncoding.EncodeToString(append(raw, o.mark(purposeOf("code", a), a.ID, raw)...))
}

func (o *Factors) unseal(a *account.Account, sealed string) ([]byte, error) {
	raw, err := base64.RawURLEncoding.Strict().DecodeString(sealed)
	if err != nil || len(raw) <= 8+sha256.Size {
		return nil, errTooLate
	}
	body, mark := raw[:len(raw)-sha256.Size], raw[len(raw)-sha256.Size:]
	if !hmac.Equal(mark, o.mark(purposeOf("code", a), a.ID, body)) || o.o.Now().UnixMilli() >= int64(binary.BigEndian.Uint64(body)) {
		return nil, errTooLate
	}
	return body[8:], nil
}

var errTooLate = mistake.Invalid("that took too long; please begin anew")

// purposeOf is what something is marked for that ends with the proofs of an account.
func purposeOf(what string, a *account.Account) string { return fmt.Sprintf("%s %d", what, a.Proofs) }

func (o *Factors) mark(what string, account int64, raw []byte) []byte {
	h := hmac.New(sha256.New, o.key)
	fmt.Fprintf(h, "%s %d %x", what, account, raw)
	return h.Sum(nil)
}

// SetCode sets up one-time codes: with the secret that NewCode has made, and the first code of it. It returns the codes to keep, if
// these are the first that the account has. The error is ErrWrong for another code, a *mistake.Error if it took too long, or
// *throttle.Slow.
func (o *Factors) SetCode(ctx context.Context, a *account.Account, sealed, typed string, from sessions.Origin) (kept []string, err error) {
	secret, err := o.unseal(a, sealed)
	if err != nil {
		return nil, err
	}
	now := o.o.Now()
	step, ok := onetime.Find(secret, typed, now, 0)
	if !ok {
		return nil, ErrWrong
	}
	kept, hashes, err := o.firstKept(ctx, a)
	if err != nil {
		return nil, err
	}
	err = o.o.Store.SetCode(ctx, a, store.Code{Secret: secret, MadeAt: now, UsedAt: now, Step: step}, hashes,
		o.o.Letters.FactorsChanged(a, from.Language, "factors.told-code"), o.event(kind.FactorAdded, a, a.Name, from, "one-time codes"))
	if errors.Is(err, store.ErrNone) {
		err = errTooLate
	}
	return kept, err
}

// firstKept makes codes to keep for an account that has none left.
func (o *Factors) firstKept(ctx context.Context, a *account.Account) (kept, hashes []string, err error) {
	left, err := o.o.Store.KeptLeft(ctx, a.ID)
	if err == nil && left == 0 {
		kept, hashes = onetime.NewKept()
	}
	return kept, hashes, err
}

// RemoveCode takes the one-time codes of an account away, for its owner.
func (o *Factors) RemoveCode(ctx context.Context, a *account.Account, from sessions.Origin) error {
	err := o.o.Store.RemoveCode(ctx, a.ID, o.o.Letters.FactorsChanged(a, from.Language, "factors.told-code-gone"),
		o.event(kind.FactorRemoved, a, a.Name, from, "one-time codes"))
	if errors.Is(err, store.ErrNone) {
		return mistake.Unknown("there are no one-time codes")
	}
	return err
}

// NewKept gives an account other codes to keep, in place of those before.
func (o *Factors) NewKept(ctx context.Context, a *account.Account, from sessions.Origin) ([]string, error) {
	if a.Enrolled&factor.Of(factor.Code, factor.Passkey) == 0 {
		return nil, mistake.Invalid("codes to keep go with a passkey or one-time codes; set up one of them first")
	}
	kept, hashes := onetime.NewKept()
	return kept, o.o.Store.SetKept(ctx, a.ID, hashes, o.o.Letters.FactorsChanged(a, from.Language, "factors.told-kept"),
		o.event(kind.FactorAdded, a, a.Name, from, "codes to keep"))
}

// Code takes a code of an account: one that its app shows, or one that was kept. It counts once. The error is ErrWrong,
// or *throttle.Slow: there are so few codes that they could be tried, so all tries count for the account. Browsers that
// are known to be its owner's, since a second factor was shown in them before, have one counter of their own: so others
// keep the owner out nowhere.
func (o *Factors) Code(ctx context.Context, a *account.Account, typed string, known bool, from sessions.Origin) error {
	ctx = context.WithoutCancel(ctx) // a try has begun
	limit := throttle.Key{Name: fmt.Sprintf("code of account %d", a.ID), Rule: throttle.Pair}
	if known {
		limit.Name = fmt.Sprintf("code of account %d in its owner's browsers", a.ID)
	}
	if wait := o.o.Limiter.Try(o.o.Now(), limit); wait > 0 {
		o.o.Activity.Add(o.event(kind.SignInSlowed, a, "", from, "a code; next try in "+wait.Round(time.Second).String()))
		return &throttle.Slow{Wait: wait}
	}
	defer o.o.Limiter.Over(limit)
	err := o.take(ctx, a, typed, from)
	switch {
	case err == nil:
		o.o.Limiter.Succeeded(limit)
		return nil
	case errors.Is(err, store.ErrNone):
		return errors.Join(ErrWrong, o.o.Store.Record(ctx, o.event(kind.FactorFailed, a, "", from, "a code that is wrong, or was used before")))
	}
	o.o.Limiter.TakeBack(limit)
	return err
}

func (o *Factors) take(ctx context.Context, a *account.Account, typed string, from sessions.Origin) error {
	now := o.o.Now()
	if !onetime.IsCode(typed) {
		left, err := o.o.Store.KeptLeft(ctx, a.ID)
		if err != nil {
			return err
		}
		if left == 0 {
			return store.ErrNone
		}
		detail := fmt.Sprintf("%d left", left-1)
		mails := o.o.Letters.FactorsChanged(a, from.Language, "factors.told-kept-used", "n", fmt.Sprint(left-1))
		err = o.o.Store.UseKept(ctx, a.ID, onetime.HashKept(typed), mails, o.event(kind.KeptCodeUsed, a, a.Name, from, detail))
		return err
	}
	c, err := o.o.Store.Code(ctx, a.ID)
	if err != nil {
		return err
	}
	step, ok := onetime.Find(c.Secret, typed, now, c.Step)
	if !ok {
		return store.ErrNone
	}
	return o.o.Store.UseCode(ctx, a.ID, step, now)
}
