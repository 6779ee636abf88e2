package store

import (
	"context"
	"encoding/hex"
	"maps"
	"math"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/jmoiron/sqlx"

	"ostiarius/core/account"
	"ostiarius/core/message"
	"ostiarius/core/secret"
	"ostiarius/core/session"
)

const sessionColumns = `token_hash Hash, account_id Account, sessions.made_at MadeAt, seen_at, proved_at, remembered, network, ` +
	`agent, rights, sessions.family Family, how, shown`

var sessions = tableOf[session.Session]("sessions", strings.ReplaceAll(sessionColumns, "sessions.", ""))

func hexOf(h secret.TokenHash) string { return hex.EncodeToString(h[:]) }

// AddSession adds the session of somebody who has just signed in, and ends the one that
// the browser had before, if any. What proves who somebody is must not have changed since the
// account had so many changes of that: then the error is ErrNone and nothing is added.
func (s *Store) AddSession(ctx context.Context, n *session.Session, proofs int64, before *secret.TokenHash, mails []message.Message,
	e Activity) error {
	return s.change(ctx, mails, e, func(tx speaker) error {
		if before != nil {
			if _, err := tx.exec(ctx, `DELETE FROM sessions WHERE token_hash = ?`, hexOf(*before)); err != nil {
				return err
			}
		}
		if err := putSession(ctx, tx, n, proofs); err != nil {
			return err
		}
		return signedIn(ctx, tx, n.Account, n.MadeAt)
	})
}

// putSession adds a session to an account that is enabled and has had so many changes of what proves
// who somebody is. The error is ErrNone if not.
func putSession(ctx context.Context, tx speaker, n *session.Session, proofs int64) error {
	if err := proofsAre(ctx, tx, n.Account, proofs); err != nil {
		return err
	}
	added := *n
	added.Family = hexOf(n.Hash) // the first of its tokens names all
	return sessions.addOne(ctx, tx, added)
}

// LoadSessions adds many sessions at once, for accounts that are there, as when records
// are brought from elsewhere.
func (s *Store) LoadSessions(ctx context.Context, all []*session.Session) error {
	return s.inTransaction(ctx, func(tx speaker) error {
		for some := range slices.Chunk(all, 500) {
			added := make([]session.Session, len(some))
			for i, n := range some {
				added[i] = *n
				added[i].Family = hexOf(n.Hash)
			}
			if _, err := sessions.add(ctx, tx, added, ""); err != nil {
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
		if err := one(tx.exec(ctx, `UPDATE sessions SET token_hash = ?, rights = ? WHERE token_hash = ?`, hexOf(after), rights,
			hexOf(before))); err != nil {
			return err
		}
		return replaced(ctx, tx, before, after, at)
	})
}

func replaced(ctx context.Context, tx speaker, before, after secret.TokenHash, at time.Time) error {
	return one(tx.exec(ctx, `INSERT INTO replaced_tokens (token_hash, family, at) SELECT ?, family, ? FROM sessions WHERE token_hash `+
		`= ?`, hexOf(before), millis(at), hexOf(after)))
}

// Replaced returns the session that a token stood for before another took its place, and when that
// was. The error is ErrNone if there is no such session any more, or never was.
func (s *Store) Replaced(ctx context.Context, hash secret.TokenHash) (*session.Session, time.Time, error) {
	r, err := replacedSessions.one(ctx, s.speaker, `WHERE replaced_tokens.token_hash = ?`, hexOf(hash))
	if err != nil {
		return nil, time.Time{}, err
	}
	return &r.Session, r.At, nil
}

// A replacedSession is a session one of whose tokens was replaced.
type replacedSession struct {
	session.Session
	At time.Time
}

var replacedSessions = tableOf[replacedSession]("replaced_tokens JOIN sessions ON sessions.family = replaced_tokens.family",
	"sessions."+sessionColumns+", at")

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
	session.Session
	Name string
}

var heldSessions = tableOf[HeldSession]("", sessionColumns+", name")

// Sessions returns the sessions that a query means, the latest used first, and how many
// there are in all; more than mostCounted are not counted on. Those that have outlived the limits are left out.
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
		condition, values, err := s.sessionsWith(ctx, q.Words)
		if err != nil {
			return nil, 0, err
		}
		and(condition, values...)
	}
	and(alive, boundsOf(q.Alive, q.Now)...)
	var total int
	if err := s.long.get(ctx, &total, `SELECT COUNT(*) FROM (SELECT 1 FROM sessions`+where+` LIMIT ?) AS some`,
		append(slices.Clone(args), mostCounted)...); err != nil {
		return nil, 0, err
	}
	from := `sessions`
	if total == mostCounted { // so many that the latest are found soon by looking at one after the other
		from = `(SELECT * FROM sessions ORDER BY seen_at DESC, token_hash DESC LIMIT ` + strconv.Itoa(math.MaxInt32) + `) AS sessions`
	}
	all, err := heldSessions.from(ctx, s.long, `(SELECT * FROM `+from+where+` ORDER BY seen_at DESC, token_hash DESC LIMIT ? OFFSET ?)
		AS sessions JOIN accounts ON accounts.id = sessions.account_id`, `ORDER BY seen_at DESC, token_hash DESC`,
		append(args, q.Limit, q.Offset)...)
	return all, total, err
}

