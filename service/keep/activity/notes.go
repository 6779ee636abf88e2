// Package activity is what happened: at the doors, counted by the hour and refusals one by one, and
// in the records, where what is changed is written down in the same transaction.
package activity

import (
	"context"
	"crypto/rand"
	"fmt"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	kind "ostiarius/core/activity"
	"ostiarius/core/place"
	"ostiarius/core/policy"
	"ostiarius/core/throttle"
	"ostiarius/service/base/chores"
	"ostiarius/store"
)

// Options are what a Log needs.
type Options struct {
	Store *store.Store
	Now   func() time.Time
	Keep  time.Duration // how long it is kept; 0 for ever
	Most  int           // how many records are kept at most; a million if zero
}

// A Log is the activity of a service. What happens at the doors is held in memory for a moment:
// requests do not wait for the records, and those that are admitted not for each other.
type Log struct {
	Options
	tally   atomic.Pointer[tally]
	mu      sync.Mutex
	before  *tally                      // the one that was written down last: a request may still have had it in hand
	total   [len(policy.Outcomes)]int64 // of all that was counted in tallies before
	events  []store.Activity
	dropped int64
	alike   map[alike]*drawn // refusals of the last minute
	left    unwritten
}

// Refusals are alike if they are of one kind, of one account from one network at one door. Of
// those that are alike, the first few places of a minute are recorded one by one; all others are
// drawn together under one reference, with how many there were.
type alike struct {
	kind                          kind.Kind
	account, network, door, place string
}

type drawn struct {
	reference string
	since     time.Time
	more      int64
	places    int // of this kind of refusal, without a place
	event     store.Activity
}

const (
	drawnFor  = time.Minute
	mostAlike = 20     // places of alike refusals that are told apart
	mostDrawn = 10_000 // kinds of refusals that are known at a time
)

// New returns a Log.
func New(o Options) *Log {
	if o.Most == 0 {
		o.Most = 1_000_000
	}
	return &Log{Options: o, left: unwritten{turn: make(chan struct{}, 1), counts: map[store.Count]int64{}}}
}

// draw returns the reference of a refusal that is alike to one a moment ago, and false for one that
// is to be recorded by itself. The lock is held.
func (l *Log) draw(e store.Activity) (reference string, known bool) {
	if l.alike == nil {
		l.alike = map[alike]*drawn{}
	}
	key := alike{e.Kind, e.Account, throttle.NetworkNamed(e.Network), e.Door, e.Place}
	if e.Kind == kind.EventRefused { // for what reason is what matters
		key.place = e.Detail
	}
	all := key
	all.place = ""
	if d := l.alike[all]; d != nil && d.over(e.At) {
		l.events = append(l.events, l.settle(e.At, false)...)
	}
	if d := l.alike[key]; d != nil {
		d.more++
		return d.reference, true
	}
	if d := l.alike[all]; d == nil {
		if len(l.alike) >= mostDrawn {
			l.dropped++
			return e.Reference, true
		}
		l.alike[all] = &drawn{reference: e.Reference, since: e.At, places: 1, event: e}
	} else if d.places++; d.places > mostAlike {
		d.more++
		return d.reference, true
	}
	l.alike[key] = &drawn{reference: e.Reference, since: e.At, event: e}
	return e.Reference, false
}

func (d *drawn) over(now time.Time) bool { return now.Sub(d.since) >= drawnFor || d.since.After(now) }

// settle forgets the alike refusals of more than a minute ago, or all of them, and returns records
// of how many more there were. The lock is held.
func (l *Log) settle(now time.Time, all bool) (events []store.Activity) {
	for key, d := range l.alike {
		if !all && !d.over(now) {
			continue
		}
		if d.more > 0 {
			e := d.event
			e.At, e.Detail = now, fmt.Sprintf("%d more like this", d.more)
			if key.place == "" {
				e.Place, e.Detail = "", e.Detail+", at many places"
			}
			events = append(events, e)
		}
		delete(l.alike, key)
	}
	return events
}

// A tally counts what requests come to, by door, from one time of writing to the next.
type tally struct {
	hour  int64
	doors sync.Map // *policy.Door, nil for none, to *outcomes
}

