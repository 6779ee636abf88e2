// Package accesskeys is what the service does with access keys: programs come with them as an account.
package accesskeys

import (
	"context"
	"errors"
	"maps"
	"net/netip"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"ostiarius/core/accesskey"
	"ostiarius/core/account"
	kind "ostiarius/core/activity"
	"ostiarius/core/brief"
	"ostiarius/core/factor"
	"ostiarius/core/policy"
	"ostiarius/core/secret"
	"ostiarius/service/base/chores"
	"ostiarius/service/base/ending"
	"ostiarius/service/base/mistake"
	"ostiarius/service/base/recall"
	"ostiarius/service/keep/activity"
	"ostiarius/service/keep/letters"
	"ostiarius/service/who/sessions"
	"ostiarius/store"
)

// Options are what Keys need.
type Options struct {
	Store    *store.Store
	Book     func() *policy.Book // the policy now in force
	Now      func() time.Time
	Endings  *ending.List
	Activity *activity.Log
	Letters  *letters.Letters
	Sessions *sessions.Records
}

// Keys are the access keys of a service: those that are written down, and those in use in memory.
type Keys struct {
	o     Options
	known *recall.Memory[*entry] // by their tokens

	usedMu sync.Mutex
	used   map[secret.TokenHash]store.KeyUse
}

// New returns the access keys in o.Store.
func New(o Options) *Keys {
	return &Keys{o: o, known: recall.New[*entry](), used: map[secret.TokenHash]store.KeyUse{}}
}

// An entry is a key in use.
type entry struct {
	key     accesskey.Key
	visitor policy.Visitor
	of      *policy.Book // by which it carries its roles
	state   *sessions.State
	until   time.Time // when a grant begins or ends, or the key does; zero for never
	from    atomic.Pointer[netip.Addr]
	noted   atomic.Int64 // milliseconds, when its use was noted last
}

// How often it is noted that a key is used.
const noteEvery = 10 * time.Second

// Recognise returns who brings a token from an address: the zero Visitor if it is none, counts no longer, or not from there. The
// error says that the records cannot be read; the visitor is then nobody.
func (k *Keys) Recognise(ctx context.Context, token string, from netip.Addr) (v policy.Visitor, err error) {
	now, book := k.o.Now(), k.o.Book()
	e, known := k.known.Get(token)
	if !known || e.of != book || e.state.Stale() || !e.until.IsZero() && !now.Before(e.until) {
		version := k.known.Version()
		if e, err = k.read(ctx, token, book, now); e == nil || err != nil {
			return v, err
		}
		k.known.Put(version, token, e)
	}
	if !e.key.Counts(now, from) {
		return v, nil
	}
	k.note(e, now, from)
	return e.visitor, nil
}

// read reads a key from the records; nil if there is none that counts, or its account is disabled.
func (k *Keys) read(ctx context.Context, token string, book *policy.Book, now time.Time) (*entry, error) {
	hash, ok := accesskey.Hash(token)
	if !ok {
		return nil, nil
	}
	look := k.o.Endings.Look()
	kept, err := k.o.Store.AccessKey(ctx, hash)
	if errors.Is(err, store.ErrNone) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	state := k.o.Sessions.StateOf(kept.Account)
	a, err := k.o.Store.AccountByID(ctx, kept.Account)
	if errors.Is(err, store.ErrNone) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	if a.Disabled || look.Bars(a.ID) || look.HasThing(thing(kept.Handle()), kept.MadeAt) {
		return nil, nil
	}
	e := &entry{key: kept, of: book, state: state, until: a.Changes(now)}
	if !kept.Until.IsZero() && (e.until.IsZero() || kept.Until.Before(e.until)) {
		e.until = kept.Until
	}
	name, err := account.Key(a.Name)
	if err != nil {
		return nil, nil // no account has such a name
	}
	e.visitor = policy.Visitor{SignedIn: true, Account: name, Roles: kept.Carries(a.Roles(now), book.Factors.NoKeys, book.Satisfies)}
	e.visitor.Showing(factor.Shown{}.With(factor.Key, 0))
	return e, nil
}

// note notes that a key is used.
func (k *Keys) note(e *entry, now time.Time, from netip.Addr) {
	at, last := now.UnixMilli(), e.noted.Load()
	if before := e.from.Load(); before != nil && *before == from && at-last < noteEvery.Milliseconds() && at >= last {
		return
	}
	e.noted.Store(at)
	e.from.Store(&from)
	k.usedMu.Lock()
	defer k.usedMu.Unlock()
	use := store.KeyUse{At: now}
	if from.IsValid() {
		use.From = from.String()
	}
	k.used[e.key.Hash] = use
}

// Flush writes down when keys were used last.
func (k *Keys) Flush(ctx context.Context) error {
	k.usedMu.Lock()
	uses := k.used
	k.used = map[secret.TokenHash]store.KeyUse{}
	k.usedMu.Unlock()
	if len(uses) == 0 {
		return nil
	}
	err := k.o.Store.UseAccessKeys(ctx, uses)
	if err != nil { // what has come meanwhile is later
		k.usedMu.Lock()
		defer k.usedMu.Unlock()
		maps.Copy(uses, k.used)
		k.used = uses
	}
	return err
}

// Sweep removes keys that ended a while ago; until then lists say that they have.
func (k *Keys) Sweep(ctx context.Context) error {
	return k.o.Store.SweepAccessKeys(ctx, k.o.Now().Add(-keepEnded))
}

const keepEnded = 30 * 24 * time.Hour

// forget drops what is remembered of keys.
func (k *Keys) forget() { k.known.Forget() }

