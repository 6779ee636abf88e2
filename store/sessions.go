package store

import (
	"context"
	"encoding/hex"
	"math"
	"time"

	"ostiarius/core/message"
	"ostiarius/core/secret"
	"ostiarius/core/session"
)

type sessionRow struct {
	Hash       string `db:"token_hash"`
	Account    int64  `db:"account_id"`
	MadeAt     int64  `db:"made_at"`
	SeenAt     int64  `db:"seen_at"`
	ProvedAt   int64  `db:"proved_at"`
	Remembered bit    `db:"remembered"`
	Network    string `db:"network"`
	Agent      string `db:"agent"`
	Rights     string `db:"rights"`
	Family     string `db:"family"`
	How        string `db:"how"`
}

const sessionColumns = `token_hash, account_id, made_at, seen_at, proved_at, remembered, network, agent, rights, family, how`

func (r sessionRow) session(hash secret.TokenHash) *session.Session {
	return &session.Session{
		Hash: hash, Account: r.Account, MadeAt: moment(r.MadeAt), SeenAt: moment(r.SeenAt),
		ProvedAt: moment(r.ProvedAt), Remembered: bool(r.Remembered), Network: r.Network, Agent: r.Agent, Rights: r.Rights, Family: r.Family, How: session.Proof(r.How),
	}
}

func hexOf(h secret.TokenHash) string { return hex.EncodeToString(h[:]) }

// AddSession adds the session of somebody who has just signed in, and ends the one that
// the browser had before, if any. What proves who somebody is must not have changed since the
// account had so many changes of that: then the error is ErrNone and nothing is added.
func (s *Store) AddSession(ctx context.Context, n *session.Session, proofs int64, before *secret.TokenHash, mails []message.Message, e Event) error {
	return s.inTransaction(ctx, func(tx speaker) error {
		if before != nil {
			if _, err := tx.exec(ctx, `DELETE FROM sessions WHERE token_hash = ?`, hexOf(*before)); err != nil {
				return err
			}
		}
		if err := putSession(ctx, tx, n, proofs); err != nil {
			return err
		}
		if err := signedIn(ctx, tx, n.Account, n.MadeAt); err != nil {
			return err
		}
		if err := post(ctx, tx, mails); err != nil {
			return err
		}
		return record(ctx, tx, e)
	})
}

// putSession adds a session to an account that is enabled and has had so many changes of what proves
// who somebody is. The error is ErrNone if not.
func putSession(ctx context.Context, tx speaker, n *session.Session, proofs int64) error {
	return one(tx.exec(ctx, `INSERT INTO sessions (`+sessionColumns+`)
		SELECT ?, id, ?, ?, ?, ?, ?, ?, ?, ?, ? FROM accounts WHERE id = ? AND proofs = ? AND disabled = 0`,
		hexOf(n.Hash), millis(n.MadeAt), millis(n.SeenAt), millis(n.ProvedAt), bit(n.Remembered), n.Network, n.Agent, n.Rights, hexOf(n.Hash), string(n.How), n.Account, proofs))
}

// LoadSessions adds many sessions at once, for accounts that are there, as when records
// are brought from elsewhere.
func (s *Store) LoadSessions(ctx context.Context, all []*session.Session) error {
	return s.inTransaction(ctx, func(tx speaker) error {
		add, err := tx.prepare(ctx, `INSERT INTO sessions (`+sessionColumns+`) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)`)
		if err != nil {
			return err
		}
		defer add.Close()
		for _, n := range all {
			if _, err := add.ExecContext(ctx, hexOf(n.Hash), n.Account, millis(n.MadeAt), millis(n.SeenAt), millis(n.ProvedAt), bit(n.Remembered), n.Network, n.Agent, n.Rights, hexOf(n.Hash), string(n.How)); err != nil {
				return err
			}
		}
		return nil
	})
}