// outcomes are counters, in the order of policy.Outcomes.
type outcomes [len(policy.Outcomes)]atomic.Int64

// The most refusals that are recorded one by one between two times of writing. More are
// only counted, so that a flood of them does not fill the records.
const mostNotes = 100

// The longest place that is recorded, in bytes.
const longestPlace = 300

// Count counts what a request came to.
func (l *Log) Count(outcome policy.Outcome, door *policy.Door) {
	t := l.tally.Load()
	for t == nil {
		l.tally.CompareAndSwap(nil, &tally{hour: l.Now().Unix() / 3600})
		t = l.tally.Load()
	}
	t.of(door)[slices.Index(policy.Outcomes[:], outcome)].Add(1)
}

// Note records a request that was refused, or was told that nothing is there, and returns the reference under which it can be found.
// It is called for every request, and returns "" for others. The version is that of the policy, 0 if it is not known.
func (l *Log) Note(outcome policy.Outcome, door *policy.Door, at place.Place, v *policy.Visitor, version int64) (reference string) {
	if outcome != policy.Refuse && outcome != policy.Hide {
		return ""
	}
	if outcome == policy.Refuse {
		text := rand.Text()
		reference = text[:4] + "-" + text[4:8]
	}
	what, network := kind.Refused, ""
	if outcome == policy.Hide {
		what = kind.Hidden
	}
	if v.From.IsValid() {
		network = v.From.String()
	}
	where := at.String()
	return l.Add(store.Activity{
		At: l.Now(), Kind: what, Account: v.Account, Actor: v.Account, Network: network, Reference: reference,
		Door: door.Label(), Place: where[:min(len(where), longestPlace)], Detail: "asks for " + door.Ask() + known(v, version),
	})
}

// known says as whom somebody came, in the notation for visitors, and which version of the policy was active: so that it can be
// explained later, whatever has changed since.
func known(v *policy.Visitor, version int64) string {
	then := *v
	if then.ProofAge > 0 {
		then.ProofAge = then.ProofAge.Round(time.Second)
	}
	as := then.String()
	if version == 0 || len(as) > longestPlace {
		return ""
	}
	return fmt.Sprintf("; came as %s; version %d", as, version)
}

func (t *tally) of(door *policy.Door) *outcomes {
	found, ok := t.doors.Load(door)
	if !ok {
		found, _ = t.doors.LoadOrStore(door, &outcomes{})
	}
	return found.(*outcomes)
}

// counts returns what was counted since it was last called, and adds it to total.
func (t *tally) counts(total *[len(policy.Outcomes)]int64) (all []store.Count) {
	t.doors.Range(func(key, value any) bool {
		label := ""
		if door := key.(*policy.Door); door != nil {
			label = door.Label()
		}
		for i := range value.(*outcomes) {
			if times := value.(*outcomes)[i].Swap(0); times > 0 {
				total[i] += times
				all = append(all, store.Count{Hour: time.Unix(t.hour*3600, 0), Door: label, Outcome: string(policy.Outcomes[i]), N: times})
			}
		}
		return true
	})
	return all
}

// Total returns how many requests came to an outcome since the start.
func (l *Log) Total(outcome policy.Outcome) int64 {
	i := slices.Index(policy.Outcomes[:], outcome)
	l.mu.Lock()
	defer l.mu.Unlock()
	total := l.total[i]
	for _, t := range []*tally{l.before, l.tally.Load()} {
		if t != nil {
			t.doors.Range(func(_, counted any) bool {
				total += counted.(*outcomes)[i].Load()
				return true
			})
		}
	}
	return total
}

// Add notes an event, by itself or with others that are alike, and returns the reference under
// which it is found.
func (l *Log) Add(e store.Activity) (reference string) {
	l.mu.Lock()
	defer l.mu.Unlock()
	reference, known := l.draw(e)
	switch {
	case known:
	case len(l.events) >= mostNotes:
		l.dropped++
	default:
		l.events = append(l.events, e)
	}
	return reference
}

// Flush writes down what was noted since it was last called.
func (l *Log) Flush(ctx context.Context) error { return l.flush(ctx, false) }