// A NewKey is what somebody wants a key to be.
type NewKey struct {
	Name     string
	Roles    []string  // nil for all that the account has
	Networks []string  // nil for all
	Until    time.Time // zero for no end
	// ByPage says that a page made it which scripts of the site can look at: then it carries no role that administers.
	ByPage bool
}

// Administers reports whether a role lets its holders administer Ostiarius.
func Administers(book *policy.Book, role string) bool { return book.Satisfies(role, policy.Steward) }

// The most keys of an account, and the longest name of one.
const (
	mostKeys    = 50
	longestName = 60
)

// Make makes a key for an account and returns its token, which is seen by nobody any more. The error is a *mistake.Error.
func (k *Keys) Make(ctx context.Context, actor string, a *account.Account, want NewKey, from sessions.Origin) (token string,
	made accesskey.Key, err error) {
	book, now := k.o.Book(), k.o.Now()
	name := strings.Join(strings.Fields(want.Name), " ")
	if want.ByPage && want.Roles == nil {
		want.Roles = []string{} // all of them could be one that administers
	}
	switch {
	case name == "" || len(name) > longestName:
		return "", made, mistake.Invalid("an access key has a name of up to %d letters, such as what it is for", longestName)
	case !want.Until.IsZero() && !want.Until.After(now):
		return "", made, mistake.Invalid("the end of the key lies in the past")
	}
	for _, role := range want.Roles {
		if !book.KnownRole(role) {
			return "", made, mistake.Invalid("the policy has no role %q", role)
		}
		if slices.ContainsFunc(book.Factors.NoKeys, func(never string) bool { return book.Satisfies(role, never) }) {
			return "", made, mistake.Invalid("the policy says that no access key carries the role %s", role)
		}
		if want.ByPage && Administers(book, role) {
			return "", made, mistake.Invalid("keys with the role %s are created in the console, at the account", role)
		}
		if !slices.ContainsFunc(a.Roles(now), func(granted string) bool { return book.Satisfies(granted, role) }) {
			return "", made, mistake.Invalid("%s does not have the role %s", a.Name, role)
		}
	}
	made = accesskey.Key{Account: a.ID, Name: name, Roles: want.Roles, MadeAt: now, MadeBy: actor, Until: want.Until}
	for _, text := range want.Networks {
		n, err := policy.ParseNetwork(text)
		if err != nil {
			return "", made, mistake.Of(err)
		}
		made.Networks = append(made.Networks, n)
	}
	if _, n, err := k.o.Store.AccessKeys(ctx, a.ID, 0, 1); err != nil || n >= mostKeys {
		if err == nil {
			err = mistake.Invalid("%s has %d access keys already; remove one first", a.Name, n)
		}
		return "", made, err
	}
	token, made.Hash = accesskey.New()
	err = k.o.Store.AddAccessKey(ctx, made, k.o.Letters.FactorsChanged(a, from.Language, "accesskeys.told-made", "name", name),
		k.event(kind.KeyMade, a, actor, from, &made))
	if errors.Is(err, store.ErrNone) {
		err = mistake.Unknown("there is no account %s any more", a.Name)
	}
	return token, made, err
}

// thing is what an access key is called where access is taken away.
func thing(handle string) string { return "access key " + handle }

// Remove removes the key of a handle; with an account, it must be one of that. It counts no longer from now on, also if that cannot
// be written down yet.
func (k *Keys) Remove(ctx context.Context, actor, handle string, of *account.Account, from sessions.Origin) error {
	none := mistake.Unknown("there is no access key %q; perhaps it was removed already", brief.Cut(handle, 40))
	if len(handle) != 20 || strings.Trim(handle, "0123456789abcdef") != "" {
		return none
	}
	found, err := k.o.Store.AccessKeyNamed(ctx, handle)
	if errors.Is(err, store.ErrNone) || err == nil && of != nil && found.Account != of.ID {
		return none
	}
	if err != nil {
		return err
	}
	a, err := k.o.Store.AccountByID(ctx, found.Account)
	if err != nil {
		return err
	}
	mails := k.o.Letters.FactorsChanged(a, from.Language, "accesskeys.told-removed", "name", found.Name)
	err = k.o.Endings.Take(ctx,
		ending.Ending{
			What: "that the access key " + found.Name + " of " + a.Name + " is removed", Thing: thing(handle), Forget: k.forget,
		}, func(ctx context.Context) error {
			return k.o.Store.RemoveAccessKey(ctx, found.Hash, mails, k.event(kind.KeyRemoved, a, actor, from, &found))
		})
	if errors.Is(err, store.ErrNone) {
		return none
	}
	return err
}

// List returns the keys of an account, or of all if it is nil, the latest made first, and how many there are.
func (k *Keys) List(ctx context.Context, of *account.Account, offset, limit int) ([]store.OwnedKey, int, error) {
	if err := k.Flush(ctx); err != nil {
		return nil, 0, err
	}
	id := int64(0)
	if of != nil {
		id = of.ID
	}
	return k.o.Store.AccessKeys(ctx, id, offset, limit)
}

func (k *Keys) event(what kind.Kind, a *account.Account, actor string, from sessions.Origin, key *accesskey.Key) store.Activity {
	return store.Activity{
		At: k.o.Now(), Kind: what, Account: a.Name, AccountID: a.ID, Actor: actor, Network: from.Network, Detail: key.Name + ", " + key.Handle(),
	}
}

// Chores is for chores.Room.
func (k *Keys) Chores() []chores.Chore {
	return []chores.Chore{chores.Write(20*time.Second, k.Flush), chores.Sweep(k.Sweep)}
}
