package people

import (
	"context"
	"crypto/hmac"
	"crypto/rand"
	"crypto/sha256"
	"encoding/base64"
	"errors"
	"fmt"
	"strings"
	"time"

	"ostiarius/core/account"
	kind "ostiarius/core/activity"
	"ostiarius/core/policy"
	"ostiarius/core/secret"
	"ostiarius/core/session"
	"ostiarius/core/throttle"
	"ostiarius/service/hashing"
	"ostiarius/service/mistake"
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

// signInKeys reads what somebody typed as name: a name, an e-mail address, or nonsense,
// which no account has.
func signInKeys(typed string) (keys store.Keys) {
	typed = strings.TrimSpace(typed)
	var err error
	if keys.Name, err = account.Key(typed); err != nil {
		keys.Name = "\x00" + cut(strings.ToLower(typed), 200)
	}
	if keys.Email, err = account.EmailKey(typed); err != nil {
		keys.Email = ""
	}
	return keys
}

// limits returns by what a try at a password is slowed. From one network, a name and an address of
// e-mail count by themselves, in the form in which they are looked up, however they are spelled:
// were they to count together only where they belong to one account, that would tell whether they
// do. Over all networks an account counts as itself, whatever the way.
//
// A browser that has brought the right password before counts by itself alone: strangers in the
// same network, or many from elsewhere, cannot keep its owner out.
func (r *Register) limits(keys store.Keys, a *account.Account, hash string, from Origin) []throttle.Key {
	if a != nil && r.knows(from.Device, a, hash) {
		return []throttle.Key{{Name: "device " + from.Device, Rule: throttle.Pair}}
	}
	network, typed := throttle.NetworkNamed(from.Network), "name "+keys.Name
	if keys.Email != "" {
		typed = "address " + keys.Email
	}
	who := typed
	if a != nil {
		who = fmt.Sprintf("account %d", a.ID)
	}
	return []throttle.Key{
		{Name: "pair " + typed + " " + network, Rule: throttle.Pair},
		{Name: "network " + network, Rule: throttle.Network},
		{Name: who, Rule: throttle.Account},
	}
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

// reprove takes the password of somebody who is signed in.
func (r *Register) reprove(ctx context.Context, failed kind.Kind, token, password string, from Origin) (*session.Session, *account.Account, string, error) {
	hash, _, ok := r.sessions.current(token, r.now())
	if !ok {
		return nil, nil, "", ErrWrong
	}
	begun := context.WithoutCancel(ctx)
	s, a, err := r.load(begun, hash)
	if errors.Is(err, store.ErrNone) {
		return nil, nil, "", ErrWrong
	}
	if err != nil {
		return nil, nil, "", err
	}
	a, kept, err := r.find(begun, a.Name)
	if err != nil {
		return nil, nil, "", err
	}
	if err := r.try(ctx, failed, signInKeys(a.Name), a, kept, password, from); err != nil {
		return nil, nil, "", err
	}
	return s, a, kept, nil
}

// ProveAgain takes the password of somebody who is signed in, notes in the session that it
// was typed, and gives it another token; nil if it has just got one. The error is ErrWrong if the password is not
// theirs or the session has ended, or hashing.ErrBusy or *throttle.Slow.
func (r *Register) ProveAgain(ctx context.Context, token, password string, from Origin) (*Renewal, error) {
	s, a, _, err := r.reprove(ctx, kind.ProofFailed, token, password, from)
	if err != nil {
		return nil, err
	}
	now := r.now()
	if _, old, _ := r.sessions.current(token, now); old != nil {
		return nil, nil // the browser has got a fresh token meanwhile; this one leads to no other
	}
	next, hash := secret.NewToken()
	_, err = r.sessions.renew(s, hash, now, func() error {
		return r.store.SetProved(ctx, s.Hash, hash, now, store.Event{At: now, Kind: kind.ProvenAgain, Account: a.Name, Actor: a.Name, Network: from.Network})
	})
	if errors.Is(err, store.ErrNone) {
		return nil, ErrWrong
	}
	if err != nil {
		return nil, err
	}
	return &Renewal{Token: next, Remembered: s.Remembered, Lasts: r.book().SessionsFor(a.Roles(now)).Remembered}, nil
}

// ChangePassword gives somebody who is signed in another password, ends all of their
// sessions, and makes a new one for this browser. The error is ErrWrong if the old password
// is not theirs, a *mistake.Error if the new one cannot be taken, or hashing.ErrBusy or *throttle.Slow.
func (r *Register) ChangePassword(ctx context.Context, token, old, password string, from Origin) (SignedIn, error) {
	s, a, verified, err := r.reprove(ctx, kind.PasswordChangeFailed, token, old, from)
	if err != nil {
		return SignedIn{}, err
	}
	if err := r.checkPassword(password, a); err != nil {
		return SignedIn{}, err
	}
	hash, err := r.hashing.Hash(ctx, password)
	if err != nil {
		return SignedIn{}, err
	}
	now := r.now()
	fresh, next := r.newSession(a, from, now)
	next.Remembered = s.Remembered
	err = r.store.ChangePassword(ctx, verified, hash, next, store.Event{At: now, Kind: kind.PasswordChanged, Account: a.Name, Actor: a.Name, Network: from.Network})
	r.forget(a.ID)
	if errors.Is(err, store.ErrNone) {
		return SignedIn{}, ErrWrong
	}
	if err != nil {
		return SignedIn{}, err
	}
	return SignedIn{
		Token: fresh, Device: r.mark(a, hash), Visitor: visitorOf(a, next, now),
		Remembered: next.Remembered, Lasts: r.book().SessionsFor(a.Roles(now)).Remembered,
	}, nil
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

// How long a link to set a password lasts.
const linkLasts = 72 * time.Hour

// Link makes a link with which an account's password can be set once, and returns its token
// and when it ends.
func (r *Register) Link(ctx context.Context, actor, name string) (token string, until time.Time, err error) {
	a, _, err := r.find(ctx, name)
	if err != nil {
		return "", until, err
	}
	if a.Disabled {
		return "", until, mistake.Invalid("%s is disabled; enable it first", a.Name)
	}
	token, hash := secret.NewToken()
	until = r.now().Add(linkLasts)
	err = r.store.AddLink(ctx, hash, a.ID, until, r.event(kind.LinkMade, a, actor, "to set a password, until "+until.UTC().Format(time.RFC3339)))
	return token, until, err
}

// LinkedAccount returns the name of the account that a link is for, and false if the link
// was used, has ended or never was.
func (r *Register) LinkedAccount(ctx context.Context, token string) (string, bool, error) {
	hash, ok := secret.HashToken(token)
	if !ok {
		return "", false, nil
	}
	a, err := r.store.AccountByLink(ctx, hash, r.now())
	if errors.Is(err, store.ErrNone) {
		return "", false, nil
	}
	if err != nil {
		return "", false, err
	}
	return a.Name, true, nil
}

// UseLink sets the password of the account that a link is for; the link has then ended. The
// error is ErrWrong if it had ended before, or a *mistake.Error about the password.
func (r *Register) UseLink(ctx context.Context, token, password, network string) error {
	hash, ok := secret.HashToken(token)
	if !ok {
		return ErrWrong
	}
	a, err := r.store.AccountByLink(ctx, hash, r.now())
	if errors.Is(err, store.ErrNone) {
		return ErrWrong
	}
	if err != nil {
		return err
	}
	if err := r.checkPassword(password, a); err != nil {
		return err
	}
	hashed, err := r.hashing.Hash(ctx, password)
	if err != nil {
		return err
	}
	err = r.store.UseLink(ctx, hash, a.ID, hashed, store.Event{At: r.now(), Kind: kind.PasswordSet, Account: a.Name, Actor: a.Name, Network: network, Detail: "with a link"})
	r.forget(a.ID)
	if errors.Is(err, store.ErrNone) {
		return ErrWrong
	}
	return err
}
