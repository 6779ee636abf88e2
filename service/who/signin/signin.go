// Package signin is where people prove who they are: signing in, proving again, and how those are
// slowed who try passwords out.
package signin

import (
	"context"
	"crypto/hmac"
	"crypto/rand"
	"crypto/sha256"
	"encoding/base64"
	"errors"
	"fmt"
	"log/slog"
	"sync/atomic"
	"time"

	"ostiarius/core/account"
	kind "ostiarius/core/activity"
	"ostiarius/core/factor"
	"ostiarius/core/joining"
	"ostiarius/core/message"
	"ostiarius/core/throttle"
	"ostiarius/core/words"
	"ostiarius/service/base/ending"
	"ostiarius/service/base/hashing"
	"ostiarius/service/base/known"
	"ostiarius/service/keep/activity"
	"ostiarius/service/keep/letters"
	"ostiarius/service/who/factors"
	"ostiarius/service/who/people"
	"ostiarius/service/who/sessions"
	"ostiarius/store"
)

// ErrWrong says that name and password do not belong together. Whether there is such an
// account is not said.
var ErrWrong = errors.New("name or password is wrong")

// ErrDisabled says that the password was right, but the account is disabled.
var ErrDisabled = errors.New("the account is disabled")

// NotYet says that the password was right for somebody who wants to join and is not in yet. To whoever does not tell it
// apart it is ErrWrong.
type NotYet struct{ State joining.State }

func (n *NotYet) Error() string { return "there is no account yet: " + string(n.State) }

// Is makes it ErrWrong.
func (n *NotYet) Is(target error) bool { return target == ErrWrong }

var errNotYet = errors.New("the account is not there yet")

// Options are what an Entrance needs.
type Options struct {
	Store    *store.Store
	Now      func() time.Time
	Hashing  *hashing.Pool
	Limiter  *throttle.Limiter // of tries
	Places   *known.Places
	Endings  *ending.List
	Activity *activity.Log
	People   *people.Register
	Letters  *letters.Letters
	Sessions *sessions.Records
	Factors  *factors.Factors
	Log      *slog.Logger
}

// Tries are how many tries to sign in came to what, since the start.
type Tries struct{ Right, Wrong, Slowed int64 }

// Tries returns how many tries came to what.
func (d *Entrance) Tries() Tries { return Tries{d.right.Load(), d.wrong.Load(), d.slowed.Load()} }

// An Entrance is where people prove who they are.
type Entrance struct {
	right, wrong, slowed atomic.Int64

	o      Options
	device []byte // the key of the marks by which a browser is known
	first  first
	half   halves
}

// New returns an Entrance of the records in o.Store. The error says that they cannot be read.
func New(o Options) (*Entrance, error) {
	device, err := o.Store.Secret(context.Background(), "device")
	return &Entrance{o: o, device: device}, err
}

// A SignedIn is what a sign-in has led to.
type SignedIn struct {
	sessions.Begun
	Device   string         // by which the browser is known from now on
	Language words.Language // in which the owner of the account reads; "" for not known
	Known    string         // by which the browser is not asked for a second factor; "" for nothing
	KnownFor time.Duration
}

// SignIn makes a session for whoever has this name, or e-mail address, and password. The
// error is ErrWrong, ErrDisabled, *Second, hashing.ErrBusy or *throttle.Slow, or says that the service failed.
//
// It takes the same time, and answers the same, whether or not there is such an account.
func (d *Entrance) SignIn(ctx context.Context, name, password string, from sessions.Origin, remember bool) (SignedIn, error) {
	a, hash, err := d.prove(ctx, name, password, from)
	if err != nil {
		return SignedIn{}, err
	}
	if err := d.secondFor(ctx, a, factor.Of(factor.Password), from, remember, nil); err != nil {
		return SignedIn{}, err
	}
	in, err := d.begin(ctx, a, factor.Of(factor.Password), from, remember, "")
	if errors.Is(err, store.ErrNone) {
		return SignedIn{}, errors.Join(ErrWrong,
			d.o.Store.Record(ctx, store.Activity{
				At: d.o.Now(), Kind: kind.SignInFailed, Account: a.Name, AccountID: a.ID, Network: from.Network, Detail: "account changed meanwhile",
			}))
	}
	if err == nil {
		d.Improve(ctx, a, hash, password) // if not now, then when they come again
	}
	return in, err
}

