package store

import (
	"context"
	"time"

	"github.com/jmoiron/sqlx"

	"ostiarius/core/message"
)

// A keptMessage is a message as it is kept, with what it is searched by.
type keptMessage struct {
	message.Message
	Words string
	ToKey string // the address, as addresses are compared
}

const messageColumns = `id, reference, way, kind, to_address To, account, account_id, language, gaps Gaps json, link, state, made_at, ` +
	`until_at Until, tries, next_at, problem, ended_at`

var (
	messages    = tableOf[message.Message]("messages", messageColumns)
	newMessages = tableOf[keptMessage]("messages", messageColumns+`, words, to_key`)
)

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
		m.ID = 0
		tx.waits(m.Way)
		if err := newMessages.addOne(ctx, tx, keptMessage{m, wordsOf(m.To, m.Account, string(m.Kind)), key}); err != nil {
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
	return s.change(ctx, []message.Message{m}, e, func(speaker) error { return nil })
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
	return messages.all(ctx, s.long, where+` ORDER BY id DESC LIMIT ?`, append(args, q.Limit)...)
}

// DueMessages returns messages of a way that are to be handed over at a time, the one that waits longest first.
func (s *Store) DueMessages(ctx context.Context, way message.Way, now time.Time, most int) ([]message.Message, error) {
	return messages.all(ctx, s.speaker, `WHERE way = ? AND state = ? AND next_at <= ? ORDER BY next_at, id LIMIT ?`, way,
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
	return messages.all(ctx, s.speaker,
		`WHERE id IN (SELECT MIN(id) FROM messages WHERE way = ? AND state = ? GROUP BY to_address) ORDER BY id`, way, message.Waiting)
}

// QueueHead is QueueHeads for one address. The error is ErrNone if nothing waits.
func (s *Store) QueueHead(ctx context.Context, way message.Way, to string) (message.Message, error) {
	return messages.one(ctx, s.speaker, `WHERE id = (SELECT MIN(id) FROM messages WHERE way = ? AND state = ? AND to_address = ?)`,
		way, message.Waiting, to)
}

// Message returns one message. The error is ErrNone if there is none of that number.
func (s *Store) Message(ctx context.Context, id int64) (message.Message, error) {
	return messages.one(ctx, s.speaker, `WHERE id = ?`, id)
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
