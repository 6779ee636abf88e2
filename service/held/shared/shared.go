// Package shared is what the service does with shared passwords: giving a name its password, taking what people type,
// and knowing the browsers in which that was done.
package shared

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	kind "ostiarius/core/activity"
	"ostiarius/core/brief"
	"ostiarius/core/policy"
	"ostiarius/core/secret"
	rules "ostiarius/core/shared"
	"ostiarius/core/throttle"
	"ostiarius/service/base/chores"
	"ostiarius/service/base/ending"
	"ostiarius/service/base/hashing"
	"ostiarius/service/base/known"
	"ostiarius/service/base/mistake"
	"ostiarius/service/base/recall"
	"ostiarius/service/keep/activity"
	"ostiarius/store"
)

// Options are what Passwords need.
type Options struct {
	Store    *store.Store
	Book     func() *policy.Book // the policy now in force
	Now      func() time.Time
	Hashing  *hashing.Pool
	Limiter  *throttle.Limiter
	Places   *known.Places
	Endings  *ending.List
	Activity *activity.Log
}

// Passwords are the shared passwords of a service.
type Passwords struct {
	o        Options
	unlocked *recall.Memory[*rules.Unlock]
}

// New returns the Passwords of the records in o.Store.
func New(o Options) *Passwords { return &Passwords{o, recall.New[*rules.Unlock]()} }

// A Name is a shared password with what the records have of it.
type Name struct {
	policy.DeclaredShared
	Gone      bool             // the policy does not have it any more
	Passwords []rules.Password // that count, the newest first
	Unlocks   int
}

// List returns all shared passwords: those of the policy in its order, and then those that it has no longer.
func (p *Passwords) List(ctx context.Context) ([]Name, error) {
	kept, err := p.o.Store.SharedPasswords(ctx, "")
	if err != nil {
		return nil, err
	}
	counts, err := p.o.Store.CountUnlocks(ctx)
	if err != nil {
		return nil, err
	}
	var all []Name
	for _, d := range p.o.Book().Shared {
		all = append(all, Name{DeclaredShared: d, Unlocks: counts[d.Name]})
	}
	now := p.o.Now()
	for _, password := range kept {
		i := slices.IndexFunc(all, func(n Name) bool { return n.Name == password.Name })
		if i < 0 {
			i = len(all)
			all = append(all, Name{
				DeclaredShared: policy.DeclaredShared{Name: password.Name, Title: password.Name}, Gone: true, Unlocks: counts[password.Name],
			})
		}
		if password.Counts(now) {
			all[i].Passwords = append(all[i].Passwords, password)
		}
	}
	return all, nil
}

// declared returns what the policy says of a name; the error says that it has none of that name.
func (p *Passwords) declared(name string) (*policy.DeclaredShared, error) {
	book := p.o.Book()
	if d := policy.SharedNamed(book, name); d != nil {
		return d, nil
	}
	has := "it has none; declare them under shared"
	if len(book.Shared) > 0 {
		var names []string
		for _, d := range book.Shared {
			names = append(names, d.Name)
		}
		has = "it has " + strings.Join(names, ", ")
	}
	return nil, mistake.Unknown("the policy has no shared password %q; %s", name, has)
}

// longestGrace is the longest that a password before can count.
const longestGrace = 90 * 24 * time.Hour

// A Change is how a name gets another password.
type Change struct {
	Password string
	Grace    time.Duration // how long those before count too
	End      bool          // what was unlocked with those before ends at once
}

// Set gives a name a password.
func (p *Passwords) Set(ctx context.Context, actor, name string, c Change) error {
	d, err := p.declared(name)
	if err != nil {
		return err
	}
	if c.Grace < 0 || c.Grace > longestGrace {
		return mistake.Invalid("previous passwords can work for at most 90 days")
	}
	if err := secret.CheckNew(c.Password, p.o.Book().Site, name, d.Title); err != nil {
		return mistake.Of(err)
	}
	hash, err := p.o.Hashing.Hash(ctx, c.Password)
	if err != nil {
		return err
	}
	now := p.o.Now()
	before, detail := time.Time{}, name
	if c.Grace > 0 {
		before = now.Add(c.Grace)
		detail += "; previous ones work until " + before.UTC().Format(time.RFC3339)
	}
	if c.End {
		detail += "; all unlocks have ended"
	}
	err = p.o.Store.SetShared(ctx, rules.Password{Name: name, Hash: hash, MadeAt: now, MadeBy: actor}, before, c.End,
		p.event(kind.SharedSet, actor, detail))
	p.unlocked.Forget()
	return err
}

func (p *Passwords) event(of kind.Kind, actor, detail string) store.Activity {
	return store.Activity{At: p.o.Now(), Kind: of, AccountID: store.NoAccount, Actor: actor, Detail: detail}
}

