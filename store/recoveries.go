package store

import (
	"context"
	"time"

	"ostiarius/core/message"
	"ostiarius/core/secret"
	"ostiarius/core/words"
)

// A Recovery is that somebody who forgot a password asked for a link: for a name or an address that an account
// may have or not.
type Recovery struct {
	ID       int64
	Keys     Keys
	Language words.Language
	Network  string
	At       time.Time
}

var recoveries = tableOf[Recovery]("recoveries", `id, name_key Keys.Name, email_key Keys.Email, language, network, at`)

// AskRecovery writes down what somebody asked for. It is the same work whoever exists.
func (s *Store) AskRecovery(ctx context.Context, r Recovery) error {
	r.ID = 0
	return recoveries.addOne(ctx, s.speaker, r)
}

// Recoveries returns what was asked for and is not answered, the oldest first.
func (s *Store) Recoveries(ctx context.Context, most int) ([]Recovery, error) {
	return recoveries.all(ctx, s.speaker, `ORDER BY id LIMIT ?`, most)
}

// A NewLink is a link with which the password of an account can be set once.
type NewLink struct {
	Hash    secret.TokenHash
	Account int64
	Until   time.Time
	Mailed  bool // to the address of the account, and shown to nobody
}

// AnswerRecovery writes down what becomes of what was asked for: a link, or nil for none, and the messages that say so.
// The error is ErrNone if it was answered meanwhile.
func (s *Store) AnswerRecovery(ctx context.Context, id int64, link *NewLink, mails []message.Message, e Activity) error {
	return s.change(ctx, mails, e, func(tx speaker) error {
		if err := one(tx.exec(ctx, `DELETE FROM recoveries WHERE id = ?`, id)); err != nil {
			return err
		}
		if link != nil {
			if err := addLink(ctx, tx, *link, e); err != nil {
				return err
			}
		}
		return nil
	})
}

// CountMessagesTo returns how many messages of a kind about an account were made since a time.
func (s *Store) CountMessagesTo(ctx context.Context, id int64, kind message.Kind, since time.Time) (n int, err error) {
	return n, s.get(ctx, &n, `SELECT COUNT(*) FROM messages WHERE account_id = ? AND kind = ? AND made_at > ?`, id, kind, millis(since))
}
