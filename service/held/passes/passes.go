// Package passes is what the service does with passes: issuing them, knowing who holds one, counting what is
// downloaded with it, and ending it.
package passes

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"net/netip"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"golang.org/x/sync/singleflight"

	kind "ostiarius/core/activity"
	"ostiarius/core/pass"
	"ostiarius/core/policy"
	"ostiarius/core/throttle"
	"ostiarius/service/base/chores"
	"ostiarius/service/base/ending"
	"ostiarius/service/base/known"
	"ostiarius/service/base/mistake"
	"ostiarius/service/base/recall"
	"ostiarius/service/keep/activity"
	"ostiarius/store"
)

// Options are what Passes need.
type Options struct {
	Store    *store.Store
	Book     func() *policy.Book // the policy now in force
	Now      func() time.Time
	Limiter  *throttle.Limiter
	Places   *known.Places
	Endings  *ending.List
	Activity *activity.Log
	Log      *slog.Logger
	Keep     time.Duration // how long passes are kept that have ended; 0 for ever
}

// Passes are the passes of a service.
//
// What a pass is worth is decided by one record in memory while it is in use. Whoever changes a pass writes it down
// first, and then changes that one, holding its lock; so no two downloads are both the last.
type Passes struct {
	o        Options
	gate     *Gate
	opened   *recall.Memory[holding] // by the tokens of browsers
	verified *recall.Memory[holding] // by credentials of HTTP Basic, as they are sent
	once     singleflight.Group      // the same ones are verified once at a time

	mu   sync.Mutex
	live map[string]*live
	gone uint64 // how often live ones were let go
}

// New returns the Passes of the records in o.Store.
func New(o Options) *Passes {
	p := &Passes{o: o, opened: recall.New[holding](), verified: recall.New[holding](), live: map[string]*live{}}
	p.gate = &Gate{p}
	return p
}

// A live is a pass in use.
type live struct {
	id     string
	is     atomic.Pointer[pass.Pass] // is replaced, and never changed
	barred atomic.Bool               // it was taken away, and that is not written down yet
	from   atomic.Pointer[sighting]  // from where it was used last
	used   atomic.Int64              // when, in seconds
	letGo  atomic.Bool               // another one may be in its place

	counted atomic.Pointer[counted] // a file that has counted today, which is the one that is fetched again

	mu    sync.Mutex           // held while it changes
	seen  map[string]time.Time // from where it was used of late, and when; nil if that was not read yet
	files map[string]*progress // what was delivered; nil if that was not read yet
}

// A counted is a file that has counted as a download of a day, from a time until its end.
type counted struct {
	path        string
	size        int64
	tag         string
	from, until time.Time
}

type sighting struct {
	network netip.Prefix
	at      time.Time
}

// A holding is that somebody has shown to hold a pass, with credentials that were made at a time.
type holding struct {
	of   *live
	made time.Time
}

// state returns what the pass is worth now.
func (l *live) state(now time.Time) pass.State {
	if l.barred.Load() {
		return pass.Revoked
	}
	return l.is.Load().State(now)
}

// The most passes that are kept in memory, and after what time without use one is let go.
const (
	mostLive = 50_000
	unused   = 10 * time.Minute
)

// get returns a pass as it is in use. The error is store.ErrNone if there is none of that name.
func (p *Passes) get(ctx context.Context, id string) (*live, error) {
	for {
		p.mu.Lock()
		l, gone := p.live[id], p.gone
		p.mu.Unlock()
		if l != nil {
			l.used.Store(p.o.Now().Unix())
			return l, nil
		}
		look := p.o.Endings.Look()
		is, err := p.o.Store.Pass(ctx, id)
		if err != nil {
			return nil, err
		}
		l = &live{id: id}
		l.is.Store(is)
		l.barred.Store(look.HasThing(thing(id), is.MadeAt))
		l.used.Store(p.o.Now().Unix())
		p.mu.Lock()
		other := p.live[id]
		switch {
		case other != nil:
			l = other
		case gone != p.gone: // what was read may be old by now
			p.mu.Unlock()
			continue
		default:
			p.live[id] = l
		}
		p.mu.Unlock()
		return l, nil
	}
}

func thing(id string) string { return "pass " + id }

// Tidy lets go of passes that were not used of late.
func (p *Passes) Tidy(context.Context) error {
	p.mu.Lock()
	defer p.mu.Unlock()
	old := p.o.Now().Add(-unused).Unix()
	let := 0
	for id, l := range p.live {
		if l.used.Load() > old && len(p.live) <= mostLive || !l.mu.TryLock() {
			continue
		}
		busy := false
		for _, f := range l.files {
			busy = busy || len(f.under) > 0
		}
		if !busy {
			l.letGo.Store(true)
			delete(p.live, id)
			let++
		}
		l.mu.Unlock()
	}
	if let > 0 {
		p.gone++
		p.opened.Forget()
		p.verified.Forget()
	}
	return nil
}

// change changes a pass, in the records and then here. What edit returns is written down with it.
func (p *Passes) change(ctx context.Context, l *live, edit func(is *pass.Pass, now time.Time) (store.PassChange, error)) error {
	l.mu.Lock()
	defer l.mu.Unlock()
	return p.changeLocked(ctx, l, edit)
}

// changeLocked is change for whoever holds the lock.
func (p *Passes) changeLocked(ctx context.Context, l *live, edit func(is *pass.Pass, now time.Time) (store.PassChange, error)) error {
	if l.letGo.Load() {
		return errLetGo
	}
	is, now := *l.is.Load(), p.o.Now()
	c, err := edit(&is, now)
	if err != nil {
		return err
	}
	c.Pass, c.At = &is, now
	if err := p.o.Store.ChangePass(ctx, c); err != nil {
		return err
	}
	l.is.Store(&is)
	if c.Afresh {
		l.seen = nil
		l.from.Store(nil)
	}
	return nil
}

