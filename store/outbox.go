package store

import (
	"context"
	"encoding/json"
	"time"

	"github.com/jmoiron/sqlx"

	"ostiarius/core/message"
	"ostiarius/core/words"
)

type messageRow struct {
	ID        int64          `db:"id"`
	Reference string         `db:"reference"`
	Way       message.Way    `db:"way"`
	Kind      message.Kind   `db:"kind"`
	To        string         `db:"to_address"`
	Account   string         `db:"account"`
	AccountID int64          `db:"account_id"`
	Language  words.Language `db:"language"`
	Gaps      string         `db:"gaps"`
	Link      string         `db:"link"`
	State     message.State  `db:"state"`
	MadeAt    int64          `db:"made_at"`
	Until     int64          `db:"until_at"`
	Tries     int            `db:"tries"`
	NextAt    int64          `db:"next_at"`
	Problem   string         `db:"problem"`
	EndedAt   int64          `db:"ended_at"`
	Words     string         `db:"words"`
	ToKey     string         `db:"to_key"`
}

const messageColumns = `id, reference, way, kind, to_address, account, account_id, language, gaps, link, state, made_at, until_at, ` +
	`tries, next_at, problem, ended_at`

func (r messageRow) message() (message.Message, error) {
	m := message.Message{
		ID: r.ID, Reference: r.Reference, Way: r.Way, Kind: r.Kind, To: r.To, Account: r.Account, AccountID: r.AccountID,
		Language: r.Language, Link: r.Link, State: r.State,
		MadeAt: moment(r.MadeAt), Until: moment(r.Until), Tries: r.Tries, NextAt: moment(r.NextAt), Problem: r.Problem,
		EndedAt: moment(r.EndedAt),
	}
	if r.Gaps == "" {
		return m, nil
	}
	return m, json.Unmarshal([]byte(r.Gaps), &m.Gaps)
}

const insertMessage = `INSERT INTO messages (reference, way, kind,
	to_address, account, account_id, language, gaps, link, state, made_at, until_at, tries, next_at, problem, ended_at, words, to_key)
	VALUES (:reference, :way, :kind, :to_address, :account, :account_id,
		:language, :gaps, :link, :state, :made_at, :until_at, :tries, :next_at, :problem, :ended_at, :words, :to_key)`

// post writes down messages that are to be sent, in the transaction of what they are about: there is none without the
// other.
func post(ctx context.Context, tx speaker, all []message.Message) error {
	for _, m := range all {
		key := ""
		if m.Way == message.ByMail {
			key = keyOfAddress(m.To)
			if enough, err := enoughMail(ctx, tx, m, key); err != nil {
				return err
			} else if enough {
				continue
			}
		}
		gaps, err := json.Marshal(m.Gaps)
		if err != nil {
			return err
		}
		tx.waits(m.Way)
		_, err = tx.named(ctx, insertMessage, messageRow{
			0, m.Reference, m.Way, m.Kind, m.To, m.Account, m.AccountID, m.Language, string(gaps), m.Link, m.State, millis(m.MadeAt),
			millis(m.Until), m.Tries, millis(m.NextAt), m.Problem, millis(m.EndedAt),
			wordsOf(m.To, m.Account, string(m.Kind)), key,
		})
		if err != nil {
			return err
		}
	}
	return nil
}

// enoughMail reports whether an address has got so many messages within message.CausedWithin that others cause, over all
// kinds and accounts, that this one isn't sent. Two limits are apart, so that nobody keeps the owner of an account from
// recovering it by having other mail sent there.
func enoughMail(ctx context.Context, tx speaker, m message.Message, key string) (bool, error) {
	kinds := message.CausedWith(m.Kind)
	if len(kinds) == 0 {
		return false, nil
	}
	query, args, err := sqlx.In(`SELECT COUNT(*) FROM messages WHERE to_key = ? AND made_at > ? AND kind IN (?)`, key,
		millis(m.MadeAt.Add(-message.CausedWithin)), kinds)
	if err != nil {
		return false, err
	}
	var n int
	err = tx.get(ctx, &n, query, args...)
	return n >= message.MostCaused, err
}

// Post writes down a message that is about nothing else in the records.
func (s *Store) Post(ctx context.Context, m message.Message, e Activity) error {
	return s.inTransaction(ctx, func(tx speaker) error {
		if err := post(ctx, tx, []message.Message{m}); err != nil {
			return err
		}
		return record(ctx, tx, e)
	})
}

// A MessageQuery says which messages are meant. Empty fields mean any.
type MessageQuery struct {
	State  message.State
	Words  string // in address, account or kind
	Before int64  // only earlier ones than this
	Limit  int
}

// Messages returns the messages that a query means, the newest first.
func (s *Store) Messages(ctx context.Context, q MessageQuery) ([]message.Message, error) {
	where, args := `WHERE 1 = 1`, []any{}
	if q.State != "" {
		where, args = where+` AND state = ?`, append(args, q.State)
	}
	if q.Before > 0 {
		where, args = where+` AND id < ?`, append(args, q.Before)
	}
	if q.Words != "" {
		where, args = where+` AND words LIKE ? ESCAPE '!'`, append(args, containing(q.Words))
	}
	return s.messages(ctx, s.long, where+` ORDER BY id DESC LIMIT ?`, append(args, q.Limit)...)
}