// The most accounts, networks and browsers that are looked for by a word, each.
const mostNamed = 2000

// sessionsWith is the condition that a session has words in the name of its account, its network or its browser. There are far
// fewer of each than sessions, so they are looked for first.
func (s *Store) sessionsWith(ctx context.Context, words string) (condition string, args []any, err error) {
	like := containing(words)
	var parts []string
	for _, part := range []struct{ column, query string }{
		{"account_id", `SELECT id FROM accounts WHERE name_key LIKE ? ESCAPE '!' LIMIT ?`},
		{"network", distinct("network") + ` WHERE value LIKE ? ESCAPE '!' LIMIT ?`},
		{"agent", distinct("agent") + ` WHERE lower(value) LIKE ? ESCAPE '!' LIMIT ?`},
	} {
		var found []any
		if err := s.long.all(ctx, &found, part.query, like, mostNamed); err != nil {
			return "", nil, err
		}
		if len(found) > 0 {
			in, values, err := sqlx.In(part.column+` IN (?)`, found)
			if err != nil {
				return "", nil, err
			}
			parts, args = append(parts, in), append(args, values...)
		}
	}
	if len(parts) == 0 {
		return `1 = 0`, nil, nil
	}
	return `(` + strings.Join(parts, ` OR `) + `)`, args, nil
}

// distinct is the beginning of a query for the values of a column of sessions, one after the other, by its index.
func distinct(column string) string {
	return `WITH RECURSIVE has (value) AS (SELECT MIN(` + column + `) FROM sessions UNION ALL
		SELECT (SELECT MIN(` + column + `) FROM sessions WHERE ` + column + ` > value) FROM has WHERE value IS NOT NULL) SELECT value FROM has`
}

// A KnownSession is a session with its account.
type KnownSession struct {
	*session.Session
	Account *account.Account
}

// LatestSessions returns the sessions that were used last, since a time, at most so many, with their accounts.
func (s *Store) LatestSessions(ctx context.Context, since time.Time, most int) ([]KnownSession, error) {
	latest, err := sessions.all(ctx, s.long, `WHERE seen_at > ? ORDER BY seen_at DESC LIMIT ?`, millis(since), most)
	if err != nil {
		return nil, err
	}
	ids := map[int64]bool{}
	for _, r := range latest {
		ids[r.Account] = true
	}
	owners := map[int64]*account.Account{}
	for some := range slices.Chunk(slices.Sorted(maps.Keys(ids)), 500) {
		found, err := accounts.in(ctx, s.long, `WHERE id IN (?)`, some)
		if err != nil {
			return nil, err
		}
		for i := range found {
			owners[found[i].ID] = found[i].account()
		}
	}
	if err := addGrants(ctx, s.long, owners); err != nil {
		return nil, err
	}
	var all []KnownSession
	for i := range latest {
		if a := owners[latest[i].Account]; a != nil { // else it has just been removed
			all = append(all, KnownSession{&latest[i], a})
		}
	}
	return all, nil
}