// RenewSession gives a session another token, since the rights of its account are others. The one
// before is remembered as replaced. The error is ErrNone if the session has ended.
func (s *Store) RenewSession(ctx context.Context, before, after secret.TokenHash, rights string, at time.Time) error {
	return s.inTransaction(ctx, func(tx speaker) error {
		if err := one(tx.exec(ctx, `UPDATE sessions SET token_hash = ?, rights = ? WHERE token_hash = ?`, hexOf(after), rights, hexOf(before))); err != nil {
			return err
		}
		return replaced(ctx, tx, before, after, at)
	})
}

func replaced(ctx context.Context, tx speaker, before, after secret.TokenHash, at time.Time) error {
	return one(tx.exec(ctx, `INSERT INTO replaced_tokens (token_hash, family, at) SELECT ?, family, ? FROM sessions WHERE token_hash = ?`, hexOf(before), millis(at), hexOf(after)))
}

// Replaced returns the session that a token stood for before another took its place, and when that
// was. The error is ErrNone if there is no such session any more, or never was.
func (s *Store) Replaced(ctx context.Context, hash secret.TokenHash) (*session.Session, time.Time, error) {
	var r struct {
		sessionRow
		At int64 `db:"at"`
	}
	err := s.get(ctx, &r, `SELECT sessions.token_hash AS token_hash, account_id, made_at, seen_at, proved_at, remembered, network, agent, rights, sessions.family AS family, how, at
		FROM replaced_tokens JOIN sessions ON sessions.family = replaced_tokens.family WHERE replaced_tokens.token_hash = ?`, hexOf(hash))
	if err != nil {
		return nil, time.Time{}, none(err)
	}
	now, err := unhex(r.Hash)
	return r.session(now), moment(r.At), err
}

// alive is what sessions are that hold by some limits.
const alive = `(remembered = 0 AND sessions.made_at > ? AND seen_at > ? OR remembered = 1 AND sessions.made_at > ?)`

func boundsOf(l session.Limits, now time.Time) []any {
	since := func(t time.Time) any {
		if t.IsZero() {
			return int64(math.MinInt64)
		}
		return millis(t)
	}
	made, seen, remembered := l.Bounds(now)
	return []any{since(made), since(seen), since(remembered)}
}

// A SessionQuery says which sessions are meant.
type SessionQuery struct {
	Account int64  // 0 for all
	Handle  string // the beginning of the hash; "" for all
	Words   string // in the account's name, the network or the browser
	Alive   session.Limits
	Now     time.Time
	Offset  int
	Limit   int
}

// A HeldSession is a session with the name of its account.
type HeldSession struct {
	*session.Session
	Name string
}

// Sessions returns the sessions that a query means, the latest used first, and how many
// there are in all. Those that have outlived the limits are left out.
func (s *Store) Sessions(ctx context.Context, q SessionQuery) ([]HeldSession, int, error) {
	where, args := ` WHERE 1 = 1`, []any{}
	and := func(condition string, values ...any) {
		where += " AND " + condition
		args = append(args, values...)
	}
	if q.Account != 0 {
		and(`account_id = ?`, q.Account)
	}
	if q.Handle != "" {
		and(`token_hash >= ? AND token_hash < ?`, q.Handle, q.Handle+"g")
	}
	if q.Words != "" {
		like := containing(q.Words)
		and(`(name_key LIKE ? ESCAPE '!' OR network LIKE ? ESCAPE '!' OR lower(agent) LIKE ? ESCAPE '!')`, like, like, like)
	}
	and(alive, boundsOf(q.Alive, q.Now)...)
	from := ` FROM sessions JOIN accounts ON accounts.id = sessions.account_id` + where
	var total int
	if err := s.get(ctx, &total, `SELECT COUNT(*)`+from, args...); err != nil {
		return nil, 0, err
	}
	var rows []struct {
		sessionRow
		Name string `db:"name"`
	}
	err := s.all(ctx, &rows, `SELECT token_hash, account_id, sessions.made_at AS made_at, seen_at, proved_at, remembered, network, agent, rights, how, name`+from+
		` ORDER BY seen_at DESC LIMIT ? OFFSET ?`, append(args, q.Limit, q.Offset)...)
	if err != nil {
		return nil, 0, err
	}
	all := make([]HeldSession, len(rows))
	for i, r := range rows {
		hash, err := unhex(r.Hash)
		if err != nil {
			return nil, 0, err
		}
		all[i] = HeldSession{r.session(hash), r.Name}
	}
	return all, total, nil
}

