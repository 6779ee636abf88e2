package store

import (
	"context"
	"encoding/hex"
	"time"

	"github.com/jmoiron/sqlx"

	"ostiarius/core/secret"
	"ostiarius/core/session"
)

type sessionRow struct {
	Hash       string `db:"token_hash"`
	Account    int64  `db:"account_id"`
	MadeAt     int64  `db:"made_at"`
	SeenAt     int64  `db:"seen_at"`
	ProvedAt   int64  `db:"proved_at"`
	Remembered bool   `db:"remembered"`
	Network    string `db:"network"`
	Agent      string `db:"agent"`
}

func (r sessionRow) session(hash secret.TokenHash) *session.Session {
	return &session.Session{
		Hash: hash, Account: r.Account, MadeAt: moment(r.MadeAt), SeenAt: moment(r.SeenAt),
		ProvedAt: moment(r.ProvedAt), Remembered: r.Remembered, Network: r.Network, Agent: r.Agent,
	}
}

func hexOf(h secret.TokenHash) string { return hex.EncodeToString(h[:]) }

// AddSession adds the session of somebody who has just signed in, and ends the one that
// the browser had before, if any. The password must still be the one that was verified:
// when its hash has changed since, the error is ErrNone and nothing is added.
func (s *Store) AddSession(ctx context.Context, n *session.Session, verified string, before *secret.TokenHash, e Event) error {
	return s.inTransaction(ctx, func(tx *sqlx.Tx) error {
		if before != nil {
			if _, err := tx.ExecContext(ctx, `DELETE FROM sessions WHERE token_hash = ?`, hexOf(*before)); err != nil {
				return err
			}
		}
		err := one(tx.ExecContext(ctx, `INSERT INTO sessions (token_hash, account_id, made_at, seen_at, proved_at, remembered, network, agent)
			SELECT ?, id, ?, ?, ?, ?, ?, ? FROM accounts WHERE id = ? AND hash = ? AND disabled = ?`,
			hexOf(n.Hash), millis(n.MadeAt), millis(n.SeenAt), millis(n.ProvedAt), n.Remembered, n.Network, n.Agent, n.Account, verified, false))
		if err != nil {
			return err
		}
		if err := signedIn(ctx, tx, n.Account, n.MadeAt); err != nil {
			return err
		}
		return record(ctx, tx, e)
	})
}

// Session returns the session of a token. The error is ErrNone if there is none.
func (s *Store) Session(ctx context.Context, hash secret.TokenHash) (*session.Session, error) {
	var r sessionRow
	err := s.db.GetContext(ctx, &r, `SELECT token_hash, account_id, made_at, seen_at, proved_at, remembered, network, agent FROM sessions WHERE token_hash = ?`, hexOf(hash))
	if err != nil {
		return nil, none(err)
	}
	return r.session(hash), nil
}

// SetProved writes when the password was last typed in a session. The error is ErrNone if
// the session has ended.
func (s *Store) SetProved(ctx context.Context, hash secret.TokenHash, at time.Time, e Event) error {
	return s.inTransaction(ctx, func(tx *sqlx.Tx) error {
		if err := one(tx.ExecContext(ctx, `UPDATE sessions SET proved_at = ? WHERE token_hash = ?`, millis(at), hexOf(hash))); err != nil {
			return err
		}
		return record(ctx, tx, e)
	})
}

// EndSession ends a session. The error is ErrNone if it had ended already.
func (s *Store) EndSession(ctx context.Context, hash secret.TokenHash, e Event) error {
	return s.inTransaction(ctx, func(tx *sqlx.Tx) error {
		if err := one(tx.ExecContext(ctx, `DELETE FROM sessions WHERE token_hash = ?`, hexOf(hash))); err != nil {
			return err
		}
		return record(ctx, tx, e)
	})
}

// Seen writes when sessions were last used, all at once.
func (s *Store) Seen(ctx context.Context, at map[secret.TokenHash]time.Time) error {
	if len(at) == 0 {
		return nil
	}
	return s.inTransaction(ctx, func(tx *sqlx.Tx) error {
		for hash, t := range at {
			if _, err := tx.ExecContext(ctx, `UPDATE sessions SET seen_at = ? WHERE token_hash = ? AND seen_at < ?`, millis(t), hexOf(hash), millis(t)); err != nil {
				return err
			}
		}
		return nil
	})
}

// SweepSessions removes the sessions that have ended by themselves: those made before
// old, or last used before idle, and remembered ones made before oldRemembered. A zero
// time sweeps nothing.
func (s *Store) SweepSessions(ctx context.Context, old, idle, oldRemembered time.Time) error {
	_, err := s.db.ExecContext(ctx, `DELETE FROM sessions WHERE remembered = ? AND (made_at < ? OR seen_at < ?) OR remembered = ? AND made_at < ?`,
		false, millis(old), millis(idle), true, millis(oldRemembered))
	return err
}
