package store

import (
	"context"
	"errors"
	"time"

	"ostiarius/core/event"
	"ostiarius/core/signature"
)

// A keptEvent is an event as it is kept: its body is erased when it is done, and who has bought is asked to be forgotten.
type keptEvent struct {
	event.Record
	Type    event.Type
	Order   string
	Address string
	Words   string
}

const eventColumns = `id, source, number, at, type Type, order_no Order, body Event json, state, problem, done_at`

var (
	events    = tableOf[keptEvent]("events", eventColumns)
	newEvents = tableOf[keptEvent]("events", eventColumns+`, address Address, words`)
)

// AddEvents writes down events, all in one transaction: when it returns, they are kept. Those whose sender has given their number
// before are known already, and nothing is written.
func (s *Store) AddEvents(ctx context.Context, all []event.Record) error {
	return s.inTransaction(ctx, func(tx speaker) error {
		for _, told := range all {
			e := told.Event
			told.ID = 0
			tx.news.Events = true
			_, err := newEvents.add(ctx, tx, []keptEvent{{told, e.Type, e.Order, e.Buyer.Address, wordsOf(e.Order, e.Buyer.Address, e.Buyer.Name,
				string(e.Type))}}, `ON CONFLICT (source, number) DO NOTHING`)
			if err != nil {
				return err
			}
		}
		return nil
	})
}

// An EventsQuery says which events are meant. Empty fields mean any.
type EventsQuery struct {
	State  event.State
	Words  string // in order, address, name or type
	Before int64  // only earlier ones than this
	Limit  int
}

// ToldEvents returns the events that a query means, the newest first.
func (s *Store) ToldEvents(ctx context.Context, q EventsQuery) ([]event.Record, error) {
	where, args := `1 = 1`, []any{}
	if q.State != "" {
		where, args = where+` AND state = ?`, append(args, q.State)
	}
	if q.Before > 0 {
		where, args = where+` AND id < ?`, append(args, q.Before)
	}
	if q.Words != "" {
		where, args = where+` AND words LIKE ? ESCAPE '!'`, append(args, containing(q.Words))
	}
	return s.toldEvents(ctx, s.long, where+` ORDER BY id DESC LIMIT ?`, append(args, q.Limit)...)
}

// WaitingEvents returns events that are to be carried out, the oldest first.
func (s *Store) WaitingEvents(ctx context.Context, most int) ([]event.Record, error) {
	return s.toldEvents(ctx, s.speaker, `state = ? ORDER BY id LIMIT ?`, event.Waiting, most)
}

// KeptEvents returns the events of an order that are kept, the oldest first.
func (s *Store) KeptEvents(ctx context.Context, order string) ([]event.Record, error) {
	return s.toldEvents(ctx, s.speaker, `order_no = ? AND state = ? ORDER BY id`, order, event.Kept)
}

// EventsOf returns the events of an order, the oldest first.
func (s *Store) EventsOf(ctx context.Context, order string) ([]event.Record, error) {
	return s.toldEvents(ctx, s.speaker, `order_no = ? ORDER BY id`, order)
}

// ToldEvent returns one event. The error is ErrNone if there is none of that number.
func (s *Store) ToldEvent(ctx context.Context, id int64) (event.Record, error) {
	return first(s.toldEvents(ctx, s.speaker, `id = ?`, id))
}

func (s *Store) toldEvents(ctx context.Context, from speaker, where string, args ...any) ([]event.Record, error) {
	kept, err := events.all(ctx, from, `WHERE `+where, args...)
	all := make([]event.Record, len(kept))
	for i, k := range kept {
		if all[i] = k.Record; k.Event.Type == "" {
			all[i].Event = event.Event{Type: k.Type, Order: k.Order}
		}
	}
	return all, err
}

// CountEvents returns how many events are in each state.
func (s *Store) CountEvents(ctx context.Context) (map[event.State]int, error) {
	var rows []struct {
		State event.State
		N     int
	}
	err := s.long.all(ctx, &rows, `SELECT state, COUNT(*) AS n FROM events GROUP BY state`)
	counts := map[event.State]int{}
	for _, r := range rows {
		counts[r.State] = r.N
	}
	return counts, err
}

// KeepEvent says that an event cannot be carried out, and why; or lets one be carried out that was kept. The error is ErrNone if
// its state is another by now.
func (s *Store) KeepEvent(ctx context.Context, id int64, before, after event.State, problem string, e *Activity) error {
	return s.inTransaction(ctx, func(tx speaker) error {
		tx.news.Events = after == event.Waiting
		if err := one(tx.exec(ctx, `UPDATE events SET state = ?, problem = ? WHERE id = ? AND state = ?`, after, problem, id,
			before)); err != nil || e == nil {
			return err
		}
		return record(ctx, tx, *e)
	})
}

// SweepEvents removes the events that were done with before a time; their orders and payments stay.
func (s *Store) SweepEvents(ctx context.Context, before time.Time) error {
	return s.sweep(ctx, "events", "id", `state IN (?, ?) AND at <= ?`, event.Done, event.Ignored, millis(before))
}

// An EventSecret is one with which the shop signs.
type EventSecret struct {
	ID     int64
	Secret signature.Secret
	MadeAt time.Time
	MadeBy string
	Until  time.Time // zero for no end
}

var eventSecrets = tableOf[EventSecret]("event_secrets", `id, secret, made_at, made_by, until_at Until`)

// EventSecrets returns the secrets that count at a time, the oldest first.
func (s *Store) EventSecrets(ctx context.Context, now time.Time) ([]EventSecret, error) {
	return eventSecrets.all(ctx, s.speaker, `WHERE until_at = 0 OR until_at > ? ORDER BY id`, millis(now))
}

// AddEventSecret adds a secret. Those before end at a time, unless that is zero or they end earlier.
func (s *Store) AddEventSecret(ctx context.Context, secret EventSecret, others time.Time, e Activity) error {
	return s.change(ctx, nil, e, func(tx speaker) error {
		if !others.IsZero() {
			if _, err := tx.exec(ctx, `UPDATE event_secrets SET until_at = ? WHERE until_at = 0 OR until_at > ?`, millis(others),
				millis(others)); err != nil {
				return err
			}
		}
		secret.ID = 0
		return eventSecrets.addOne(ctx, tx, secret)
	})
}

// RemoveEventSecret removes a secret. The error is ErrNone if there is none of that number.
func (s *Store) RemoveEventSecret(ctx context.Context, id int64, e Activity) error {
	return s.change(ctx, nil, e, func(tx speaker) error {
		return one(tx.exec(ctx, `DELETE FROM event_secrets WHERE id = ?`, id))
	})
}

// SweepSecrets removes the secrets that have ended, and the claims.
func (s *Store) SweepSecrets(ctx context.Context, now time.Time) error {
	return errors.Join(s.sweep(ctx, "event_secrets", "id", `until_at > 0 AND until_at <= ?`, millis(now)),
		s.sweep(ctx, "claims", "until_at", `until_at <= ?`, millis(now)))
}