func unhex(s string) (h secret.TokenHash, err error) {
	raw, err := hex.DecodeString(s)
	if err == nil && len(raw) != len(h) {
		err = hex.ErrLength
	}
	copy(h[:], raw)
	return h, err
}

// EndSessions ends the sessions of an account, but for one if keep is not nil. It returns
// how many ended.
func (s *Store) EndSessions(ctx context.Context, account int64, keep *secret.TokenHash, e Event) (ended int64, err error) {
	but := ""
	if keep != nil {
		but = hexOf(*keep)
	}
	err = s.inTransaction(ctx, func(tx speaker) error {
		result, err := tx.exec(ctx, `DELETE FROM sessions WHERE account_id = ? AND token_hash <> ?`, account, but)
		if err != nil {
			return err
		}
		if ended, err = result.RowsAffected(); err != nil || ended == 0 {
			return err
		}
		return record(ctx, tx, e)
	})
	return ended, err
}

// EndAllSessions ends all sessions there are. It returns how many ended.
func (s *Store) EndAllSessions(ctx context.Context, e Event) (ended int64, err error) {
	err = s.inTransaction(ctx, func(tx speaker) error {
		result, err := tx.exec(ctx, `DELETE FROM sessions`)
		if err != nil {
			return err
		}
		if ended, err = result.RowsAffected(); err != nil || ended == 0 {
			return err
		}
		return record(ctx, tx, e)
	})
	return ended, err
}

// Session returns the session of a token. The error is ErrNone if there is none.
func (s *Store) Session(ctx context.Context, hash secret.TokenHash) (*session.Session, error) {
	var r sessionRow
	err := s.get(ctx, &r, `SELECT `+sessionColumns+` FROM sessions WHERE token_hash = ?`, hexOf(hash))
	if err != nil {
		return nil, none(err)
	}
	return r.session(hash), nil
}

// SetProved writes when and how the owner of a session last proved to be that; it gets another
// token with that. The error is ErrNone if the session has ended.
func (s *Store) SetProved(ctx context.Context, before, after secret.TokenHash, how session.Proof, at time.Time, e Event) error {
	return s.inTransaction(ctx, func(tx speaker) error {
		if err := one(tx.exec(ctx, `UPDATE sessions SET token_hash = ?, proved_at = ?, how = ? WHERE token_hash = ?`, hexOf(after), millis(at), string(how), hexOf(before))); err != nil {
			return err
		}
		if err := replaced(ctx, tx, before, after, at); err != nil {
			return err
		}
		return record(ctx, tx, e)
	})
}

// EndSession ends a session. The error is ErrNone if it had ended already.
func (s *Store) EndSession(ctx context.Context, hash secret.TokenHash, e Event) error {
	return s.inTransaction(ctx, func(tx speaker) error {
		if err := one(tx.exec(ctx, `DELETE FROM sessions WHERE token_hash = ?`, hexOf(hash))); err != nil {
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
	return s.inTransaction(ctx, func(tx speaker) error {
		for hash, t := range at {
			if _, err := tx.exec(ctx, `UPDATE sessions SET seen_at = ? WHERE token_hash = ? AND seen_at < ?`, millis(t), hexOf(hash), millis(t)); err != nil {
				return err
			}
		}
		return nil
	})
}

// SweepSessions removes the sessions that hold no longer by some limits.
func (s *Store) SweepSessions(ctx context.Context, limits session.Limits, now time.Time) error {
	return s.inTransaction(ctx, func(tx speaker) error {
		if _, err := tx.exec(ctx, `DELETE FROM sessions WHERE NOT `+alive, boundsOf(limits, now)...); err != nil {
			return err
		}
		_, err := tx.exec(ctx, `DELETE FROM replaced_tokens WHERE family NOT IN (SELECT family FROM sessions)`)
		return err
	})
}
