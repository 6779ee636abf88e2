// Package people is what the service does with accounts and sessions: one function for
// each thing that can be done to them, whoever asks for it.
package people

import (
	"context"
	"errors"
	"fmt"
	"runtime"
	"strings"
	"time"

	"ostiarius/core/account"
	"ostiarius/core/policy"
	"ostiarius/core/secret"
	"ostiarius/store"
)

// A Register is the accounts and the sessions of a service.
type Register struct {
	store    *store.Store
	book     func() *policy.Book
	now      func() time.Time
	cost     secret.Cost
	stranger string        // the hash that the password of an unknown account is compared with
	hashing  chan struct{} // bounds how many passwords are hashed at once
	sessions *sessions
}

// Options are what a Register needs. All but Cost must be set.
type Options struct {
	Store *store.Store
	Book  func() *policy.Book // the policy now in force
	Now   func() time.Time
	Cost  secret.Cost // of new password hashes; secret.DefaultCost if zero
}

// New returns the Register of the records in o.Store.
func New(o Options) *Register {
	if o.Cost == (secret.Cost{}) {
		o.Cost = secret.DefaultCost
	}
	return &Register{
		store: o.Store, book: o.Book, now: o.Now, cost: o.Cost,
		stranger: secret.Hash(secret.Generate(), o.Cost),
		hashing:  make(chan struct{}, max(1, runtime.GOMAXPROCS(0))),
		sessions: newSessions(),
	}
}

// A Mistake is an error that the person who asked can mend; its text says how.
type Mistake struct {
	Kind string // "unknown", "taken" or "invalid"
	Text string
}

func (m *Mistake) Error() string { return m.Text }

func invalid(format string, args ...any) error {
	return &Mistake{"invalid", fmt.Sprintf(format, args...)}
}

// explain makes the store's errors about the account of that name into sentences.
func explain(name string, err error) error {
	switch {
	case errors.Is(err, store.ErrNone):
		return &Mistake{"unknown", fmt.Sprintf("there is no account %q; `ostiarius people list` shows all", name)}
	case errors.Is(err, store.ErrTaken):
		return &Mistake{"taken", fmt.Sprintf("there is an account %q already; choose another name, or change that one", name)}
	}
	return err
}

// A NewAccount is an account as it is asked for.
type NewAccount struct {
	Name     string
	Email    string
	Password string
	Roles    []string
}

// Add adds an account. The actor is whoever asked for it.
func (r *Register) Add(ctx context.Context, actor string, n NewAccount) (*account.Account, error) {
	name := strings.TrimSpace(n.Name)
	key, err := account.Key(name)
	if err != nil {
		return nil, invalid("%v", err)
	}
	if err := secret.CheckNew(n.Password); err != nil {
		return nil, invalid("%v", err)
	}
	if n.Email != "" && (strings.Count(n.Email, "@") != 1 || strings.ContainsAny(n.Email, " \r\n\t<>,") || strings.HasPrefix(n.Email, "@") || strings.HasSuffix(n.Email, "@")) {
		return nil, invalid("%q is no e-mail address", n.Email)
	}
	now := r.now()
	a := &account.Account{Name: name, Email: n.Email, MadeAt: now, MadeBy: actor}
	for _, role := range n.Roles {
		if err := r.checkRole(role); err != nil {
			return nil, err
		}
		a.Grants = append(a.Grants, account.Grant{Role: role, From: now, By: actor})
	}
	hash, err := r.hash(ctx, n.Password)
	if err != nil {
		return nil, err
	}
	detail := "no roles"
	if len(n.Roles) > 0 {
		detail = "roles " + strings.Join(n.Roles, ", ")
	}
	a.ID, err = r.store.AddAccount(ctx, a, key, hash, store.Event{At: now, Kind: "account added", Account: name, Actor: actor, Detail: detail})
	return a, explain(name, err)
}