// Withdraw takes the passwords of a name away, so that nobody unlocks with them, and ends what was unlocked. It can be
// a name that the policy has no longer.
func (p *Passwords) Withdraw(ctx context.Context, actor, name string) error {
	err := p.o.Endings.Take(ctx,
		ending.Ending{
			Thing: thing(name), Until: p.o.Now(), Forget: p.unlocked.Forget, What: "that the shared password " + name + " is withdrawn",
		}, func(ctx context.Context) error {
			defer p.unlocked.Forget()
			return p.o.Store.DropShared(ctx, name, p.event(kind.SharedWithdrawn, actor, name))
		})
	if errors.Is(err, store.ErrNone) {
		return mistake.Unknown("the shared password %q has no password", name)
	}
	return err
}

func thing(name string) string     { return "shared password " + name }
func unlocksOf(name string) string { return "unlocks of " + name }

// An Origin is from where somebody types a shared password.
type Origin struct {
	Network string
	Agent   string
	Account string // of who is signed in there; "" for nobody
}

// ErrWrong says that what was typed opens nothing.
var ErrWrong = errors.New("this isn't the password")

// Unlock takes what somebody typed for one of several names, and returns which one it opens with a token for their
// browser, which had another one before for some of them. The error is ErrWrong, *throttle.Slow, hashing.ErrBusy, or
// says that the service failed.
func (p *Passwords) Unlock(ctx context.Context, names []string, password string, from Origin,
	before func(name string) string) (token string, u *rules.Unlock, err error) {
	ctx = context.WithoutCancel(ctx) // a try counts, also if the client hangs up
	book := p.o.Book()
	names = slices.DeleteFunc(slices.Compact(slices.Clone(names)), func(name string) bool { return policy.SharedNamed(book, name) == nil })
	if names = names[:min(len(names), policy.MostShared)]; len(names) == 0 {
		names = []string{""} // no name that there is takes as long
	}
	what := "shared password " + strings.Join(names, " or ")
	now, network := p.o.Now(), throttle.NetworkNamed(from.Network)
	var limits []throttle.Key
	for _, name := range names { // each has one counter over all networks, but for those where it was right before
		for _, limit := range p.o.Places.Limits(ctx, store.PlaceOfShared(name), "shared "+name, network) {
			if !slices.Contains(limits, limit) {
				limits = append(limits, limit)
			}
		}
	}
	if wait := p.o.Limiter.Try(now, limits...); wait > 0 {
		p.o.Activity.Add(store.Activity{At: now, Kind: kind.SignInSlowed, Network: from.Network, Detail: what})
		return "", nil, &throttle.Slow{Wait: wait}
	}
	defer p.o.Limiter.Over(limits...)
	var counting []rules.Password
	look := p.o.Endings.Look()
	for _, name := range names {
		kept, err := p.o.Store.SharedPasswords(ctx, name)
		if err != nil {
			return "", nil, err
		}
		for _, k := range kept {
			if k.Counts(now) && !look.HasThing(thing(name), k.MadeAt) {
				counting = append(counting, k)
			}
		}
	}
	hashes := make([]string, len(counting))
	for i, k := range counting {
		hashes[i] = k.Hash
	}
	right, err := p.o.Hashing.Compare(ctx, hashes, rules.MostValid*len(names), password)
	if errors.Is(err, hashing.ErrBusy) {
		p.o.Limiter.TakeBack(limits...)
	}
	if err != nil {
		return "", nil, err
	}
	if right == "" {
		err := p.o.Store.Record(ctx,
			store.Activity{At: now, Kind: kind.UnlockFailed, AccountID: store.NoAccount, Network: from.Network, Detail: what})
		return "", nil, errors.Join(ErrWrong, err)
	}
	with := counting[slices.Index(hashes, right)]
	p.o.Limiter.Succeeded(limits...)
	for _, name := range names {
		if name == with.Name {
			p.o.Places.Right(ctx, store.PlaceOfShared(name), network)
		}
	}
	if better := p.o.Hashing.Better(ctx, right, password); better != "" {
		if err := p.o.Store.BetterShared(ctx, with.ID, right, better); err != nil {
			return "", nil, err
		}
	}
	token, hash := secret.NewToken()
	u = &rules.Unlock{
		Hash: hash, Name: with.Name, Password: with.ID, MadeAt: now, Network: from.Network, Agent: brief.Cut(from.Agent, 300),
		Account: from.Account,
	}
	var old *secret.TokenHash
	if h, ok := secret.HashToken(before(with.Name)); ok {
		old = &h
	}
	err = p.o.Store.AddUnlock(ctx, u, old,
		store.Activity{At: now, Kind: kind.Unlocked, Account: from.Account, Network: from.Network, Detail: with.Name})
	if errors.Is(err, store.ErrNone) { // it was withdrawn in this moment
		err = ErrWrong
	}
	if old != nil {
		p.unlocked.Forget()
	}
	return token, u, err
}