// EndSessions ends the sessions of an account, but for one if keep is not nil, and all that was begun with its proofs. It
// returns how many sessions ended.
func (s *Store) EndSessions(ctx context.Context, account int64, keep *secret.TokenHash, e Activity) (ended int64, err error) {
	but := ""
	if keep != nil {
		but = hexOf(*keep)
	}
	err = s.inTransaction(ctx, func(tx speaker) error {
		result, err := tx.exec(ctx, `DELETE FROM sessions WHERE account_id = ? AND token_hash <> ?`, account, but)
		if err != nil {
			return err
		}
		if err := endProofs(ctx, tx, account); err != nil {
			return err
		}
		if ended, err = result.RowsAffected(); err != nil {
			return err
		}
		return record(ctx, tx, e) // also without a session: what was begun has ended
	})
	return ended, err
}

// EndAllSessions ends all sessions there are. It returns how many ended.
func (s *Store) EndAllSessions(ctx context.Context, e Activity) (ended int64, err error) {
	err = s.change(ctx, nil, e, func(tx speaker) error {
		result, err := tx.exec(ctx, `DELETE FROM sessions`)
		if err != nil {
			return err
		}
		if err := endAllProofs(ctx, tx); err != nil {
			return err
		}
		if ended, err = result.RowsAffected(); err != nil {
			return err
		}
		return nil
	})
	return ended, err
}

// Session returns the session of a token. The error is ErrNone if there is none.
func (s *Store) Session(ctx context.Context, hash secret.TokenHash) (*session.Session, error) {
	return pointer(sessions.one(ctx, s.speaker, `WHERE token_hash = ?`, hexOf(hash)))
}

// SetProved writes when and how the owner of a session last proved to be that, as the session says; it gets another
// token with that. The error is ErrNone if the session has ended.
func (s *Store) SetProved(ctx context.Context, before, after secret.TokenHash, n *session.Session, at time.Time, e Activity) error {
	return s.change(ctx, nil, e, func(tx speaker) error {
		if err := one(tx.exec(ctx, `UPDATE sessions SET token_hash = ?, proved_at = ?, how = ?, shown = ? WHERE token_hash = ?`,
			hexOf(after), millis(n.ProvedAt), string(n.How), n.Shown.String(), hexOf(before))); err != nil {
			return err
		}
		return replaced(ctx, tx, before, after, at)
	})
}

// EndSession ends a session. The error is ErrNone if it had ended already.
func (s *Store) EndSession(ctx context.Context, hash secret.TokenHash, e Activity) error {
	return s.change(ctx, nil, e, func(tx speaker) error {
		return one(tx.exec(ctx, `DELETE FROM sessions WHERE token_hash = ?`, hexOf(hash)))
	})
}

// Seen writes when sessions were last used, in portions. What is written is taken from the map, so that after an error it has what is not.
func (s *Store) Seen(ctx context.Context, at map[secret.TokenHash]time.Time) error {
	for len(at) > 0 {
		var done []secret.TokenHash
		err := s.inTransaction(ctx, func(tx speaker) error {
			began := time.Now()
			for hash, t := range at {
				if _, err := tx.exec(ctx, `UPDATE sessions SET seen_at = ? WHERE token_hash = ? AND seen_at < ?`, millis(t), hexOf(hash),
					millis(t)); err != nil {
					return err
				}
				if done = append(done, hash); time.Since(began) > portionLasts {
					break
				}
			}
			return nil
		})
		if err != nil {
			return err
		}
		for _, hash := range done {
			delete(at, hash)
		}
	}
	return nil
}

// SweepSessions removes the sessions that hold no longer by some limits.
func (s *Store) SweepSessions(ctx context.Context, limits session.Limits, now time.Time) error {
	if err := s.sweep(ctx, "sessions", "token_hash", `NOT `+alive, boundsOf(limits, now)...); err != nil {
		return err
	}
	return s.sweep(ctx, "replaced_tokens", "token_hash", `family NOT IN (SELECT family FROM sessions)`)
}
