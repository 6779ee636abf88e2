package signin

import (
	"context"
	"crypto/subtle"
	"sync"
	"time"

	"ostiarius/core/policy"
	"ostiarius/core/secret"
	"ostiarius/service/base/mistake"
	"ostiarius/service/who/people"
	"ostiarius/service/who/sessions"
)

// While nobody has the role that administers, whoever commands the service can have a link with which
// somebody makes the first account that has it. It is good once and for an hour, is kept in memory alone, and
// as soon as somebody has the role there is none.

// How long a link for the first steward lasts.
const firstLasts = time.Hour

// first is the link that is good now.
type first struct {
	mu    sync.Mutex
	hash  secret.TokenHash
	until time.Time // zero if there is none
}

var errSteward = mistake.Taken("somebody has the role %s already; they can add others, in the console or with `ostiarius people add "+
	"NAME --role %s`", policy.Steward, policy.Steward)

// FirstLink makes a link for the first steward, and returns its token and when it ends. One that was made
// before ends with that. The error is a *mistake.Error if there is a steward.
func (d *Entrance) FirstLink(ctx context.Context) (token string, until time.Time, err error) {
	d.first.mu.Lock()
	defer d.first.mu.Unlock()
	if err := d.noSteward(ctx); err != nil {
		return "", until, err
	}
	token, d.first.hash = secret.NewToken()
	d.first.until = d.o.Now().Add(firstLasts)
	return token, d.first.until, nil
}

func (d *Entrance) noSteward(ctx context.Context) error {
	_, stewards, err := d.o.People.List(ctx, people.Query{Role: policy.Steward, Limit: 1})
	if err == nil && stewards > 0 {
		err = errSteward
	}
	return err
}

// IsFirst reports whether a link for the first steward is good.
func (d *Entrance) IsFirst(ctx context.Context, token string) (bool, error) {
	d.first.mu.Lock()
	defer d.first.mu.Unlock()
	return d.isFirst(ctx, token)
}

func (d *Entrance) isFirst(ctx context.Context, token string) (bool, error) {
	hash, ok := secret.HashToken(token)
	if !ok || !d.o.Now().Before(d.first.until) || subtle.ConstantTimeCompare(hash[:], d.first.hash[:]) != 1 {
		return false, nil
	}
	switch err := d.noSteward(ctx); err {
	case nil:
		return true, nil
	case errSteward:
		return false, nil
	default:
		return false, err
	}
}

// First makes the first steward's account with a link, and signs them in; the link has then ended. The error
// is people.ErrLink if it had ended before, a *mistake.Error about the name or the password, or
// hashing.ErrBusy.
func (d *Entrance) First(ctx context.Context, token, name, password string, from sessions.Origin) (SignedIn, error) {
	d.first.mu.Lock()
	defer d.first.mu.Unlock()
	good, err := d.isFirst(ctx, token)
	if err != nil {
		return SignedIn{}, err
	}
	if !good {
		return SignedIn{}, people.ErrLink
	}
	if password == "" {
		return SignedIn{}, mistake.Invalid("the password is missing")
	}
	a, err := d.o.People.Add(ctx, "first link", people.NewAccount{Name: name, Password: password, Roles: []string{policy.Steward}})
	if err != nil {
		return SignedIn{}, err
	}
	d.first.until = time.Time{}
	return d.Enter(ctx, a, from, "with the first link")
}
