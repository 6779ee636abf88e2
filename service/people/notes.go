package people

import (
	"context"
	"crypto/rand"
	"fmt"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"ostiarius/core/place"
	"ostiarius/core/policy"
	"ostiarius/store"
)

// notes are what happened at the doors since it was last written down. Requests do not
// wait for the records, and those that are admitted not for each other.
type notes struct {
	tally   atomic.Pointer[tally]
	mu      sync.Mutex
	before  *tally                      // the one that was written down last: a request may still have had it in hand
	total   [len(policy.Outcomes)]int64 // of all that was counted in tallies before
	events  []store.Event
	dropped int64
	alike   map[alike]*drawn // refusals of the last minute
}

// Refusals are alike if they are of one kind, of one account from one network at one door. Of
// those that are alike, the first few places of a minute are recorded one by one; all others are
// drawn together under one reference, with how many there were.
type alike struct{ kind, account, network, door, place string }

type drawn struct {
	reference string
	since     time.Time
	more      int64
	places    int // of this kind of refusal, without a place
	event     store.Event
}

const (
	drawnFor  = time.Minute
	mostAlike = 20     // places of alike refusals that are told apart
	mostDrawn = 10_000 // kinds of refusals that are known at a time
)

// draw returns the reference of a refusal that is alike to one a moment ago, and false for one that
// is to be recorded by itself. The lock is held.
func (n *notes) draw(e store.Event) (reference string, known bool) {
	if n.alike == nil {
		n.alike = map[alike]*drawn{}
	}
	key := alike{e.Kind, e.Account, networkOf(e.Network), e.Door, e.Place}
	all := key
	all.place = ""
	if d := n.alike[all]; d != nil && d.over(e.At) {
		n.events = append(n.events, n.settle(e.At, false)...)
	}
	if d := n.alike[key]; d != nil {
		d.more++
		return d.reference, true
	}
	if d := n.alike[all]; d == nil {
		if len(n.alike) >= mostDrawn {
			n.dropped++
			return e.Reference, true
		}
		n.alike[all] = &drawn{reference: e.Reference, since: e.At, places: 1, event: e}
	} else if d.places++; d.places > mostAlike {
		d.more++
		return d.reference, true
	}
	n.alike[key] = &drawn{reference: e.Reference, since: e.At, event: e}
	return e.Reference, false
}

func (d *drawn) over(now time.Time) bool { return now.Sub(d.since) >= drawnFor || d.since.After(now) }

// settle forgets the alike refusals of more than a minute ago, or all of them, and returns records
// of how many more there were. The lock is held.
func (n *notes) settle(now time.Time, all bool) (events []store.Event) {
	for key, d := range n.alike {
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
		delete(n.alike, key)
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

// Note counts what a request came to. One that was refused, or was told that nothing is
// there, is recorded by itself, with the reference under which it can be found.
func (r *Register) Note(outcome policy.Outcome, door *policy.Door, at place.Place, v *policy.Visitor) (reference string) {
	n := &r.notes
	t := n.tally.Load()
	for t == nil {
		n.tally.CompareAndSwap(nil, &tally{hour: r.now().Unix() / 3600})
		t = n.tally.Load()
	}
	t.of(door)[slices.Index(policy.Outcomes[:], outcome)].Add(1)
	if outcome != policy.Refuse && outcome != policy.Hide {
		return ""
	}
	if outcome == policy.Refuse {
		text := rand.Text()
		reference = text[:4] + "-" + text[4:8]
	}
	kind, network := "refused", ""
	if outcome == policy.Hide {
		kind = "hidden"
	}
	if v.From.IsValid() {
		network = v.From.String()
	}
	return n.add(store.Event{
		At: r.now(), Kind: kind, Account: v.Account, Actor: v.Account, Network: network, Reference: reference,
		Door: door.Label(), Place: cut(at.Method+" "+at.Host+at.Path, 300), Detail: "asks for " + door.Admit.String(),
	})
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
func (r *Register) Total(outcome policy.Outcome) int64 {
	n, i := &r.notes, slices.Index(policy.Outcomes[:], outcome)
	n.mu.Lock()
	defer n.mu.Unlock()
	total := n.total[i]
	for _, t := range []*tally{n.before, n.tally.Load()} {
		if t != nil {
			t.doors.Range(func(_, counted any) bool {
				total += counted.(*outcomes)[i].Load()
				return true
			})
		}
	}
	return total
}

// add notes an event, by itself or with others that are alike, and returns the reference under
// which it is found.
func (n *notes) add(e store.Event) (reference string) {
	n.mu.Lock()
	defer n.mu.Unlock()
	reference, known := n.draw(e)
	switch {
	case known:
	case len(n.events) >= mostNotes:
		n.dropped++
	default:
		n.events = append(n.events, e)
	}
	return reference
}

// FlushNotes writes down what was noted since it was last called.
func (r *Register) FlushNotes(ctx context.Context) error { return r.flushNotes(ctx, false) }

func (r *Register) flushNotes(ctx context.Context, last bool) error {
	n := &r.notes
	n.mu.Lock()
	var all []store.Count
	counted := n.tally.Swap(nil)
	for _, t := range []*tally{n.before, counted} {
		if t != nil {
			all = append(all, t.counts(&n.total)...)
		}
	}
	events, dropped := append(n.events, n.settle(r.now(), last)...), n.dropped
	n.before, n.events, n.dropped = counted, nil, 0
	n.mu.Unlock()
	if dropped > 0 {
		events = append(events, store.Event{At: r.now(), Kind: "more refused", Detail: fmt.Sprintf("%d more refusals than are recorded one by one", dropped)})
	}
	return r.store.Note(ctx, events, all)
}

// An Event is a record of what happened; see store.Event.
type Event = store.Event

// An EventQuery says which events are meant; see store.EventQuery.
type EventQuery = store.EventQuery

// Events returns the latest events that a query means, newest first.
func (r *Register) Events(ctx context.Context, q EventQuery) ([]Event, error) {
	if err := r.FlushNotes(ctx); err != nil {
		return nil, err
	}
	return r.store.Events(ctx, q)
}

// Counts returns how many requests came to what at which door, by hour, since a time.
func (r *Register) Counts(ctx context.Context, since time.Time) ([]store.Count, error) {
	if err := r.FlushNotes(ctx); err != nil {
		return nil, err
	}
	return r.store.Counts(ctx, since)
}