// errLetGo says that a pass was let go of in this moment; whoever asks again finds it.
var errLetGo = errors.New("the pass is changing right now; try again")

// Is returns the pass of that name. The error is a *mistake.Error if there is none.
func (p *Passes) Is(ctx context.Context, id string) (*pass.Pass, error) {
	l, err := p.named(ctx, id)
	if err != nil {
		return nil, err
	}
	return l.is.Load(), nil
}

// StateOf returns what a pass is worth now.
func (p *Passes) StateOf(is *pass.Pass) pass.State {
	if p.o.Endings.Look().HasThing(thing(is.ID), is.MadeAt) {
		return pass.Revoked
	}
	return is.State(p.o.Now())
}

func (p *Passes) named(ctx context.Context, id string) (*live, error) {
	l, err := p.get(ctx, pass.ReadID(id))
	if errors.Is(err, store.ErrNone) {
		return nil, mistake.Unknown("there is no pass %q; `ostiarius passes list` shows all", id)
	}
	return l, err
}

// A Story is what is known of one pass.
type Story struct {
	Pass     *pass.Pass
	State    pass.State
	Networks int // from which it was used within a day
	Story    []pass.StoryEntry
}

// Story returns what is known of a pass.
func (p *Passes) Story(ctx context.Context, id string) (Story, error) {
	is, err := p.Is(ctx, id)
	if err != nil {
		return Story{}, err
	}
	story, err := p.o.Store.PassStory(ctx, is.ID)
	if err != nil {
		return Story{}, err
	}
	seen, err := p.o.Store.PassNetworks(ctx, is.ID, p.o.Now().Add(-pass.SpreadWithin))
	return Story{is, p.StateOf(is), len(seen), story}, err
}

// List returns the passes that a query means, the newest first. What they are worth is that of now.
func (p *Passes) List(ctx context.Context, q store.PassQuery, after string) ([]*pass.Pass, error) {
	q.Now = p.o.Now()
	if after != "" {
		last, err := p.Is(ctx, after)
		if err != nil {
			return nil, err
		}
		q.Before = last
	}
	return p.o.Store.Passes(ctx, q)
}

// Counts returns how many passes of each kind are in each state.
func (p *Passes) Counts(ctx context.Context) (map[string]map[pass.State]int, error) {
	return p.o.Store.CountPasses(ctx, p.o.Now())
}

// Remarks says what a steward should look at: passes that were used from too many networks of late.
func (p *Passes) Remarks(ctx context.Context) ([]string, error) {
	found, err := p.o.Store.SpreadPasses(ctx, p.o.Now().Add(-remarked), most+1)
	if err != nil || len(found) == 0 {
		return nil, err
	}
	paused, named := 0, []string{}
	for _, is := range found {
		if !is.Paused.IsZero() {
			paused++
		}
		if len(named) < 3 {
			named = append(named, fmt.Sprintf("%s (%s)", is.ID, is.Address))
		}
	}
	number := fmt.Sprint(len(found))
	if len(found) > most {
		number = fmt.Sprintf("More than %d", most)
	}
	who, more := strings.Join(named, ", "), ""
	if len(found) > len(named) {
		more = " and others"
	}
	if len(found) == 1 {
		state := "it is marked"
		if paused == 1 {
			state = "it is paused"
		}
		return []string{fmt.Sprintf("The pass %s was used from more networks than its kind allows; %s. The Passes page shows its history.",
			who, state)}, nil
	}
	return []string{fmt.Sprintf("%s passes were used from more networks than their kind allows, and %d of them are paused: %s%s. The "+
		"Passes page shows their history.", number, paused, who, more)}, nil
}

// For how long it is remarked that a pass was used from too many networks, and how many are counted.
const (
	remarked = 7 * 24 * time.Hour
	most     = 100
)

// kindOf returns what the policy says of a kind of pass; the error says that it has none of that name.
func (p *Passes) kindOf(name string) (*policy.DeclaredPass, error) {
	book := p.o.Book()
	if d := policy.PassNamed(book, name); d != nil {
		return d, nil
	}
	has := "it has none; declare them under passes"
	if len(book.Passes) > 0 {
		var names []string
		for _, d := range book.Passes {
			names = append(names, d.Name)
		}
		has = "it has " + strings.Join(names, ", ")
	}
	return nil, mistake.Unknown("the policy has no kind of pass %q; %s", name, has)
}

// event is what is recorded of a pass.
func (p *Passes) event(of kind.Kind, actor string, is *pass.Pass, detail string) store.Activity {
	what := "pass " + is.ID + " (" + is.Kind + ")"
	if detail != "" {
		what += ", " + detail
	}
	return store.Activity{At: p.o.Now(), Kind: of, Account: is.Address, AccountID: store.NoAccount, Actor: actor, Detail: what}
}

// Sweep removes what is no longer asked for.
func (p *Passes) Sweep(ctx context.Context) error {
	p.Tidy(ctx)
	now := p.o.Now()
	var gone time.Time
	if p.o.Keep > 0 {
		gone = now.Add(-p.o.Keep)
	}
	if err := p.o.Store.SweepPasses(ctx, now, now.Add(-pass.SpreadWithin), gone); err != nil {
		return fmt.Errorf("passes could not be swept: %w", err)
	}
	return nil
}

// Chores is for chores.Room.
func (p *Passes) Chores() []chores.Chore {
	return []chores.Chore{chores.Each(20*time.Second, p.Tidy), chores.Sweep(p.Sweep)}
}