func (r *Register) checkRole(role string) error {
	if book := r.book(); !book.KnownRole(role) {
		return invalid("unknown role %q; the policy has %s", role, strings.Join(book.RoleNames(), ", "))
	}
	return nil
}

func (r *Register) hash(ctx context.Context, password string) (string, error) {
	if err := r.takeTurn(ctx); err != nil {
		return "", err
	}
	defer func() { <-r.hashing }()
	return secret.Hash(password, r.cost), nil
}

func (r *Register) takeTurn(ctx context.Context) error {
	select {
	case r.hashing <- struct{}{}:
		return nil
	case <-ctx.Done():
		return ctx.Err()
	}
}

// List returns all accounts by name.
func (r *Register) List(ctx context.Context) ([]*account.Account, error) {
	return r.store.Accounts(ctx)
}

// Show returns one account.
func (r *Register) Show(ctx context.Context, name string) (*account.Account, error) {
	a, _, err := r.find(ctx, name)
	return a, err
}

func (r *Register) find(ctx context.Context, name string) (*account.Account, string, error) {
	key, err := account.Key(strings.TrimSpace(name))
	if err != nil {
		return nil, "", invalid("%v", err)
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
	r.sessions.forget(a.ID)
	return explain(name, err)
}

// Remove removes an account with its grants and sessions.
func (r *Register) Remove(ctx context.Context, actor, name string) error {
	return r.change(ctx, name, func(a *account.Account) error {
		return r.store.RemoveAccount(ctx, a.ID, r.event("account removed", a, actor, ""))
	})
}

// SetPassword gives an account a new password and ends its sessions.
func (r *Register) SetPassword(ctx context.Context, actor, name, password string) error {
	if err := secret.CheckNew(password); err != nil {
		return invalid("%v", err)
	}
	return r.change(ctx, name, func(a *account.Account) error {
		hash, err := r.hash(ctx, password)
		if err != nil {
			return err
		}
		return r.store.SetPassword(ctx, a.ID, hash, r.event("password set", a, actor, ""))
	})
}

// SetDisabled disables or enables an account. Disabling ends its sessions.
func (r *Register) SetDisabled(ctx context.Context, actor, name string, disabled bool) error {
	kind := "account enabled"
	if disabled {
		kind = "account disabled"
	}
	return r.change(ctx, name, func(a *account.Account) error {
		return r.store.SetDisabled(ctx, a.ID, disabled, r.event(kind, a, actor, ""))
	})
}

// Grant gives a role to an account, until a time or, if until is zero, for good.
func (r *Register) Grant(ctx context.Context, actor, name, role string, until time.Time) error {
	if err := r.checkRole(role); err != nil {
		return err
	}
	now := r.now()
	if !until.IsZero() && !until.After(now) {
		return invalid("the end of the grant, %s, is not in the future", until.Format(time.RFC3339))
	}
	return r.change(ctx, name, func(a *account.Account) error {
		detail := "role " + role
		if !until.IsZero() {
			detail += " until " + until.UTC().Format(time.RFC3339)
		}
		return r.store.Grant(ctx, a.ID, account.Grant{Role: role, From: now, Until: until, By: actor}, r.event("role granted", a, actor, detail))
	})
}

// Revoke takes a role from an account.
func (r *Register) Revoke(ctx context.Context, actor, name, role string) error {
	return r.change(ctx, name, func(a *account.Account) error {
		err := r.store.Revoke(ctx, a.ID, role, r.event("role revoked", a, actor, "role "+role))
		if errors.Is(err, store.ErrNone) {
			return &Mistake{"unknown", fmt.Sprintf("%s has not been granted the role %q", a.Name, role)}
		}
		return err
	})
}

func (r *Register) event(kind string, a *account.Account, actor, detail string) store.Event {
	return store.Event{At: r.now(), Kind: kind, Account: a.Name, Actor: actor, Detail: detail}
}
