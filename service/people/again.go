package people

import (
	"context"
	"errors"

	"ostiarius/core/account"
	kind "ostiarius/core/activity"
	"ostiarius/core/secret"
	"ostiarius/core/session"
	"ostiarius/store"
)

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
