package people

import (
	"context"
	"crypto/rand"
	"fmt"
	"sync"
	"time"

	"ostiarius/core/policy"
	"ostiarius/store"
)

// notes are what happened at the doors since it was last written down. Requests do not
// wait for the records.
type notes struct {
	mu      sync.Mutex
	counts  map[noteKey]int64
	events  []store.Event
	dropped int64
}

type noteKey struct {
	hour    int64
	outcome policy.Outcome
	door    *policy.Door
}

// The most refusals that are recorded one by one between two times of writing. More are
// only counted, so that a flood of them does not fill the records.
const mostNotes = 500

// Note counts what a request came to. One that was refused, or was told that nothing is
// there, is recorded by itself, with the reference under which it can be found.
func (r *Register) Note(d *policy.Decision, v *policy.Visitor) (reference string) {
	now := r.now()
	if d.Outcome == policy.Refuse {
		text := rand.Text()
		reference = text[:4] + "-" + text[4:8]
	}
	n := &r.notes
	n.mu.Lock()
	defer n.mu.Unlock()
	if n.counts == nil {
		n.counts = map[noteKey]int64{}
	}
	n.counts[noteKey{now.Unix() / 3600, d.Outcome, d.Door}]++
	if d.Outcome != policy.Refuse && d.Outcome != policy.Hide {
		return ""
	}
	kind, network := "refused", ""
	if d.Outcome == policy.Hide {
		kind = "hidden"
	}
	if v.From.IsValid() {
		network = v.From.String()
	}
	n.keep(store.Event{
		At: now, Kind: kind, Account: v.Account, Actor: v.Account, Network: network, Reference: reference,
		Door: d.Door.Label(), Place: cut(d.Place.Method+" "+d.Place.Host+d.Place.Path, 300), Detail: "asks for " + d.Door.Admit.String(),
	})
	return reference
}

// add notes an event by itself.
func (n *notes) add(e store.Event) {
	n.mu.Lock()
	defer n.mu.Unlock()
	n.keep(e)
}

func (n *notes) keep(e store.Event) {
	if len(n.events) >= mostNotes {
		n.dropped++
		return
	}
	n.events = append(n.events, e)
}

// FlushNotes writes down what was noted since it was last called.
func (r *Register) FlushNotes(ctx context.Context) error {
	n := &r.notes
	n.mu.Lock()
	counts, events, dropped := n.counts, n.events, n.dropped
	n.counts, n.events, n.dropped = nil, nil, 0
	n.mu.Unlock()
	if dropped > 0 {
		events = append(events, store.Event{At: r.now(), Kind: "more refused", Detail: fmt.Sprintf("%d more refusals than are recorded one by one", dropped)})
	}
	var all []store.Count
	for key, times := range counts {
		c := store.Count{Hour: time.Unix(key.hour*3600, 0), Outcome: string(key.outcome), N: times}
		if key.door != nil {
			c.Door = key.door.Label()
		}
		all = append(all, c)
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
