package store

import (
	"context"
	"time"

	"ostiarius/core/message"
)

// A Reset is that an account loses all that its owner could show beside the password, at a time.
type Reset struct {
	Account int64
	By      string
	Asked   time.Time
	Due     time.Time
}

var resets = tableOf[Reset]("factor_resets", `account_id Account, asked_by By, asked_at Asked, due_at Due`)

// AskReset writes down that an account is to lose what its owner could show, and the messages that tell them. The error is ErrTaken if one
// is waiting already.
func (s *Store) AskReset(ctx context.Context, r Reset, mails []message.Message, e Activity) error {
	return s.change(ctx, mails, e, func(tx speaker) error {
		err := one(resets.add(ctx, tx, []Reset{r}, `ON CONFLICT (account_id) DO NOTHING`))
		if err == ErrNone {
			return ErrTaken
		}
		if err != nil {
			return err
		}
		return nil
	})
}

// ResetOf returns the reset that waits for an account. The error is ErrNone if there is none.
func (s *Store) ResetOf(ctx context.Context, account int64) (Reset, error) {
	return resets.one(ctx, s.speaker, `WHERE account_id = ?`, account)
}

// DueResets returns the resets whose time has come.
func (s *Store) DueResets(ctx context.Context, now time.Time) ([]Reset, error) {
	return resets.all(ctx, s.speaker, `WHERE due_at <= ?`, millis(now))
}

// DropReset has a reset not be made. The error is ErrNone if none waits.
func (s *Store) DropReset(ctx context.Context, account int64, e Activity) error {
	return s.change(ctx, nil, e, func(tx speaker) error {
		return one(tx.exec(ctx, `DELETE FROM factor_resets WHERE account_id = ?`, account))
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
