package people

import (
	"context"
	"crypto/hmac"
	"crypto/rand"
	"crypto/sha256"
	"encoding/base64"
	"errors"
	"fmt"
	"time"

	"ostiarius/core/account"
	kind "ostiarius/core/activity"
	"ostiarius/core/policy"
	"ostiarius/core/secret"
	"ostiarius/core/session"
	"ostiarius/core/throttle"
	"ostiarius/service/hashing"
	"ostiarius/store"
)

// ErrWrong says that name and password do not belong together. Whether there is such an
// account is not said.
var ErrWrong = errors.New("name or password is wrong")

// ErrDisabled says that the password was right, but the account is disabled.
var ErrDisabled = errors.New("the account is disabled")

// An Origin is from where somebody signs in.
type Origin struct {
	Network string // the client's address
	Agent   string // the User-Agent header
	Before  string // the token that the browser brought, if any; its session ends
	Device  string // the mark of a browser that has signed in before, if any
}

// A SignedIn is what a sign-in has led to.
type SignedIn struct {
	Token      string // of the session
	Device     string // by which the browser is known from now on
	Visitor    policy.Visitor
	Remembered bool          // the session outlasts the browser
	Lasts      time.Duration // how long a remembered session lasts; 0 for no end
}

// SignIn makes a session for whoever has this name, or e-mail address, and password. The
// error is ErrWrong, ErrDisabled, hashing.ErrBusy or *throttle.Slow, or says that the service failed.
//
// It takes the same time, and answers the same, whether or not there is such an account.
func (r *Register) SignIn(ctx context.Context, name, password string, from Origin, remember bool) (SignedIn, error) {
	a, hash, err := r.prove(ctx, kind.SignInFailed, name, password, from)
	if err != nil {
		return SignedIn{}, err
	}
	now := r.now()
	token, s := r.newSession(a, from, now)
	s.Remembered = remember
	var before *secret.TokenHash
	if h, _, ok := r.sessions.current(from.Before, now); ok {
		before = &h
	}
	err = r.store.AddSession(ctx, s, hash, before, store.Event{At: now, Kind: kind.SignIn, Account: a.Name, Actor: a.Name, Network: from.Network})
	if errors.Is(err, store.ErrNone) {
		return SignedIn{}, errors.Join(ErrWrong, r.store.Record(ctx, store.Event{At: now, Kind: kind.SignInFailed, Account: a.Name, Network: from.Network, Detail: "account changed meanwhile"}))
	}
	if err != nil {
		return SignedIn{}, err
	}
	if before != nil {
		r.sessions.drop(*before)
	}
	if better := r.hashing.Better(ctx, hash, password); better != "" && r.store.Rehash(ctx, a.ID, hash, better) == nil {
		hash = better
	}
	return SignedIn{
		Token: token, Device: r.mark(a, hash), Visitor: visitorOf(a, s, now),
		Remembered: remember, Lasts: r.book().SessionsFor(a.Roles(now)).Remembered,
	}, nil
}

func (r *Register) newSession(a *account.Account, from Origin, now time.Time) (string, *session.Session) {
	token, hash := secret.NewToken()
	return token, &session.Session{
		Hash: hash, Account: a.ID, MadeAt: now, SeenAt: now, ProvedAt: now,
		Network: from.Network, Agent: cut(from.Agent, 300), Rights: session.Rights(a.Roles(now)),
	}
}

// prove finds the account that has this name and password, and the hash of the password.
// Failures are recorded under the kind that is given.
func (r *Register) prove(ctx context.Context, failed kind.Kind, name, password string, from Origin) (*account.Account, string, error) {
	keys := signInKeys(name)
	a, hash, err := r.store.AccountBySignIn(context.WithoutCancel(ctx), keys) // a try has begun
	if err != nil && !errors.Is(err, store.ErrNone) {
		return nil, "", err
	}
	return a, hash, r.try(ctx, failed, keys, a, hash, password, from)
}

// try takes a try at the password of an account, nil for a name that nobody has. It counts from
// its beginning, whatever becomes of the client, in one place whatever the way: only the right
// password takes it back, and an answer that nobody could be looked at.
func (r *Register) try(ctx context.Context, failed kind.Kind, keys store.Keys, a *account.Account, hash, password string, from Origin) error {
	limits := r.limits(keys, a, hash, from)
	if wait := r.limiter.Try(r.now(), limits...); wait > 0 {
		r.activity.Add(store.Event{At: r.now(), Kind: kind.SignInSlowed, Account: nameOf(a), Network: from.Network, Detail: "next try in " + wait.Round(time.Second).String()})
		return &throttle.Slow{Wait: wait}
	}
	var hashes []string
	if hash != "" { // no account, or one without a password: the same work for both
		hashes = []string{hash}
	}
	right, err := r.hashing.Compare(ctx, hashes, 1, password)
	if errors.Is(err, hashing.ErrBusy) {
		r.limiter.TakeBack(limits...)
	}
	if err != nil {
		return err
	}
	fail := func(reason string, answer error) error {
		// Also for a client that has hung up.
		return errors.Join(answer, r.store.Record(context.WithoutCancel(ctx), store.Event{At: r.now(), Kind: failed, Account: nameOf(a), Network: from.Network, Detail: reason}))
	}
	switch {
	case a == nil:
		return fail("unknown account", ErrWrong)
	case hash == "":
		return fail("no password is set yet", ErrWrong)
	case right == "":
		return fail("wrong password", ErrWrong)
	}
	r.limiter.Succeeded(limits...)
	if a.Disabled || r.endings.Bars(a.ID) {
		return fail("account disabled", ErrDisabled)
	}
	return nil
}

// mark makes the mark by which a browser is known to have signed in to an account. It ends
// with the password.
func (r *Register) mark(a *account.Account, hash string) string {
	nonce := make([]byte, 16)
	rand.Read(nonce)
	return base64.RawURLEncoding.EncodeToString(append(nonce, r.seal(nonce, a, hash)...))
}

func (r *Register) seal(nonce []byte, a *account.Account, hash string) []byte {
	h := hmac.New(sha256.New, r.device)
	fmt.Fprintf(h, "%x %d %s", nonce, a.ID, hash)
	return h.Sum(nil)
}

func (r *Register) knows(mark string, a *account.Account, hash string) bool {
	raw, err := base64.RawURLEncoding.Strict().DecodeString(mark)
	return err == nil && len(raw) == 16+sha256.Size && hmac.Equal(raw[16:], r.seal(raw[:16], a, hash))
}

func nameOf(a *account.Account) string {
	if a == nil {
		return "" // what was typed may be a password
	}
	return a.Name
}

func cut(s string, n int) string {
	if len(s) > n {
		return s[:n]
	}
	return s
}
