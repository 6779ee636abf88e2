package events

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"time"

	"ostiarius/core/event"
	"ostiarius/core/roster"
	"ostiarius/service/base/mistake"
)

// Import takes a list of payments, as if the shop had told of them. Lines of one order that say the same of it are one event. Lines
// that cannot be taken are told and left out, and those that were taken before do nothing more. With dry, it only says what would
// happen.
func (b *Inbox) Import(ctx context.Context, actor, list string, zone *time.Location, dry bool) ([]roster.Done, error) {
	entries, err := event.ReadList(list, zone)
	if err != nil {
		return nil, mistake.Of(err)
	}
	now := b.o.Now().UTC().Truncate(time.Millisecond)
	var done []roster.Done
	var all []event.Record
	lines := map[string]int{} // which of all an order is
	of := map[int]int{}       // which of all a line of done is
	for _, e := range entries {
		line := roster.Done{Line: e.Line, Name: e.Event.Order, Action: "add", Detail: string(e.Event.Type)}
		if e.Err != nil {
			line.Action, line.Detail = "error", e.Err.Error()
			done = append(done, line)
			continue
		}
		same := e.Event
		same.Items = nil
		key, err := json.Marshal(same)
		if err != nil {
			return nil, err
		}
		if i, has := lines[string(key)]; has && len(e.Event.Items) > 0 &&
			!slices.ContainsFunc(all[i].Event.Items, func(item event.Item) bool { return item.Item == e.Event.Items[0].Item }) {
			all[i].Event.Items = append(all[i].Event.Items, e.Event.Items...)
		} else if has {
			line.Action, line.Detail = "error", "the same stands in another line already"
			done = append(done, line)
			continue
		} else {
			lines[string(key)] = len(all)
			all = append(all, event.Record{Source: event.FromList, At: now, Event: e.Event, State: event.Waiting})
		}
		of[len(done)] = lines[string(key)]
		done = append(done, line)
	}
	outcomes := make([]roster.Done, len(all))
	for i := range all {
		if outcomes[i], err = b.fromList(ctx, actor, &all[i], dry); err != nil {
			return nil, err
		}
	}
	for i := range done {
		if at, is := of[i]; is {
			done[i].Action, done[i].Detail = outcomes[at].Action, outcomes[at].Detail
		}
	}
	return done, nil
}

// fromList takes one event of a list, and says what has become of it, or would.
func (b *Inbox) fromList(ctx context.Context, actor string, told *event.Record, dry bool) (roster.Done, error) {
	text, err := json.Marshal(told.Event)
	if err != nil {
		return roster.Done{}, err
	}
	sum := sha256.Sum256(text)
	told.Number = hex.EncodeToString(sum[:16])
	if err := told.Event.Check(); err != nil { // all its lines together may be too many
		return roster.Done{Action: "error", Detail: err.Error()}, nil
	}
	before, err := b.o.Store.EventsOf(ctx, told.Event.Order)
	if err != nil {
		return roster.Done{}, err
	}
	if slices.ContainsFunc(before, func(r event.Record) bool { return r.Source == told.Source && r.Number == told.Number }) {
		return roster.Done{Action: "same", Detail: "was taken before"}, nil
	}
	if dry {
		_, err := b.workOut(ctx, *told, actor)
		var wrong *mistake.Error
		switch {
		case errors.As(err, &wrong):
			return roster.Done{Action: "error", Detail: "it would be kept: " + wrong.Text}, nil
		case err != nil:
			return roster.Done{}, err
		}
		return roster.Done{Action: "add", Detail: string(told.Event.Type)}, nil
	}
	if err := b.o.Store.AddEvents(ctx, []event.Record{*told}); err != nil {
		return roster.Done{}, err
	}
	if before, err = b.o.Store.EventsOf(ctx, told.Event.Order); err != nil {
		return roster.Done{}, err
	}
	for _, r := range before {
		if r.Source != told.Source || r.Number != told.Number {
			continue
		}
		if err := b.carryOut(ctx, r, actor); err != nil {
			return roster.Done{}, err
		}
		after, err := b.o.Store.ToldEvent(ctx, r.ID)
		if err != nil {
			return roster.Done{}, err
		}
		if after.State == event.Kept {
			return roster.Done{Action: "error", Detail: fmt.Sprintf("kept as event %d: %s", after.ID, after.Problem)}, nil
		}
		detail := string(told.Event.Type)
		if after.Problem != "" {
			detail += ": " + after.Problem
		}
		return roster.Done{Action: "add", Detail: detail}, nil
	}
	return roster.Done{}, errors.New("an event of the list is not in the records")
}

// A Progress is how far an order is, for whoever has just paid.
type Progress string

// How far an order is.
const (
	NotYet  Progress = "waiting" // nothing of it is known, or it is being carried out
	Held    Progress = "held"    // somebody has to look at it
	IsThere Progress = "there"
)

// Progress returns how far an order is; nothing else of it.
func (b *Inbox) Progress(ctx context.Context, order string) (Progress, error) {
	all, err := b.o.Store.EventsOf(ctx, order)
	if err != nil {
		return NotYet, err
	}
	is := NotYet
	for _, told := range all {
		switch {
		case told.Event.Type != event.Paid && told.Event.Type != event.Renewed:
		case told.State == event.Done:
			return IsThere, nil
		case told.State == event.Kept:
			is = Held
		}
	}
	return is, nil
}
