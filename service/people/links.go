package people

import (
	"context"
	"errors"
	"time"

	kind "ostiarius/core/activity"
	"ostiarius/core/secret"
	"ostiarius/service/mistake"
	"ostiarius/store"
)

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
