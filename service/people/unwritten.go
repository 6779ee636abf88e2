package people

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"sync"
	"time"

	"ostiarius/core/secret"
	"ostiarius/store"
)

// What takes access away counts at once, also while the records cannot be written: the disk is
// full, somebody holds them locked. It is kept here until it is written down, and asked for
// wherever records are read. Only the end of the process before that makes it undone, so whoever
// asked for it is told.

// Unwritten is the error for what has taken effect and could not be written down yet.
type Unwritten struct{ What string }

func (u *Unwritten) Error() string {
	return u.What + " counts from now on, but could not be written down yet; it is tried again until it can be. If the service ends before that, it must be done once more"
}

// An ending is access that is taken away: a session, all of an account or of everybody, an
// account, a name in a keyring.
type ending struct {
	what       string            // in words
	token      *secret.TokenHash // of one session
	sessionsOf int64             // all sessions of an account that were made before a time, but one
	but        *secret.TokenHash
	all        bool // sessions that were made before a time
	before     time.Time
	account    int64 // that is disabled
	ring, name string
}

type pending struct {
	ending
	write func(context.Context) error
	busy  bool // it is being written
}

type unwritten struct {
	mu      sync.RWMutex
	pending []*pending
}

// How long whoever takes access away waits for it to be written down.
const writtenWithin = 2 * time.Second

// end takes access away: in memory first, then in the records. The error is ErrNone if there was
// nothing to take away, or *Unwritten.
func (r *Register) end(ctx context.Context, e ending, write func(context.Context) error) error {
	p := &pending{ending: e, write: write, busy: true}
	r.unwritten.add(p)
	switch {
	case e.token != nil:
		r.sessions.drop(*e.token)
	case e.all:
		r.sessions.clear()
	case e.ring != "":
		r.basic.clear()
	default:
		r.forget(max(e.sessionsOf, e.account))
	}
	done := make(chan error, 1)
	// Whoever asked may hang up: it is done all the same.
	ctx = context.WithoutCancel(ctx)
	go func() { done <- r.unwritten.write(ctx, p) }()
	timer := time.NewTimer(writtenWithin)
	defer timer.Stop()
	select {
	case err := <-done:
		var mistake *Mistake
		if err == nil || errors.Is(err, store.ErrNone) || errors.As(err, &mistake) {
			return err
		}
		return fmt.Errorf("%w (%w)", &Unwritten{e.what}, err)
	case <-timer.C:
		return &Unwritten{e.what}
	}
}

func (u *unwritten) add(p *pending) {
	u.mu.Lock()
	defer u.mu.Unlock()
	u.pending = append(u.pending, p)
}

// write writes one down, and takes it from the list if that is done or there is nothing to do.
func (u *unwritten) write(ctx context.Context, p *pending) error {
	err := p.write(ctx)
	var mistake *Mistake
	u.mu.Lock()
	defer u.mu.Unlock()
	p.busy = false
	if err == nil || errors.Is(err, store.ErrNone) || errors.As(err, &mistake) {
		u.pending = slices.DeleteFunc(u.pending, func(other *pending) bool { return other == p })
	}
	return err
}

// tryAgain writes down what could not be written before. It does not wait for it.
func (u *unwritten) tryAgain(ctx context.Context) {
	u.mu.Lock()
	defer u.mu.Unlock()
	for _, p := range u.pending {
		if !p.busy {
			p.busy = true
			go u.write(ctx, p)
			return // one after the other
		}
	}
}

// revoke takes back that an account is disabled, or a name in a keyring, as far as that is not
// written down.
func (u *unwritten) revoke(account int64, ring, name string) {
	u.mu.Lock()
	defer u.mu.Unlock()
	u.pending = slices.DeleteFunc(u.pending, func(p *pending) bool {
		return account != 0 && p.account == account || ring != "" && p.ring == ring && p.name == name
	})
}

// has reports whether a session, or its account, has ended as far as that is not written down.
func (u *unwritten) has(token secret.TokenHash, made time.Time, account int64) bool {
	u.mu.RLock()
	defer u.mu.RUnlock()
	for _, p := range u.pending {
		old := !made.After(p.before)
		if p.token != nil && *p.token == token || p.account == account && account != 0 ||
			old && p.all || old && p.sessionsOf == account && account != 0 && (p.but == nil || *p.but != token) {
			return true
		}
	}
	return false
}

// bars reports whether an account is disabled as far as that is not written down.
func (u *unwritten) bars(account int64) bool {
	u.mu.RLock()
	defer u.mu.RUnlock()
	return slices.ContainsFunc(u.pending, func(p *pending) bool { return p.account == account && account != 0 })
}

// hasEntry reports whether a name in a keyring has ended as far as that is not written down.
func (u *unwritten) hasEntry(ring, name string) bool {
	u.mu.RLock()
	defer u.mu.RUnlock()
	return slices.ContainsFunc(u.pending, func(p *pending) bool { return p.ring == ring && p.name == name && ring != "" })
}

// Unwritten returns what counts and could not be written down yet, in words.
func (r *Register) Unwritten() (all []string) {
	r.unwritten.mu.RLock()
	defer r.unwritten.mu.RUnlock()
	for _, p := range r.unwritten.pending {
		all = append(all, p.what)
	}
	return all
}