// begin makes a session for somebody who has shown enough, and tells them if their browser was not seen before. The error is
// store.ErrNone if the account has changed meanwhile.
func (d *Entrance) begin(ctx context.Context, a *account.Account, by factor.Set, from sessions.Origin, remember bool,
	detail string) (SignedIn, error) {
	var mails []message.Message
	if !a.SignedIn.IsZero() && !d.Knows(from.Device, a) {
		mails = d.o.Letters.SignedIn(a, from.Network, from.Agent, from.Language)
	}
	begun, err := d.o.Sessions.Begin(ctx, a, by, from, remember, d.event(kind.SignIn, a, from, detail), mails...)
	if err != nil {
		return SignedIn{}, err
	}
	return SignedIn{Begun: begun, Device: d.Mark(a, by), Language: a.Language}, nil
}

// Enter makes a session for somebody who has just made an account with a password.
func (d *Entrance) Enter(ctx context.Context, a *account.Account, from sessions.Origin, detail string) (SignedIn, error) {
	begun, err := d.o.Sessions.Begin(ctx, a, factor.Of(factor.Password), from, false, d.event(kind.SignIn, a, from, detail))
	return SignedIn{Begun: begun, Device: d.Mark(a, factor.Of(factor.Password)), Language: a.Language}, err
}

func (d *Entrance) event(what kind.Kind, a *account.Account, from sessions.Origin, detail string) store.Activity {
	return store.Activity{At: d.o.Now(), Kind: what, Account: a.Name, AccountID: a.ID, Actor: a.Name, Network: from.Network, Detail: detail}
}

// Improve replaces the hash of a password that was right just now, if it was made with less work than
// is usual by now.
func (d *Entrance) Improve(ctx context.Context, a *account.Account, hash, password string) error {
	better := d.o.Hashing.Better(ctx, hash, password)
	if better == "" {
		return nil
	}
	return d.o.Store.Rehash(ctx, a.ID, hash, better)
}

// Prove finds the account that has this name, or e-mail address, and password, and the hash of the
// password, where nothing else can be shown. The errors are those of SignIn, and ErrSecond for an account of which more is asked.
func (d *Entrance) Prove(ctx context.Context, name, password string, from sessions.Origin) (*account.Account, string, error) {
	a, hash, err := d.prove(ctx, name, password, from)
	if err == nil && d.o.Factors.Asks(a) {
		err = errors.Join(ErrSecond,
			d.o.Store.Record(context.WithoutCancel(ctx),
				store.Activity{
					At: d.o.Now(), Kind: kind.SignInFailed, Account: a.Name, AccountID: a.ID, Network: from.Network,
					Detail: "with HTTP Basic, which has no second factor",
				}))
	}
	return a, hash, err
}

func (d *Entrance) prove(ctx context.Context, name, password string, from sessions.Origin) (*account.Account, string, error) {
	keys := Keys(name)
	begun := context.WithoutCancel(ctx) // a try has begun
	look := d.o.Endings.Look()
	a, hash, err := d.o.Store.AccountBySignIn(begun, keys)
	if err != nil && !errors.Is(err, store.ErrNone) {
		return nil, "", err
	}
	var pending store.Application
	if a == nil {
		if pending, err = d.o.Store.ApplicationByKey(begun, keys.Name, d.o.Now()); err != nil && !errors.Is(err, store.ErrNone) {
			return nil, "", err
		}
		hash = pending.Hash
	}
	err = d.try(ctx, kind.SignInFailed, found{look, keys, a, hash}, password, from)
	if errors.Is(err, errNotYet) {
		err = &NotYet{pending.State}
	}
	return a, hash, err
}

// found is what was found under a name.
type found struct {
	look    ending.Look // from before it was read
	keys    store.Keys
	account *account.Account // nil if nobody has the name
	hash    string
}

