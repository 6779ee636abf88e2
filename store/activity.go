package store

import (
	"context"
	"time"

	"github.com/jmoiron/sqlx"
)

// An Event is one record of what happened at the doors or was changed. It never holds a
// password or a token.
type Event struct {
	At      time.Time
	Kind    string // such as "sign-in", "sign-in failed", "account added"
	Account string // whom it is about
	Actor   string // who did it
	Network string // from where
	Detail  string
}

func record(ctx context.Context, tx sqlx.ExtContext, e Event) error {
	_, err := tx.ExecContext(ctx, `INSERT INTO activity (at, kind, account, actor, network, detail) VALUES (?, ?, ?, ?, ?, ?)`,
		millis(e.At), e.Kind, e.Account, e.Actor, e.Network, e.Detail)
	return err
}

// Record writes an event by which no other record changes.
func (s *Store) Record(ctx context.Context, e Event) error { return record(ctx, s.db, e) }

// Events returns the latest events, newest first.
func (s *Store) Events(ctx context.Context, limit int) ([]Event, error) {
	var rows []struct {
		At                                    int64
		Kind, Account, Actor, Network, Detail string
	}
	err := s.db.SelectContext(ctx, &rows, `SELECT at, kind, account, actor, network, detail FROM activity ORDER BY id DESC LIMIT ?`, limit)
	events := make([]Event, len(rows))
	for i, r := range rows {
		events[i] = Event{moment(r.At), r.Kind, r.Account, r.Actor, r.Network, r.Detail}
	}
	return events, err
}
