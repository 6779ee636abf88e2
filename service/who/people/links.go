package people

import (
	"context"
	"errors"
	"time"

	"ostiarius/core/account"
	kind "ostiarius/core/activity"
	"ostiarius/core/message"
	"ostiarius/core/secret"
	"ostiarius/core/words"
	"ostiarius/service/base/chores"
	"ostiarius/service/base/mistake"
	"ostiarius/store"
)

// ErrLink says that a link was used, has ended or never was.
var ErrLink = errors.New("the link has ended")

// How long a link to set a password lasts.
const linkLasts = 72 * time.Hour

// Link makes a link with which an account's password can be set once, and returns its token
// and when it ends.
func (r *Register) Link(ctx context.Context, actor, name string) (token string, until time.Time, err error) {
	a, err := r.forLink(ctx, name)
	if err != nil {
		return "", until, err
	}
	token, l := r.newLink(a)
	return token, l.Until, r.o.Store.AddLink(ctx, l, nil, r.linkMade(a, actor, l, "to set a password"))
}

func (r *Register) newLink(a *account.Account) (token string, l store.NewLink) {
	token, hash := secret.NewToken()
	return token, store.NewLink{Hash: hash, Account: a.ID, Until: r.o.Now().Add(linkLasts)}
}

func (r *Register) linkMade(a *account.Account, actor string, l store.NewLink, what string) store.Activity {
	return r.event(kind.LinkMade, a, actor, what+", until "+l.Until.UTC().Format(time.RFC3339))
}

// MailLink sends a link with which an account's password can be set once to its address.
func (r *Register) MailLink(ctx context.Context, actor, name string) error {
	a, err := r.forLink(ctx, name)
	if err != nil {
		return err
	}
	if a.Email == "" {
		return mistake.Invalid("%s has no address to send it to", a.Name)
	}
	token, l := r.newLink(a)
	l.Mailed = true
	mails := r.o.Letters.To(a, message.Password, "")
	mails[0] = mails[0].With(r.LinkPath(token), l.Until)
	err = r.o.Store.AddLink(ctx, l, mails, r.linkMade(a, actor, l, "to set a password, by mail"))
	return err
}

// forLink returns the account that a link is to be made for.
func (r *Register) forLink(ctx context.Context, name string) (*account.Account, error) {
	a, err := r.Find(ctx, name)
	if err == nil && a.Disabled {
		err = mistake.Invalid("%s is disabled; enable it first", a.Name)
	}
	return a, err
}

// LinkedAccount returns the name of the account that a link is for, and false if the link
// was used, has ended or never was.
func (r *Register) LinkedAccount(ctx context.Context, token string) (string, bool, error) {
	hash, ok := secret.HashToken(token)
	if !ok {
		return "", false, nil
	}
	a, err := r.o.Store.AccountByLink(ctx, hash, r.o.Now())
	if errors.Is(err, store.ErrNone) {
		return "", false, nil
	}
	if err != nil {
		return "", false, err
	}
	return a.Name, true, nil
}

// UseLink sets the password of the account that a link is for; the link has then ended. The
// error is ErrLink if it had ended before, or a *mistake.Error about the password.
func (r *Register) UseLink(ctx context.Context, token, password, network string, in words.Language) error {
	hash, ok := secret.HashToken(token)
	if !ok {
		return ErrLink
	}
	a, err := r.o.Store.AccountByLink(ctx, hash, r.o.Now())
	if errors.Is(err, store.ErrNone) {
		return ErrLink
	}
	if err != nil {
		return err
	}
	if err := r.CheckPassword(password, a); err != nil {
		return err
	}
	hashed, err := r.o.Hashing.Hash(ctx, password)
	if err != nil {
		return err
	}
	err = r.o.Store.UseLink(ctx, hash, a.ID, hashed, r.o.Letters.Notice(a, message.PasswordChanged, in),
		store.Activity{At: r.o.Now(), Kind: kind.PasswordSet, Account: a.Name, Actor: a.Name, Network: network, Detail: "with a link"})
	if errors.Is(err, store.ErrNone) {
		return ErrLink
	}
	return err
}

// Sweep removes the records of links that have ended.
func (r *Register) Sweep(ctx context.Context) error {
	return errors.Join(r.o.Store.SweepLinks(ctx, r.o.Now()), r.o.Store.SweepNames(ctx, r.o.Now()))
}

// LinkPath is the address, below that of the site, at which a token sets a password.
func (r *Register) LinkPath(token string) string { return r.o.Book().Prefix + "/recover?link=" + token }

// Chores is for chores.Room.
func (r *Register) Chores() []chores.Chore {
	return []chores.Chore{chores.Sweep(r.Sweep)}
}
