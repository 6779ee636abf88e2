// Package people is what the service does with accounts and sessions: one function for
// each thing that can be done to them, whoever asks for it.
package people

import (
	"context"
	"errors"
	"strings"
	"time"

	"ostiarius/core/account"
	kind "ostiarius/core/activity"
	"ostiarius/core/basic"
	"ostiarius/core/policy"
	"ostiarius/core/secret"
	"ostiarius/core/throttle"
	"ostiarius/service/activity"
	"ostiarius/service/ending"
	"ostiarius/service/hashing"
	"ostiarius/service/mistake"
	"ostiarius/store"
)

// A Register is the accounts and the sessions of a service.
type Register struct {
	store    *store.Store
	book     func() *policy.Book
	now      func() time.Time
	hashing  *hashing.Pool
	device   []byte // the key of the cookies by which a browser is known
	limiter  *throttle.Limiter
	endings  *ending.List
	activity *activity.Log
	sessions *sessions
	basic    verified
	openRing func(ctx context.Context, ring string, c basic.Credentials, from string) (until time.Time, ok bool, err error)
}

// Options are what a Register needs: all but OpenKeyring, if no door asks for one.
type Options struct {
	Store    *store.Store
	Book     func() *policy.Book // the policy now in force
	Now      func() time.Time
	Activity *activity.Log
	Hashing  *hashing.Pool
	Limiter  *throttle.Limiter // of tries
	Endings  *ending.List
	// OpenKeyring takes credentials for a keyring; see keyrings.Keyrings.Open.
	OpenKeyring func(ctx context.Context, ring string, c basic.Credentials, from string) (until time.Time, ok bool, err error)
}

// New returns the Register of the records in o.Store. The error says that they cannot be
// read.
func New(o Options) (*Register, error) {
	device, err := o.Store.Secret(context.Background(), "device")
	if err != nil {
		return nil, err
	}
	r := &Register{
		store: o.Store, book: o.Book, now: o.Now, activity: o.Activity, device: device,
		hashing: o.Hashing, limiter: o.Limiter, endings: o.Endings, openRing: o.OpenKeyring, sessions: newSessions(),
	}
	if err := r.hashing.LearnAll(context.Background(), o.Store.Hashes); err != nil {
		return nil, err
	}
	r.Changed()
	return r, nil
}

// Changed says that credentials which were verified count no longer.
func (r *Register) Changed() { r.basic.clear() }

// explain makes the store's errors about the account of that name into sentences.
func explain(name string, err error) error {
	switch {
	case errors.Is(err, store.ErrNone):
		return mistake.Unknown("there is no account %q; `ostiarius people list` shows all", name)
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
}

// Add adds an account. The actor is whoever asked for it.
func (r *Register) Add(ctx context.Context, actor string, n NewAccount) (*account.Account, error) {
	name := strings.TrimSpace(n.Name)
	keys, err := keysOf(name, n.Email)
	if err != nil {
		return nil, err
	}
	if err := checkNotes(n.Notes); err != nil {
		return nil, err
	}
	now := r.now()
	a := &account.Account{Name: name, Email: n.Email, Notes: n.Notes, MadeAt: now, MadeBy: actor}
	for _, role := range n.Roles {
		if err := r.checkRole(role); err != nil {
			return nil, err
		}
		a.Grants = append(a.Grants, account.Grant{Role: role, From: now, By: actor})
	}
	hash := ""
	if n.Password != "" {
		if err := r.checkPassword(n.Password, a); err != nil {
			return nil, err
		}
		if hash, err = r.hashing.Hash(ctx, n.Password); err != nil {
			return nil, err
		}
	}
	detail := "no roles"
	if len(n.Roles) > 0 {
		detail = "roles " + strings.Join(n.Roles, ", ")
	}
	a.Unset = hash == ""
	a.ID, err = r.store.AddAccount(ctx, a, keys, hash, store.Event{At: now, Kind: kind.AccountAdded, Account: name, Actor: actor, Detail: detail})
	return a, explain(name, err)
}

// keysOf returns the forms in which the names of an account are compared.
func keysOf(name, email string) (keys store.Keys, err error) {
	if keys.Name, err = account.Key(name); err != nil {
		return keys, mistake.Invalid("%v", err)
	}
	if keys.Email, err = account.EmailKey(email); err != nil {
		return keys, mistake.Invalid("%v", err)
	}
	return keys, nil
}

func checkNotes(notes string) error {
	if len(notes) > 4000 {
		return mistake.Invalid("the notes have more than 4000 bytes")
	}
	return nil
}

// checkPassword says what is wrong with a new password for an account.
func (r *Register) checkPassword(password string, a *account.Account) error {
	if err := secret.CheckNew(password, r.context(a)...); err != nil {
		return mistake.Invalid("%v", err)
	}
	return nil
}

// context are the words that somebody who guesses an account's password tries first.
func (r *Register) context(a *account.Account) []string {
	return []string{r.book().Site, a.Name, a.Email, "ostiarius"}
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
		keys, err := keysOf(a.Name, a.Email)
		if err != nil {
			return err
		}
		if err := checkNotes(a.Notes); err != nil {
			return err
		}
		e := r.event(kind.AccountChanged, a, actor, strings.Join(changed, ", "))
		if e.Account = old; old != a.Name {
			e.Detail += "; the name is now " + a.Name
		}
		return r.store.EditAccount(ctx, a, keys, e)
	})
	var m *mistake.Error
	if errors.As(err, &m) && m.Kind == "taken" {
		err = mistake.Taken("another account has that name or e-mail address already")
	}
	return edited, err
}

