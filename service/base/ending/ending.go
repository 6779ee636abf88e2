// Package ending takes access away.
package ending

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"sync"
	"time"

	"ostiarius/core/secret"
	"ostiarius/service/base/chores"
	"ostiarius/service/base/mistake"
	"ostiarius/store"
)

// What takes access away counts at once, also while the records cannot be written: the disk is
// full, somebody holds them locked. It is kept here until it is written down, and asked for
// wherever records are read. Only the end of the process before that makes it undone, so whoever
// asked for it is told.

// Unwritten is the error for what has taken effect and could not be written down yet.
type Unwritten struct{ What string }

func (u *Unwritten) Error() string {
	return u.What + " counts from now on, but could not be written down yet; it is tried again until it can be. If the service ends " +
		"before that, it must be done once more"
}

// An Ending is access that is taken away: a session, all of an account or of everybody, an
// account, a name in a keyring.
type Ending struct {
	What       string            // in words
	Token      *secret.TokenHash // of one session
	SessionsOf int64             // all sessions of an account that were made before a time, but one
	But        *secret.TokenHash
	All        bool // sessions that were made before a time
	Before     time.Time
	Account    int64 // that is disabled
	Ring, Name string
	Thing      string    // another one thing, such as a pass, named by its room
	Until      time.Time // of the thing, only what was made until then; zero for all of it
	// Forget drops what is remembered of it where it is taken away; nil if there is nothing.
	Forget func()
}

type pending struct {
	Ending
	write func(context.Context) error
	busy  bool // it is being written
}

// A List is what has been taken away and is not written down. The zero List is ready; it may be
// used by several goroutines.
type List struct {
	mu      sync.RWMutex
	pending []*pending
	// What has been written down of late, the newest last, and how many have been in all: whoever
	// began to read before may have read what was there before.
	written []done
	count   uint64
	hear    []func(Ending)
}

// Subscribe has a function called with all that is taken away, before anything of it is written. It is for rooms that are opened, not
// for the time when something is taken away.
func (l *List) Subscribe(hear func(Ending)) { l.hear = append(l.hear, hear) }

type done struct {
	*pending
	at time.Time
}

// A Look is what a reading of the records has to be held against. It is taken before the reading.
type Look struct {
	list  *List
	since uint64
}

// Look returns what a reading that begins now has to be held against.
func (l *List) Look() Look {
	l.mu.RLock()
	defer l.mu.RUnlock()
	return Look{l, l.count}
}

// readWithin is how long a Look is used at the most: as long as passwords queue to be compared.
const readWithin = time.Minute

// has reports whether there is one of a kind that the reading may not have seen.
func (k Look) has(is func(*pending) bool) bool {
	l := k.list
	l.mu.RLock()
	defer l.mu.RUnlock()
	fresh := min(l.count-k.since, uint64(len(l.written)))
	return slices.ContainsFunc(l.pending, is) ||
		slices.ContainsFunc(l.written[len(l.written)-int(fresh):], func(d done) bool { return is(d.pending) })
}

// How long whoever takes access away waits for it to be written down.
const writtenWithin = 2 * time.Second

// Take takes access away: in memory first, then in the records. The error is store.ErrNone or a
// *mistake.Error if there was nothing to take away, or *Unwritten.
func (l *List) Take(ctx context.Context, e Ending, write func(context.Context) error) error {
	p := &pending{Ending: e, write: write, busy: true}
	l.add(p)
	if e.Forget != nil {
		e.Forget()
	}
	for _, hear := range l.hear {
		hear(e)
	}
	done := make(chan error, 1)
	// Whoever asked may hang up: it is done all the same.
	ctx = context.WithoutCancel(ctx)
	go func() { done <- l.write(ctx, p) }()
	timer := time.NewTimer(writtenWithin)
	defer timer.Stop()
	select {
	case err := <-done:
		if isDone(err) {
			return err
		}
		return fmt.Errorf("%w (%w)", &Unwritten{e.What}, err)
	case <-timer.C:
		return &Unwritten{e.What}
	}
}

// isDone reports whether there is nothing more to write.
func isDone(err error) bool {
	var nothing *mistake.Error
	return err == nil || errors.Is(err, store.ErrNone) || errors.As(err, &nothing)
}

func (l *List) add(p *pending) {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.pending = append(l.pending, p)
}

// write writes one down, and takes it from the list if that is done or there is nothing to do.
func (l *List) write(ctx context.Context, p *pending) error {
	err := p.write(ctx)
	l.mu.Lock()
	defer l.mu.Unlock()
	p.busy = false
	if !isDone(err) {
		return err
	}
	l.pending = slices.DeleteFunc(l.pending, func(other *pending) bool { return other == p })
	if err == nil {
		now := time.Now()
		l.written = append(slices.DeleteFunc(l.written, func(d done) bool { return now.Sub(d.at) > readWithin }), done{p, now})
		l.count++
	}
	return err
}

// TryAgain writes down what could not be written before. It does not wait for it.
func (l *List) TryAgain(ctx context.Context) error {
	l.mu.Lock()
	defer l.mu.Unlock()
	for _, p := range l.pending {
		if !p.busy {
			p.busy = true
			go l.write(ctx, p)
			break // one after the other
		}
	}
	return nil
}

// Undo takes back that a thing has ended, as far as that is not written down.
func (l *List) Undo(thing string) {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.pending = slices.DeleteFunc(l.pending, func(p *pending) bool { return p.Thing == thing })
}

// Revoke takes back that an account is disabled, or a name in a keyring, as far as that is not
// written down.
func (l *List) Revoke(account int64, ring, name string) {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.pending = slices.DeleteFunc(l.pending, func(p *pending) bool {
		return account != 0 && p.Account == account || ring != "" && p.Ring == ring && p.Name == name
	})
}

// HasSession reports whether a session, or its account, has ended, as far as the reading may not have seen it.
func (k Look) HasSession(token secret.TokenHash, made time.Time, account int64) bool {
	return k.has(func(p *pending) bool {
		old := !made.After(p.Before)
		return p.Token != nil && *p.Token == token || p.Account == account && account != 0 ||
			old && p.All || old && p.SessionsOf == account && account != 0 && (p.But == nil || *p.But != token)
	})
}

// Bars reports whether an account is disabled, as far as the reading may not have seen it.
func (k Look) Bars(account int64) bool {
	return k.has(func(p *pending) bool { return p.Account == account && account != 0 })
}

// HasEntry reports whether a name in a keyring has ended, as far as the reading may not have seen it.
func (k Look) HasEntry(ring, name string) bool {
	return k.has(func(p *pending) bool { return p.Ring == ring && p.Name == name && ring != "" })
}

// HasThing reports whether a thing that was made at a time has ended, as far as the reading may not have seen it.
func (k Look) HasThing(name string, made time.Time) bool {
	return k.has(func(p *pending) bool {
		return p.Thing == name && name != "" && (p.Until.IsZero() || !made.After(p.Until))
	})
}

// Words says what counts and could not be written down yet.
func (l *List) Words() (all []string) {
	l.mu.RLock()
	defer l.mu.RUnlock()
	for _, p := range l.pending {
		all = append(all, p.What)
	}
	return all
}

// Chores is for chores.Room.
func (l *List) Chores() []chores.Chore {
	return []chores.Chore{chores.Each(time.Second, l.TryAgain)}
}