// try takes a try at the password of what was found. It counts from its beginning, whatever becomes of the client, in
// one place whatever the way: only the right password takes it back, and an answer that nobody could be looked at.
func (d *Entrance) try(ctx context.Context, failed kind.Kind, is found, password string, from sessions.Origin) error {
	a, hash := is.account, is.hash
	limits := d.limits(context.WithoutCancel(ctx), is.keys, a, from)
	if wait := d.o.Limiter.Try(d.o.Now(), limits...); wait > 0 {
		d.slowed.Add(1)
		d.o.Activity.Add(store.Activity{
			At: d.o.Now(), Kind: kind.SignInSlowed, Account: nameOf(a), Network: from.Network,
			Detail: "next try in " + wait.Round(time.Second).String(),
		})
		return &throttle.Slow{Wait: wait}
	}
	defer d.o.Limiter.Over(limits...)
	var hashes []string
	if hash != "" { // no account, or one without a password: the same work for both
		hashes = []string{hash}
	}
	right, err := d.o.Hashing.Compare(ctx, hashes, 1, password)
	if errors.Is(err, hashing.ErrBusy) {
		d.o.Limiter.TakeBack(limits...)
	}
	if err != nil {
		return err
	}
	fail := func(reason string, answer error) error {
		d.wrong.Add(1)
		// By a name that is an account's only: people type passwords into the wrong field.
		d.o.Log.Warn(string(failed), "account", nameOf(a), "network", from.Network, "reason", reason)
		// Also for a client that has hung up.
		return errors.Join(answer,
			d.o.Store.Record(context.WithoutCancel(ctx),
				store.Activity{At: d.o.Now(), Kind: failed, Account: nameOf(a), Network: from.Network, Detail: reason}))
	}
	switch {
	case a == nil && right != "":
		d.o.Limiter.Succeeded(limits...)
		return fail("not an account yet", errNotYet)
	case a == nil:
		return fail("unknown account", ErrWrong)
	case hash == "":
		return fail("no password is set yet", ErrWrong)
	case right == "":
		return fail("wrong password", ErrWrong)
	}
	d.o.Limiter.Succeeded(limits...)
	if a.Disabled || is.look.Bars(a.ID) {
		return fail("account disabled", ErrDisabled)
	}
	d.right.Add(1)
	d.o.Places.Right(context.WithoutCancel(ctx), store.PlaceOfAccount(a.ID), networkOf(from))
	return nil
}

// Mark makes the mark by which a browser is known in which these factors of an account were shown. It ends
// with the proofs of the account.
func (d *Entrance) Mark(a *account.Account, shown factor.Set) string {
	nonce := make([]byte, 16, 16+sha256.Size)
	rand.Read(nonce)
	return base64.RawURLEncoding.EncodeToString(append(nonce, d.seal(nonce, a, shown&second != 0)...))
}

// The factors that are a second one beside a password.
var second = factor.Of(factor.Passkey, factor.Code)

func (d *Entrance) seal(nonce []byte, a *account.Account, withSecond bool) []byte {
	h := hmac.New(sha256.New, d.device)
	fmt.Fprintf(h, "%x %d %d", nonce, a.ID, a.Proofs)
	if withSecond {
		fmt.Fprint(h, " with a second factor")
	}
	return h.Sum(nil)
}

// Knows reports whether a browser brings a mark of an account that is still valid.
func (d *Entrance) Knows(mark string, a *account.Account) bool {
	return d.marked(mark, a, false) || d.marked(mark, a, true)
}

// knowsSecond reports whether a browser brings a mark that was given for a second factor of an account. Whoever has only the
// password can have any number of marks of the other kind.
func (d *Entrance) knowsSecond(mark string, a *account.Account) bool { return d.marked(mark, a, true) }

func (d *Entrance) marked(mark string, a *account.Account, withSecond bool) bool {
	raw, err := base64.RawURLEncoding.Strict().DecodeString(mark)
	return err == nil && len(raw) == 16+sha256.Size && hmac.Equal(raw[16:], d.seal(raw[:16], a, withSecond))
}

func nameOf(a *account.Account) string {
	if a == nil {
		return "" // what was typed may be a password
	}
	return a.Name
}
