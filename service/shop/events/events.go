// Package events takes what a shop tells, keeps it, and carries it out: once each, whatever happens meanwhile.
//
// An event is written down before its sender is told that it has arrived. It is carried out a moment later, in one transaction with
// all that it comes to, so that it is done or not. What it comes to rests on facts that are kept, and not on the order in which
// they arrived.
package events

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"sync"
	"sync/atomic"
	"time"

	kind "ostiarius/core/activity"
	"ostiarius/core/event"
	"ostiarius/core/policy"
	"ostiarius/core/signature"
	"ostiarius/service/base/chores"
	"ostiarius/service/base/mistake"
	"ostiarius/service/held/passes"
	"ostiarius/service/keep/activity"
	"ostiarius/service/who/people"
	"ostiarius/store"
)

// Options are what an Inbox needs.
type Options struct {
	Store    *store.Store
	Book     func() *policy.Book // the policy now in force
	Now      func() time.Time
	Passes   *passes.Passes
	People   *people.Register
	Activity *activity.Log
	Log      *slog.Logger
	Keep     time.Duration // how long events are kept that were done with; 0 for ever
}

// An Inbox takes what shops tell, and carries it out.
type Inbox struct {
	o       Options
	secrets atomic.Pointer[[]store.EventSecret]
	wake    chan struct{}
	working sync.Mutex // held while something is carried out: one after the other

	mu      sync.Mutex
	queue   []*arrival // to be written down
	writing bool
}

// New returns an Inbox over the records in o.Store.
func New(o Options) (*Inbox, error) {
	b := &Inbox{o: o, wake: make(chan struct{}, 1)}
	o.Store.Subscribe(func(n store.News) {
		if n.Events {
			b.Wake()
		}
	})
	return b, b.readSecrets(context.Background())
}

// ErrRefused says that what was told is not believed, or cannot be read. Who told it is not told why.
var ErrRefused = errors.New("the event is rejected")

// Take takes what somebody tells from a network, and returns when it is in the records. The error is ErrRefused, or says that the
// records cannot be written.
func (b *Inbox) Take(ctx context.Context, h signature.Head, body []byte, network string) error {
	now := b.o.Now()
	var secrets []signature.Secret
	for _, s := range *b.secrets.Load() {
		if s.Until.IsZero() || now.Before(s.Until) {
			secrets = append(secrets, s.Secret)
		}
	}
	refuse := func(why error) error {
		b.o.Activity.Add(store.Activity{At: now, Kind: kind.EventRefused, Network: network, AccountID: store.NoAccount, Detail: why.Error()})
		return ErrRefused
	}
	if len(secrets) == 0 {
		return refuse(errors.New("there is no secret for signatures; create one with `ostiarius events secret --generate`"))
	}
	if err := signature.Check(secrets, h, body, now); err != nil {
		return refuse(err)
	}
	e, err := event.Read(body, b.o.Book().Events.Fields)
	told := event.Record{Source: event.FromShop, Number: h.ID, At: now.UTC().Truncate(time.Millisecond), Event: e, State: event.Waiting}
	switch {
	case errors.Is(err, event.ErrUnknown):
		told.State, told.Problem, told.DoneAt = event.Ignored, err.Error(), told.At
		if e.Check() != nil {
			told.Event = event.Event{Order: e.Order}
		}
	case err != nil:
		return refuse(err)
	}
	return b.put(ctx, told)
}

// An arrival is an event that waits to be written down.
type arrival struct {
	told event.Record
	done chan error
}

// The most events that are written down in one transaction, and that wait for it.
const (
	mostTogether = 500
	mostQueued   = 10_000
)

// put writes down an event. Those that arrive while others are written down are written down together: the disk is waited for once.
func (b *Inbox) put(ctx context.Context, told event.Record) error {
	a := &arrival{told, make(chan error, 1)}
	b.mu.Lock()
	if len(b.queue) >= mostQueued {
		b.mu.Unlock()
		return errors.New("too many events are waiting to be recorded")
	}
	b.queue = append(b.queue, a)
	leads := !b.writing
	b.writing = true
	b.mu.Unlock()
	if leads {
		b.write(context.WithoutCancel(ctx)) // of others too, who have not hung up
	}
	return <-a.done
}

func (b *Inbox) write(ctx context.Context) {
	for {
		b.mu.Lock()
		some := b.queue[:min(len(b.queue), mostTogether)]
		b.queue = b.queue[len(some):]
		b.writing = len(some) > 0
		b.mu.Unlock()
		if len(some) == 0 {
			return
		}
		all := make([]event.Record, len(some))
		for i, a := range some {
			all[i] = a.told
		}
		err := b.o.Store.AddEvents(ctx, all)
		for _, a := range some {
			a.done <- err
		}
	}
}

// Wake says that there are events to be carried out.
func (b *Inbox) Wake() {
	select {
	case b.wake <- struct{}{}:
	default:
	}
}