// Close writes down all that was noted.
func (l *Log) Close(ctx context.Context) error { return l.flush(ctx, true) }

// Bound removes records of more than are kept: first what anybody can cause, of those who caused most.
func (l *Log) Bound(ctx context.Context) error { return l.Store.BoundActivity(ctx, l.Most) }

// Sweep removes records that are older than they are kept.
func (l *Log) Sweep(ctx context.Context) error {
	if l.Keep == 0 {
		return nil
	}
	return l.Store.SweepActivity(ctx, l.Now().Add(-l.Keep))
}

// flushSoon is Flush for somebody who wants to see what happened, and not to wait long for what happened just now.
func (l *Log) flushSoon(ctx context.Context) {
	soon, cancel := context.WithTimeout(ctx, 2*time.Second)
	defer cancel()
	l.Flush(soon) // if not, it is tried again each second
}

// unwritten is what was noted and is not in the records yet.
type unwritten struct {
	turn   chan struct{} // holds one while somebody writes it down
	events []store.Activity
	counts map[store.Count]int64 // by all but how many
}

// The most events that are kept while the records cannot be written, and how many are written at a time.
const (
	mostUnwritten = 10_000
	atATime       = 200
)

// flush writes down what was noted, in portions. What cannot be written is kept, and comes first the next time.
func (l *Log) flush(ctx context.Context, last bool) error {
	select {
	case l.left.turn <- struct{}{}:
		defer func() { <-l.left.turn }()
	case <-ctx.Done():
		return ctx.Err()
	}
	l.collect(last)
	for len(l.left.events) > 0 || len(l.left.counts) > 0 {
		events := l.left.events[:min(atATime, len(l.left.events))]
		var counts []store.Count
		for c, n := range l.left.counts {
			if len(counts) == atATime {
				break
			}
			c.N = n
			counts = append(counts, c)
		}
		if err := l.Store.Note(ctx, events, counts); err != nil {
			return err
		}
		l.left.events = l.left.events[len(events):]
		for _, c := range counts {
			c.N = 0
			delete(l.left.counts, c)
		}
	}
	l.left.events = nil
	return nil
}

// collect adds what was noted of late to what is left to be written.
func (l *Log) collect(last bool) {
	l.mu.Lock()
	defer l.mu.Unlock()
	counted := l.tally.Swap(nil)
	for _, t := range []*tally{l.before, counted} {
		if t == nil {
			continue
		}
		for _, c := range t.counts(&l.total) {
			n := c.N
			c.N = 0
			l.left.counts[c] += n
		}
	}
	all := append(l.left.events, append(l.events, l.settle(l.Now(), last)...)...)
	if over := len(all) - mostUnwritten; over > 0 {
		all, l.dropped = all[:mostUnwritten], l.dropped+int64(over)
	}
	if l.dropped > 0 && len(all) < mostUnwritten {
		all = append(all, store.Activity{
			At: l.Now(), Kind: kind.MoreRefused, Detail: fmt.Sprintf("%d more refusals than are recorded one by one", l.dropped),
		})
		l.dropped = 0
	}
	l.before, l.events, l.left.events = counted, nil, all
}

// An Record is a record of what happened; see store.Record.
type Record = store.Activity

// A Query says which events are meant; see store.EventQuery.
type Query = store.ActivityQuery

// Events returns the latest events that a query means, newest first.
// Rest is what to go on with as q.Before; 0 if that is all.
func (l *Log) Events(ctx context.Context, q Query) (events []Record, rest int64, err error) {
	l.flushSoon(ctx)
	return l.Store.Events(ctx, q)
}

// Counts returns how many requests came to what at which door, by hour, since a time.
func (l *Log) Counts(ctx context.Context, since time.Time) ([]store.Count, error) {
	l.flushSoon(ctx)
	return l.Store.Counts(ctx, since)
}

// Chores is for chores.Room.
func (l *Log) Chores() []chores.Chore {
	return []chores.Chore{chores.Each(time.Second, l.Flush), chores.Each(20*time.Second, l.Bound), chores.AtEnd(l.Close),
		chores.Sweep(l.Sweep)}
}
