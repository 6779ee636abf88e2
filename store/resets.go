package store

import (
	"context"
	"time"

	"ostiarius/core/message"
)

// A Reset is that an account loses all that its owner could show beside the password, at a time.
type Reset struct {
	Account int64     `db:"account_id"`
	By      string    `db:"asked_by"`
	Asked   time.Time `db:"-"`
	Due     time.Time `db:"-"`
}

type resetRow struct {
	Reset
	AskedAt int64 `db:"asked_at"`
	DueAt   int64 `db:"due_at"`
}

func (r resetRow) reset() Reset {
	r.Asked, r.Due = moment(r.AskedAt), moment(r.DueAt)
	return r.Reset
}

const resetColumns = `account_id, asked_by, asked_at, due_at`

// AskReset writes down that an account is to lose what its owner could show, and the messages that tell them. The error is ErrTaken if one
// is waiting already.
func (s *Store) AskReset(ctx context.Context, r Reset, mails []message.Message, e Activity) error {
	return s.inTransaction(ctx, func(tx speaker) error {
		err := one(tx.exec(ctx, `INSERT INTO factor_resets (`+resetColumns+`) VALUES (?, ?, ?, ?) ON CONFLICT (account_id) DO NOTHING`,
			r.Account, r.By, millis(r.Asked), millis(r.Due)))
		if err == ErrNone {
			return ErrTaken
		}
		if err != nil {
			return err
		}
		if err := post(ctx, tx, mails); err != nil {
			return err
		}
		return record(ctx, tx, e)
	})
}

// ResetOf returns the reset that waits for an account. The error is ErrNone if there is none.
func (s *Store) ResetOf(ctx context.Context, account int64) (Reset, error) {
	var r resetRow
	if err := s.get(ctx, &r, `SELECT `+resetColumns+` FROM factor_resets WHERE account_id = ?`, account); err != nil {
		return Reset{}, none(err)
	}
	return r.reset(), nil
}

// DueResets returns the resets whose time has come.
func (s *Store) DueResets(ctx context.Context, now time.Time) (due []Reset, err error) {
	var rows []resetRow
	err = s.all(ctx, &rows, `SELECT `+resetColumns+` FROM factor_resets WHERE due_at <= ?`, millis(now))
	for _, r := range rows {
		due = append(due, r.reset())
	}
	return due, err
}

// DropReset has a reset not be made. The error is ErrNone if none waits.
func (s *Store) DropReset(ctx context.Context, account int64, e Activity) error {
	return s.inTransaction(ctx, func(tx speaker) error {
		if err := one(tx.exec(ctx, `DELETE FROM factor_resets WHERE account_id = ?`, account)); err != nil {
			return err
		}
		return record(ctx, tx, e)
	})
}

// ResetFactors takes from an account all that its owner could show beside the password, and ends its sessions; a reset that waited
// is made with that.
func (s *Store) ResetFactors(ctx context.Context, account int64, mails []message.Message, e Activity) error {
	return s.changeFactors(ctx, account, mails, e, func(tx speaker) error {
		for _, query := range []string{
			`DELETE FROM factor_resets WHERE account_id = ?`, `DELETE FROM codes WHERE account_id = ?`, `DELETE FROM passkeys WHERE ` +
				`account_id = ?`, `DELETE FROM sessions WHERE account_id = ?`,
		} {
			if _, err := tx.exec(ctx, query, account); err != nil {
				return err
			}
		}
		return endProofs(ctx, tx, account)
	})
}
