// Package people is what the service does with accounts: one function for each thing that can be
// done to them, whoever asks for it.
package people

import (
	"context"
	"errors"
	"strings"
	"sync"
	"time"

	"ostiarius/core/account"
	kind "ostiarius/core/activity"
	"ostiarius/core/message"
	"ostiarius/core/policy"
	"ostiarius/core/secret"
	"ostiarius/core/session"
	"ostiarius/core/words"
	"ostiarius/service/base/ending"
	"ostiarius/service/base/hashing"
	"ostiarius/service/base/mistake"
	"ostiarius/service/keep/letters"
	"ostiarius/store"
)

// Options are what a Register needs.
type Options struct {
	Store   *store.Store
	Book    func() *policy.Book // the policy now in force
	Now     func() time.Time
	Hashing *hashing.Pool
	Endings *ending.List
	Letters *letters.Letters
}

// A Register is the accounts of a service, with what they are granted and the links for them.
type Register struct {
	o       Options
	leaving sync.Mutex // held while it is looked who is left
}

// New returns the Register of the records in o.Store.
func New(o Options) *Register {
	return &Register{o: o}
}

// explain makes the store's errors about the account of that name into sentences.
func explain(name string, err error) error {
	switch {
	case errors.Is(err, store.ErrNone):
		return mistake.Unknown("there is no account %q; `ostiarius people list` shows all", name)
	case errors.Is(err, store.ErrResting):
		return mistake.Taken("%q was the name of another account until recently; choose another name, or use it anyway (--anyway in "+
			"commands)", name)
	case errors.Is(err, store.ErrAlike):
		return mistake.Taken("%q looks like the name of another account; choose another name, or use it anyway (--anyway in commands)", name)
	case errors.Is(err, store.ErrTaken):
		return mistake.Taken("there is an account %q already; choose another name, or change that one", name)
	}
	return err
}

// A NewAccount is an account as it is asked for.
type NewAccount struct {
	Name     string
	Email    string
	Notes    string
	Password string // "" for none yet: then a link is needed to set one
	Roles    []string
	Until    time.Time // when the roles end; zero for never
	Anyway   bool      // the name is taken though it was another's until recently, or looks like another
}

// Add adds an account. The actor is whoever asked for it.
func (r *Register) Add(ctx context.Context, actor string, n NewAccount) (*account.Account, error) {
	name := strings.TrimSpace(n.Name)
	keys, err := KeysOf(name, n.Email)
	if err != nil {
		return nil, err
	}
	keys.Anyway = n.Anyway
	if err := mistake.Note(n.Notes); err != nil {
		return nil, err
	}
	now := r.o.Now()
	a := &account.Account{Name: name, Email: n.Email, Notes: n.Notes, MadeAt: now, MadeBy: actor}
	if !n.Until.IsZero() && !n.Until.After(now) {
		return nil, mistake.Invalid("the end of the roles, %s, is not in the future", n.Until.Format(time.RFC3339))
	}
	for _, role := range n.Roles {
		if err := r.checkRole(role); err != nil {
			return nil, err
		}
		a.Grants = append(a.Grants, account.Grant{Role: role, From: now, Until: n.Until, By: actor})
	}
	hash := ""
	if n.Password != "" {
		if err := r.CheckPassword(n.Password, a); err != nil {
			return nil, err
		}
		if hash, err = r.o.Hashing.Hash(ctx, n.Password); err != nil {
			return nil, err
		}
	}
	detail := "no roles"
	if len(n.Roles) > 0 {
		detail = "roles " + strings.Join(n.Roles, ", ")
		if !n.Until.IsZero() {
			detail += " until " + n.Until.UTC().Format(time.RFC3339)
		}
	}
	a.Unset = hash == ""
	a.ID, err = r.o.Store.AddAccount(ctx, a, keys, hash,
		store.Activity{At: now, Kind: kind.AccountAdded, Account: name, Actor: actor, Detail: detail})
	return a, explain(name, err)
}

// KeysOf returns the forms in which the names of an account are compared.
func KeysOf(name, email string) (keys store.Keys, err error) {
	if keys.Name, err = account.Key(name); err != nil {
		return keys, mistake.Of(err)
	}
	if keys.Email, err = account.EmailKey(email); err != nil {
		return keys, mistake.Of(err)
	}
	return keys, nil
}

// CheckPassword says what is wrong with a new password for an account.
func (r *Register) CheckPassword(password string, a *account.Account) error {
	if err := secret.CheckNew(password, r.context(a)...); err != nil {
		return mistake.Of(err)
	}
	return nil
}

// context are the words that somebody who guesses an account's password tries first.
func (r *Register) context(a *account.Account) []string {
	return []string{r.o.Book().Site, a.Name, a.Email, "ostiarius"}
}

// Strength estimates how strong a password would be for an account of that name.
func (r *Register) Strength(password, name string) secret.Strength {
	return secret.Estimate(password, r.context(&account.Account{Name: name})...)
}

// An Edit says what of an account is to be changed; nil leaves it.
type Edit struct {
	Name  *string
	Email *string
	Notes *string
	// Anyway says that the name is taken though it was another's until recently, or looks like another.
	Anyway bool
}