// A Query says which accounts are meant, and in which order. See store.AccountQuery.
type Query = store.AccountQuery

// List returns the accounts that a query means, and how many there are in all.
func (r *Register) List(ctx context.Context, q Query) ([]*account.Account, int, error) {
	q.Now = r.now()
	return r.store.Accounts(ctx, q)
}

// Show returns one account.
func (r *Register) Show(ctx context.Context, name string) (*account.Account, error) {
	a, _, err := r.find(ctx, name)
	return a, err
}

func (r *Register) find(ctx context.Context, name string) (*account.Account, string, error) {
	key, err := account.Key(strings.TrimSpace(name))
	if err != nil {
		return nil, "", mistake.Invalid("%v", err)
	}
	a, hash, err := r.store.AccountByKey(ctx, key)
	return a, hash, explain(name, err)
}

// change finds an account, does something to its records and makes open sessions see it
// at once.
func (r *Register) change(ctx context.Context, name string, do func(*account.Account) error) error {
	a, _, err := r.find(ctx, name)
	if err != nil {
		return err
	}
	err = do(a)
	r.forget(a.ID)
	return explain(name, err)
}

// Remove removes an account with its grants and sessions.
func (r *Register) Remove(ctx context.Context, actor, name string) error {
	return r.change(ctx, name, func(a *account.Account) error {
		return r.store.RemoveAccount(ctx, a.ID, r.event(kind.AccountRemoved, a, actor, ""))
	})
}

// SetPassword gives an account a new password and ends its sessions.
func (r *Register) SetPassword(ctx context.Context, actor, name, password string) error {
	return r.change(ctx, name, func(a *account.Account) error {
		if err := r.checkPassword(password, a); err != nil {
			return err
		}
		hash, err := r.hashing.Hash(ctx, password)
		if err != nil {
			return err
		}
		return r.store.SetPassword(ctx, a.ID, hash, r.event(kind.PasswordSet, a, actor, ""))
	})
}

// SetDisabled disables or enables an account. Disabling ends its sessions. The error is *ending.Unwritten
// if that counts but could not be written down yet.
func (r *Register) SetDisabled(ctx context.Context, actor, name string, disabled bool) error {
	if !disabled {
		return r.change(ctx, name, func(a *account.Account) error {
			r.endings.Revoke(a.ID, "", "")
			return r.store.SetDisabled(ctx, a.ID, false, r.event(kind.AccountEnabled, a, actor, ""))
		})
	}
	a, _, err := r.find(ctx, name)
	if err != nil {
		return err
	}
	return explain(name, r.endings.Take(ctx, ending.Ending{Forget: func() { r.forget(a.ID) }, Account: a.ID, What: "that " + a.Name + " is disabled"}, func(ctx context.Context) error {
		return r.store.SetDisabled(ctx, a.ID, true, r.event(kind.AccountDisabled, a, actor, ""))
	}))
}

func (r *Register) event(what kind.Kind, a *account.Account, actor, detail string) store.Event {
	return store.Event{At: r.now(), Kind: what, Account: a.Name, AccountID: a.ID, Actor: actor, Detail: detail}
}
