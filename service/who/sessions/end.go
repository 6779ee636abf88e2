package sessions

import (
	"context"
	"errors"
	"strings"
	"sync/atomic"
	"time"

	"ostiarius/core/account"
	kind "ostiarius/core/activity"
	"ostiarius/core/brief"
	"ostiarius/core/secret"
	"ostiarius/core/session"
	"ostiarius/service/base/chores"
	"ostiarius/service/base/ending"
	"ostiarius/service/base/mistake"
	"ostiarius/store"
)

// End ends the session of a token, whose owner signs out. A token without a session is no error. The error is
// *ending.Unwritten if it has ended but that could not be written down yet.
func (r *Records) End(ctx context.Context, token, network string) error {
	hash, _, ok := r.kept.current(token, r.o.Now())
	if !ok {
		return nil
	}
	s, a, err := r.load(ctx, hash)
	if errors.Is(err, store.ErrNone) {
		return nil
	}
	if err != nil && r.kept.seen(hash).IsZero() {
		return err // perhaps no session at all: nothing is kept for whatever strangers bring
	}
	if err != nil {
		// The records cannot be read; the session must not come back when they can.
		return r.o.Endings.Take(ctx,
			ending.Ending{Forget: func() { r.kept.drop(hash) }, Token: &hash, What: "that somebody has signed out"},
			func(ctx context.Context) error {
				return r.o.Store.EndSession(ctx, hash, store.Activity{At: r.o.Now(), Kind: kind.SignOut, Network: network})
			})
	}
	return r.o.Endings.Take(ctx,
		ending.Ending{Forget: func() { r.kept.drop(s.Hash) }, Token: &s.Hash, What: "that " + a.Name + " has signed out"},
		func(ctx context.Context) error {
			return r.o.Store.EndSession(ctx, s.Hash,
				store.Activity{At: r.o.Now(), Kind: kind.SignOut, Account: a.Name, Actor: a.Name, Network: network})
		})
}

// A Held is a session that somebody has, and the name of the account.
type Held = store.HeldSession

// List returns the sessions that hold now, the latest used first: those of an account, or of all
// if it is nil, that have the words in name, network or browser; and how many there are in all.
func (r *Records) List(ctx context.Context, of *account.Account, words string, offset, limit int) ([]Held, int, error) {
	q := store.SessionQuery{
		Account: idOf(of), Words: words, Now: r.o.Now(), Alive: session.Limits(r.o.Book().LongestSessions()), Offset: offset, Limit: limit,
	}
	soon, cancel := context.WithTimeout(ctx, 2*time.Second)
	defer cancel()
	r.Flush(soon) // so that the list says when they were last used, if that can be written
	return r.o.Store.Sessions(ctx, q)
}

func idOf(a *account.Account) int64 {
	if a == nil {
		return 0
	}
	return a.ID
}

// Forget makes what is kept in memory of an account count no longer, after its records have
// changed.
func (r *Records) Forget(id int64) { r.kept.forget(id) }

// StateOf returns what tells whether an account changes from now on.
func (r *Records) StateOf(id int64) *State { return r.kept.stateOf(id) }

// EndOne ends the session with that handle. With an account, it must be one of that.
func (r *Records) EndOne(ctx context.Context, actor, handle string, of *account.Account) error {
	none := mistake.Unknown("there is no session %q; perhaps it has ended already", brief.Cut(handle, 40))
	if len(handle) != 20 || strings.Trim(handle, "0123456789abcdef") != "" {
		return none
	}
	found, _, err := r.o.Store.Sessions(ctx, store.SessionQuery{Handle: handle, Account: idOf(of), Now: r.o.Now(), Limit: 1})
	if err != nil {
		return err
	}
	if len(found) == 0 {
		return none
	}
	s := found[0]
	err = r.o.Endings.Take(ctx,
		ending.Ending{Forget: func() { r.kept.drop(s.Hash) }, Token: &s.Hash, What: "that a session of " + s.Name + " has ended"},
		func(ctx context.Context) error {
			return r.o.Store.EndSession(ctx, s.Hash,
				store.Activity{At: r.o.Now(), Kind: kind.SessionEnded, Account: s.Name, Actor: actor, Detail: "session " + handle})
		})
	if errors.Is(err, store.ErrNone) {
		return none
	}
	return err
}

// EndOf ends all sessions of an account, but for the one of the token keep, if that is not "". It
// returns how many ended.
func (r *Records) EndOf(ctx context.Context, actor string, a *account.Account, keep string) (ended int64, err error) {
	var but *secret.TokenHash
	if hash, _, ok := r.kept.current(keep, r.o.Now()); ok {
		but = &hash
	}
	var number atomic.Int64
	err = r.o.Endings.Take(ctx,
		ending.Ending{
			Forget: func() { r.Forget(a.ID) }, SessionsOf: a.ID, But: but, Before: r.o.Now(), What: "that the sessions of " + a.Name + " have ended",
		}, func(ctx context.Context) error {
			n, err := r.o.Store.EndSessions(ctx, a.ID, but,
				store.Activity{At: r.o.Now(), Kind: kind.SessionsDone, Account: a.Name, AccountID: a.ID, Actor: actor})
			number.Store(n)
			return err
		})
	return number.Load(), err
}

// EndAll signs everybody out. It returns how many sessions ended.
func (r *Records) EndAll(ctx context.Context, actor string) (ended int64, err error) {
	var number atomic.Int64
	err = r.o.Endings.Take(ctx,
		ending.Ending{Forget: r.kept.clear, All: true, Before: r.o.Now(), What: "that all sessions have ended"}, func(ctx context.Context) error {
			n, err := r.o.Store.EndAllSessions(ctx, store.Activity{At: r.o.Now(), Kind: kind.SessionsDone, Actor: actor, Detail: "all of everybody"})
			number.Store(n)
			return err
		})
	return number.Load(), err
}

// Handle returns the handle of the session that a token stands for, "" for none.
func (r *Records) Handle(token string) string {
	hash, _, ok := r.kept.current(token, r.o.Now())
	if !ok {
		return ""
	}
	return (&session.Session{Hash: hash}).Handle()
}

// Sweep removes the records of sessions that have ended.
func (r *Records) Sweep(ctx context.Context) error {
	now := r.o.Now()
	r.kept.prune(now)
	return r.o.Store.SweepSessions(ctx, session.Limits(r.o.Book().LongestSessions()), now)
}

// Flush writes down when the sessions in memory were last used.
// What could not be written is kept for the next time.
func (r *Records) Flush(ctx context.Context) error {
	used := r.kept.used()
	err := r.o.Store.Seen(ctx, used)
	r.kept.usedStill(used)
	return err
}

// Chores is for chores.Room.
func (r *Records) Chores() []chores.Chore {
	return []chores.Chore{chores.Write(20*time.Second, r.Flush), chores.Sweep(r.Sweep)}
}
