package store

import (
	"context"
	"time"

	"ostiarius/core/account"
	"ostiarius/core/activity"
	"ostiarius/core/message"
)

// SetLeaving notes when an account is to be deleted, since its owner wants that; zero for not at all. Nothing is written if it
// is so already.
func (s *Store) SetLeaving(ctx context.Context, id int64, at time.Time, mails []message.Message, e Activity) error {
	return s.inTransaction(ctx, func(tx speaker) error {
		tx.changed(id)
		result, err := tx.exec(ctx, `UPDATE accounts SET leaves_at = ? WHERE id = ? AND (leaves_at = 0) <> (? = 0)`, millis(at), id, millis(at))
		if err != nil {
			return err
		}
		if n, err := result.RowsAffected(); err != nil || n == 0 {
			return err
		}
		if err := post(ctx, tx, mails); err != nil {
			return err
		}
		return record(ctx, tx, e)
	})
}

// Leaving returns the accounts whose time has come to be deleted.
func (s *Store) Leaving(ctx context.Context, now time.Time) (ids []int64, err error) {
	return ids, s.all(ctx, &ids, `SELECT id FROM accounts WHERE leaves_at > 0 AND leaves_at <= ? ORDER BY id`, millis(now))
}

// Forget deletes an account whose time has come. What is recorded of it stays, under a pseudonym and without what would tell
// who it was; the messages to it go. Its name rests until a time. The error is ErrNone if its owner has
// changed their mind.
func (s *Store) Forget(ctx context.Context, id int64, pseudonym string, now, rests time.Time, e Activity) error {
	return s.change(ctx, nil, e, func(tx speaker) error {
		var was struct {
			NameKey string `db:"name_key"`
			Email   string `db:"email"`
		}
		if err := tx.get(ctx, &was, `SELECT name_key, email FROM accounts WHERE id = ?`, id); err != nil {
			return none(err)
		}
		if err := rest(ctx, tx, was.NameKey, id, rests); err != nil {
			return err
		}
		tx.changed(id)
		if err := one(tx.exec(ctx, `DELETE FROM accounts WHERE id = ? AND leaves_at > 0 AND leaves_at <= ?`, id, millis(now))); err != nil {
			return err
		}
		if err := forgetOrders(ctx, tx, id); err != nil {
			return err
		}
		if err := forgetPlaces(ctx, tx, PlaceOfAccount(id)); err != nil {
			return err
		}
		key := account.Fold(pseudonym)
		for _, query := range []string{
			`UPDATE activity SET account = ?, account_key = ?, detail = '', data = '', network = '', place = '', words = kind || ' ' || ? ` +
				`WHERE account_id = ?`,
			`UPDATE activity SET actor = ?, actor_key = ?, network = '', words = kind || ' ' || ? WHERE actor_id = ?`,
		} {
			if _, err := tx.exec(ctx, query, pseudonym, key, key, id); err != nil {
				return err
			}
		}
		// From before there was an account: that they wanted one, and were invited.
		_, err := tx.exec(ctx, `UPDATE activity SET account = ?, account_key = ?, actor = ?, actor_key = ?, detail = '', network = '', `+
			`words = kind || ' ' || ? WHERE kind = ? AND account_key = ?`,
			pseudonym, key, pseudonym, key, key, activity.JoinAsked, was.NameKey)
		if err == nil && was.Email != "" {
			_, err = tx.exec(ctx, `UPDATE activity SET detail = '', words = kind WHERE kind IN (?, ?) AND SUBSTR(detail, 1, LENGTH(?)) = ?`,
				activity.Invited, activity.InvitationRevoked, was.Email, was.Email)
		}
		if err == nil {
			_, err = tx.exec(ctx, `DELETE FROM messages WHERE account_id = ? OR account_id = 0 AND to_address = ? AND to_address <> ''`, id,
				was.Email)
		}
		if err != nil {
			return err
		}
		return nil
	})
}

// AgreedAt returns when the owner of an account agreed to the terms; zero where there were none.
func (s *Store) AgreedAt(ctx context.Context, id int64) (time.Time, error) {
	var at int64
	err := s.get(ctx, &at, `SELECT agreed_at FROM accounts WHERE id = ?`, id)
	return moment(at), none(err)
}
