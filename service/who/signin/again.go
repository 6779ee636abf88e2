package signin

import (
	"context"
	"errors"

	"ostiarius/core/account"
	kind "ostiarius/core/activity"
	"ostiarius/core/factor"
	"ostiarius/core/session"
	"ostiarius/service/who/sessions"
	"ostiarius/store"
)

// reprove takes the password of somebody who is signed in.
// Owner returns the account of the owner of a session, who types its password once more. The errors are those of
// ProveAgain.
func (d *Entrance) Owner(ctx context.Context, token, password string, from sessions.Origin) (*account.Account, error) {
	_, a, err := d.reprove(ctx, kind.ProofFailed, token, password, from)
	return a, err
}

func (d *Entrance) reprove(ctx context.Context, failed kind.Kind, token, password string, from sessions.Origin) (*session.Session,
	*account.Account, error) {
	begun := context.WithoutCancel(ctx)
	s, a, _, err := d.o.Sessions.Of(begun, token)
	if errors.Is(err, store.ErrNone) {
		return nil, nil, ErrWrong
	}
	if err != nil {
		return nil, nil, err
	}
	keys, look := Keys(a.Name), d.o.Endings.Look()
	a, hash, err := d.o.Store.AccountByKey(begun, keys.Name)
	if errors.Is(err, store.ErrNone) {
		return nil, nil, ErrWrong
	}
	if err != nil {
		return nil, nil, err
	}
	return s, a, d.try(ctx, failed, found{look, keys, a, hash}, password, from)
}

// ProveAgain takes the password of somebody who is signed in, notes in the session that it
// was typed, and gives it another token; nil if it has just got one. The error is ErrWrong if the password is not
// theirs or the session has ended, or hashing.ErrBusy or *throttle.Slow.
func (d *Entrance) ProveAgain(ctx context.Context, token, password string, from sessions.Origin) (*sessions.Renewal, error) {
	s, a, err := d.reprove(ctx, kind.ProofFailed, token, password, from)
	if err != nil {
		return nil, err
	}
	fresh, err := d.o.Sessions.Proved(ctx, token, factor.Password, s, a, d.event(kind.ProvenAgain, a, from, ""))
	if errors.Is(err, store.ErrNone) {
		err = ErrWrong
	}
	return fresh, err
}

// ChangePassword gives somebody who is signed in another password, ends all of their
// sessions, and makes a new one for this browser. The error is ErrWrong if the old password
// is not theirs, a *mistake.Error if the new one cannot be taken, or hashing.ErrBusy or *throttle.Slow.
func (d *Entrance) ChangePassword(ctx context.Context, token, old, password string, from sessions.Origin) (SignedIn, error) {
	s, a, err := d.reprove(ctx, kind.PasswordChangeFailed, token, old, from)
	if err != nil {
		return SignedIn{}, err
	}
	fresh, next := d.o.Sessions.Prepare(a, factor.Of(factor.Password), from, s.Remembered)
	next.Keep(s)
	err = d.o.People.ChangePassword(ctx, a, password, next, from.Language, d.event(kind.PasswordChanged, a, from, ""))
	if errors.Is(err, store.ErrNone) {
		return SignedIn{}, ErrWrong
	}
	if err != nil {
		return SignedIn{}, err
	}
	a.Proofs++ // with the new password
	return SignedIn{Begun: d.o.Sessions.Begun(fresh, next, a), Device: d.Mark(a, next.Shown.Kinds()), Language: a.Language}, nil
}