// Holds reports whether a token stands for an unlock of a name that holds now.
func (p *Passwords) Holds(ctx context.Context, book *policy.Book, name, token string) (bool, error) {
	d := policy.SharedNamed(book, name)
	if d == nil || token == "" {
		return false, nil
	}
	u, ok := p.unlocked.Get(token)
	if !ok {
		hash, is := secret.HashToken(token)
		if !is {
			return false, nil
		}
		version, look := p.unlocked.Version(), p.o.Endings.Look()
		var err error
		if u, err = p.o.Store.Unlock(ctx, hash); err != nil {
			if errors.Is(err, store.ErrNone) {
				err = nil
			}
			return false, err
		}
		if look.HasThing(u.Handle(), u.MadeAt) || look.HasThing(unlocksOf(u.Name), u.MadeAt) || look.HasThing(thing(u.Name), u.MadeAt) {
			return false, nil
		}
		p.unlocked.Put(version, token, u)
	}
	return u.Name == name && u.Alive(p.o.Now(), d.Ends(u.MadeAt)), nil
}

// Unlocks returns what is unlocked by a name, or by any if it is "", the newest first, at most so many, and how many
// there are in all.
func (p *Passwords) Unlocks(ctx context.Context, name string, most int) ([]*rules.Unlock, int, error) {
	return p.o.Store.Unlocks(ctx, name, "", most)
}

// EndOne ends one unlock, by its handle.
func (p *Passwords) EndOne(ctx context.Context, actor, handle string) error {
	if len(handle) != 20 || strings.Trim(handle, "0123456789abcdef") != "" {
		return mistake.Unknown("there is no unlock %q", handle)
	}
	found, _, err := p.o.Store.Unlocks(ctx, "", handle, 1)
	if err != nil {
		return err
	}
	if len(found) == 0 {
		return mistake.Unknown("there is no unlock %q", handle)
	}
	return p.end(ctx, actor, "", found[0])
}

// End ends the unlock of a token, as its holder wants.
func (p *Passwords) End(ctx context.Context, token, network string) error {
	hash, ok := secret.HashToken(token)
	if !ok {
		return nil
	}
	u, err := p.o.Store.Unlock(ctx, hash)
	if errors.Is(err, store.ErrNone) {
		return nil
	}
	if err == nil {
		err = p.end(ctx, u.Account, network, u)
	}
	return err
}

func (p *Passwords) end(ctx context.Context, actor, network string, u *rules.Unlock) error {
	e := p.event(kind.UnlockEnded, actor, u.Name)
	e.Network = network
	err := p.o.Endings.Take(ctx,
		ending.Ending{Thing: u.Handle(), Forget: p.unlocked.Forget, What: "the end of an unlock of " + u.Name}, func(ctx context.Context) error {
			defer p.unlocked.Forget()
			return p.o.Store.EndUnlock(ctx, u.Hash, e)
		})
	if errors.Is(err, store.ErrNone) {
		return nil
	}
	return err
}

// EndAll ends all that is unlocked by a name, and returns how many. The password goes on to count.
func (p *Passwords) EndAll(ctx context.Context, actor, name string) (ended int64, err error) {
	now := p.o.Now()
	err = p.o.Endings.Take(ctx,
		ending.Ending{Thing: unlocksOf(name), Until: now, Forget: p.unlocked.Forget, What: "the end of all unlocks of " + name},
		func(ctx context.Context) error {
			defer p.unlocked.Forget()
			var err error
			ended, err = p.o.Store.EndUnlocks(ctx, name, now, p.event(kind.UnlockEnded, actor, "all of "+name))
			return err
		})
	return ended, err
}

// Sweep removes what has ended.
func (p *Passwords) Sweep(ctx context.Context) error {
	now := p.o.Now()
	errs := []error{p.o.Store.SweepShared(ctx, now)}
	for _, d := range p.o.Book().Shared {
		if ends := d.Ends(time.Unix(0, 0)); !ends.IsZero() {
			errs = append(errs, p.o.Store.SweepUnlocks(ctx, d.Name, now.Add(-ends.Sub(time.Unix(0, 0)))))
		}
	}
	if err := errors.Join(errs...); err != nil {
		return fmt.Errorf("shared passwords could not be swept: %w", err)
	}
	return nil
}

// Remarks says what a steward should look at: doors that nobody can open, since a name that they ask for has no
// password.
func (p *Passwords) Remarks(ctx context.Context) ([]string, error) {
	names, err := p.List(ctx)
	var all []string
	for _, n := range names {
		if !n.Gone && len(n.Passwords) == 0 {
			all = append(all, fmt.Sprintf("The shared password %s isn't set, so nobody can get in with it. Set it on the page Shared "+
				"passwords.", n.Name))
		}
	}
	return all, err
}

// Chores is for chores.Room.
func (p *Passwords) Chores() []chores.Chore {
	return []chores.Chore{chores.Sweep(p.Sweep)}
}