// Edit changes the details of an account.
func (r *Register) Edit(ctx context.Context, actor, name string, to Edit) (*account.Account, error) {
	var edited *account.Account
	err := r.change(ctx, name, func(a *account.Account) error {
		old := a.Name
		var changed []string
		for _, field := range []struct {
			what string
			to   *string
			in   *string
		}{{"name", to.Name, &a.Name}, {"e-mail", to.Email, &a.Email}, {"notes", to.Notes, &a.Notes}} {
			if field.to != nil && strings.TrimSpace(*field.to) != *field.in {
				*field.in = strings.TrimSpace(*field.to)
				changed = append(changed, field.what)
			}
		}
		if edited = a; len(changed) == 0 {
			return nil
		}
		keys, err := KeysOf(a.Name, a.Email)
		if err != nil {
			return err
		}
		if err := mistake.Note(a.Notes); err != nil {
			return err
		}
		e := r.event(kind.AccountChanged, a, actor, strings.Join(changed, ", "))
		if e.Account = old; old != a.Name {
			e.Detail += "; the name is now " + a.Name
		}
		keys.Anyway = to.Anyway
		err = r.o.Store.EditAccount(ctx, a, keys, r.rests(), e)
		if errors.Is(err, store.ErrResting) || errors.Is(err, store.ErrAlike) {
			return explain(a.Name, err)
		}
		if errors.Is(err, store.ErrTaken) {
			return mistake.Taken("another account has that name or e-mail address already")
		}
		return err
	})
	return edited, err
}

// A Query says which accounts are meant, and in which order. See store.AccountQuery.
type Query = store.AccountQuery

// List returns the accounts that a query means, and how many there are in all.
func (r *Register) List(ctx context.Context, q Query) ([]*account.Account, int, error) {
	q.Now = r.o.Now()
	return r.o.Store.Accounts(ctx, q)
}

// Find returns the account of that name.
func (r *Register) Find(ctx context.Context, name string) (*account.Account, error) {
	key, err := account.Key(strings.TrimSpace(name))
	if err != nil {
		return nil, mistake.Of(err)
	}
	a, _, err := r.o.Store.AccountByKey(ctx, key)
	return a, explain(name, err)
}

// change finds an account, does something to its records and makes open sessions see it
// at once.
func (r *Register) change(ctx context.Context, name string, do func(*account.Account) error) error {
	a, err := r.Find(ctx, name)
	if err != nil {
		return err
	}
	err = do(a)
	return explain(name, err)
}

// rests is until when the name of an account rests that loses it now.
func (r *Register) rests() time.Time { return r.o.Now().Add(r.o.Book().Joining.NamesRest) }

// Remove removes an account with its grants and sessions.
func (r *Register) Remove(ctx context.Context, actor, name string) error {
	return r.change(ctx, name, func(a *account.Account) error {
		return r.o.Store.RemoveAccount(ctx, a.ID, r.rests(), r.event(kind.AccountRemoved, a, actor, ""))
	})
}

// SetPassword gives an account a new password and ends its sessions.
func (r *Register) SetPassword(ctx context.Context, actor, name, password string) error {
	return r.change(ctx, name, func(a *account.Account) error {
		if err := r.CheckPassword(password, a); err != nil {
			return err
		}
		hash, err := r.o.Hashing.Hash(ctx, password)
		if err != nil {
			return err
		}
		return r.o.Store.SetPassword(ctx, a.ID, hash, r.o.Letters.Notice(a, message.PasswordChanged, ""), r.event(kind.PasswordSet, a, actor, ""))
	})
}

// ChangePassword gives an account as it was read another password, ends its sessions, and begins another,
// for its owner, who has just typed the one before. The error is store.ErrNone if that has changed since,
// or a *mistake.Error about the new one.
func (r *Register) ChangePassword(ctx context.Context, a *account.Account, password string, next *session.Session,
	in words.Language, e store.Activity) error {
	if err := r.CheckPassword(password, a); err != nil {
		return err
	}
	hash, err := r.o.Hashing.Hash(ctx, password)
	if err != nil {
		return err
	}
	return r.o.Store.ChangePassword(ctx, a.Proofs, hash, next, r.o.Letters.Notice(a, message.PasswordChanged, in), e)
}

// SetDisabled disables or enables an account. Disabling ends its sessions. The error is *ending.Unwritten
// if that counts but could not be written down yet.
func (r *Register) SetDisabled(ctx context.Context, actor, name string, disabled bool) error {
	if !disabled {
		return r.change(ctx, name, func(a *account.Account) error {
			r.o.Endings.Revoke(a.ID, "", "")
			return r.o.Store.SetDisabled(ctx, a.ID, false, r.event(kind.AccountEnabled, a, actor, ""))
		})
	}
	a, err := r.Find(ctx, name)
	if err != nil {
		return err
	}
	return explain(name, r.o.Endings.Take(ctx, ending.Ending{Account: a.ID, What: "that " + a.Name + " is disabled"},
		func(ctx context.Context) error {
			return r.o.Store.SetDisabled(ctx, a.ID, true, r.event(kind.AccountDisabled, a, actor, ""))
		}))
}

func (r *Register) event(what kind.Kind, a *account.Account, actor, detail string) store.Activity {
	return store.Activity{At: r.o.Now(), Kind: what, Account: a.Name, AccountID: a.ID, Actor: actor, Detail: detail}
}

// SetLanguage notes in which language the owner of an account reads.
func (r *Register) SetLanguage(ctx context.Context, name string, in words.Language) error {
	a, err := r.Find(ctx, name)
	if err != nil || a.Language == in {
		return err
	}
	return r.o.Store.SetLanguage(ctx, a.ID, in)
}