// How long is waited before what could not be carried out since the records failed is tried again, and before it is looked whether there is
// something that nobody has told of.
const (
	tryAgain  = 2 * time.Second
	lookAgain = 30 * time.Second
)

// Run carries out events until ctx ends; one that is under way is finished.
func (b *Inbox) Run(ctx context.Context) {
	for ctx.Err() == nil {
		wait := lookAgain
		if err := b.CarryOut(context.WithoutCancel(ctx)); err != nil {
			b.o.Log.Error("events can't be processed", "error", err)
			wait = tryAgain
		}
		timer := time.NewTimer(wait)
		select {
		case <-ctx.Done():
		case <-timer.C:
		case <-b.wake:
		}
		timer.Stop()
	}
}

// mostFailed is after how many events that could not be carried out, since the records failed, others are not tried either.
const mostFailed = 5

// CarryOut carries out what is waiting. The error says that the records cannot be read or written; what is not done then waits on.
// One event that fails does not hold up those behind it.
func (b *Inbox) CarryOut(ctx context.Context) error {
	for {
		waiting, err := b.o.Store.WaitingEvents(ctx, mostTogether)
		if err != nil || len(waiting) == 0 {
			return err
		}
		var failed []error
		for _, told := range waiting {
			if err := b.carryOut(ctx, told, "shop"); err != nil {
				failed = append(failed, fmt.Errorf("event %d: %w", told.ID, err))
			}
			if len(failed) >= mostFailed {
				break
			}
		}
		if len(failed) > 0 {
			return errors.Join(failed...)
		}
	}
}

// Find returns an event. The error is a *mistake.Error if there is none of that number.
func (b *Inbox) Find(ctx context.Context, id int64) (event.Record, error) {
	told, err := b.o.Store.ToldEvent(ctx, id)
	if errors.Is(err, store.ErrNone) {
		err = mistake.Unknown("there is no event %d; `ostiarius events list` shows them", id)
	}
	return told, err
}

// List returns the events that a query means, the newest first, and how many there are in each state in all.
func (b *Inbox) List(ctx context.Context, q store.EventsQuery) ([]event.Record, map[event.State]int, error) {
	all, err := b.o.Store.ToldEvents(ctx, q)
	if err != nil {
		return nil, nil, err
	}
	counts, err := b.o.Store.CountEvents(ctx)
	return all, counts, err
}

// Retry carries out an event that was kept; of one that is done and waits for its buyer, it sends the link once more. The error is
// a *mistake.Error that says why it still cannot be done.
func (b *Inbox) Retry(ctx context.Context, actor string, id int64) error {
	told, err := b.Find(ctx, id)
	if err != nil {
		return err
	}
	switch told.State {
	case event.Kept:
	case event.Done:
		return b.claimAgain(ctx, actor, told)
	default:
		return mistake.Invalid("event %d is %s; only a kept event can be processed again", id, told.State)
	}
	if err := b.carryOut(ctx, told, actor); err != nil {
		return err
	}
	if told, err = b.Find(ctx, id); err == nil && told.State == event.Kept {
		err = mistake.Invalid("event %d still can't be processed: %s", id, told.Problem)
	}
	if cause := b.CarryOut(ctx); err == nil { // what waited for it
		err = cause
	}
	return err
}

// Drop says that an event which was kept is not carried out.
func (b *Inbox) Drop(ctx context.Context, actor string, id int64) error {
	told, err := b.Find(ctx, id)
	if err != nil {
		return err
	}
	e := b.record(kind.EventDropped, told.Event, told.Problem)
	e.Actor = actor
	err = store.ErrNone
	if told.State == event.Kept {
		err = b.o.Store.KeepEvent(ctx, id, event.Kept, event.Ignored, "dropped by "+actor+"; "+told.Problem, &e)
	}
	if errors.Is(err, store.ErrNone) {
		return mistake.Invalid("event %d is %s; only a kept event can be discarded", id, told.State)
	}
	return err
}

// Remarks says what is to be looked at: events that could not be carried out.
func (b *Inbox) Remarks(ctx context.Context) ([]string, error) {
	counts, err := b.o.Store.CountEvents(ctx)
	switch n := counts[event.Kept]; {
	case err != nil || n == 0:
		return nil, err
	case n == 1:
		return []string{"1 event from the shop could not be processed. The Events page shows why."}, nil
	default:
		return []string{fmt.Sprintf("%d events from the shop could not be processed. The Events page shows why.", n)}, nil
	}
}

// Sweep removes what has ended.
func (b *Inbox) Sweep(ctx context.Context) error {
	err := b.o.Store.SweepSecrets(ctx, b.o.Now())
	if b.o.Keep > 0 {
		err = errors.Join(err, b.o.Store.SweepEvents(ctx, b.o.Now().Add(-b.o.Keep)))
	}
	if err != nil {
		return fmt.Errorf("events could not be swept: %w", err)
	}
	return nil
}

// Chores is for chores.Room.
func (b *Inbox) Chores() []chores.Chore {
	return []chores.Chore{chores.Sweep(b.Sweep)}
}