// DueMessages returns messages of a way that are to be handed over at a time, the one that waits longest first.
func (s *Store) DueMessages(ctx context.Context, way message.Way, now time.Time, most int) ([]message.Message, error) {
	return s.messages(ctx, s.speaker, `WHERE way = ? AND state = ? AND next_at <= ? ORDER BY next_at, id LIMIT ?`, way,
		message.Waiting, millis(now), most)
}

// NextMessage returns when the next message of a way is to be handed over; the error is ErrNone if none is waiting.
func (s *Store) NextMessage(ctx context.Context, way message.Way) (time.Time, error) {
	var at int64
	err := s.get(ctx, &at, `SELECT next_at FROM messages WHERE way = ? AND state = ? ORDER BY next_at LIMIT 1`, way, message.Waiting)
	return moment(at), none(err)
}

// QueueHeads returns, of each address for which messages of a way wait, the one that was written down first.
func (s *Store) QueueHeads(ctx context.Context, way message.Way) ([]message.Message, error) {
	return s.messages(ctx, s.speaker,
		`WHERE id IN (SELECT MIN(id) FROM messages WHERE way = ? AND state = ? GROUP BY to_address) ORDER BY id`, way, message.Waiting)
}

// QueueHead is QueueHeads for one address. The error is ErrNone if nothing waits.
func (s *Store) QueueHead(ctx context.Context, way message.Way, to string) (message.Message, error) {
	all, err := s.messages(ctx, s.speaker, `WHERE id = (SELECT MIN(id) FROM messages WHERE way = ? AND state = ? AND to_address = ?)`,
		way, message.Waiting, to)
	if err == nil && len(all) == 0 {
		err = ErrNone
	}
	if err != nil {
		return message.Message{}, err
	}
	return all[0], nil
}

// Message returns one message. The error is ErrNone if there is none of that number.
func (s *Store) Message(ctx context.Context, id int64) (message.Message, error) {
	all, err := s.messages(ctx, s.speaker, `WHERE id = ?`, id)
	if err == nil && len(all) == 0 {
		err = ErrNone
	}
	if err != nil {
		return message.Message{}, err
	}
	return all[0], nil
}

func (s *Store) messages(ctx context.Context, from speaker, where string, args ...any) ([]message.Message, error) {
	var rows []messageRow
	if err := from.all(ctx, &rows, `SELECT `+messageColumns+` FROM messages `+where, args...); err != nil {
		return nil, err
	}
	all := make([]message.Message, len(rows))
	for i, r := range rows {
		var err error
		if all[i], err = r.message(); err != nil {
			return nil, err
		}
	}
	return all, nil
}

// CountMessages returns how many messages of a way, "" for any, are in each state.
func (s *Store) CountMessages(ctx context.Context, way message.Way) (map[message.State]int, error) {
	var rows []struct {
		State message.State
		N     int
	}
	err := s.long.all(ctx, &rows, `SELECT state, COUNT(*) AS n FROM messages WHERE way = ? OR ? = '' GROUP BY state`, way, way)
	counts := map[message.State]int{}
	for _, r := range rows {
		counts[r.State] = r.N
	}
	return counts, err
}

// SetMessage writes down what has become of a message that was in a state before: of one that is sent or dropped
// nothing stays that only its reader is to know. The error is ErrNone if its state is another by now. Without an
// event nothing is recorded beside it.
func (s *Store) SetMessage(ctx context.Context, m message.Message, before message.State, e *Activity) error {
	erase := ""
	if m.State == message.Sent || m.State == message.Dropped {
		erase = `, gaps = '', link = ''`
	}
	return s.inTransaction(ctx, func(tx speaker) error {
		if m.State == message.Waiting {
			tx.waits(m.Way)
		}
		err := one(tx.exec(ctx, `UPDATE messages SET state = ?, tries = ?, next_at = ?, problem = ?, ended_at = ?`+erase+
			` WHERE id = ? AND state = ?`,
			m.State, m.Tries, millis(m.NextAt), m.Problem, millis(m.EndedAt), m.ID, before))
		if err != nil || e == nil {
			return err
		}
		return record(ctx, tx, *e)
	})
}

// SweepMessages removes what has come to an end before a time, and the links of those whose links have ended.
func (s *Store) SweepMessages(ctx context.Context, now, before time.Time) error {
	if _, err := s.exec(ctx, `UPDATE messages SET gaps = '', link = '' WHERE state = ? AND until_at <= ? AND gaps <> ''`,
		message.Failed, millis(now)); err != nil {
		return err
	}
	return s.sweep(ctx, "messages", "id", `ended_at > 0 AND ended_at <= ?`, millis(before))
}
