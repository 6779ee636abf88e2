package store

import (
	"context"
	"time"

	"ostiarius/core/account"
	"ostiarius/core/factor"
	"ostiarius/core/message"
)

// A Code is what is kept of the one-time codes of an account.
type Code struct {
	Account int64
	Secret  []byte
	MadeAt  time.Time
	UsedAt  time.Time // zero for never
	Step    int64     // of the latest that was taken
}

var codes = tableOf[Code]("codes", `account_id Account, secret Secret hex, made_at, used_at, step`)

// Code returns the one-time codes of an account. The error is ErrNone if it has none.
func (s *Store) Code(ctx context.Context, account int64) (Code, error) {
	return codes.one(ctx, s.speaker, `WHERE account_id = ?`, account)
}

// SetCode gives an account one-time codes, in place of those it had; and codes to keep, if there are any. The error is
// ErrNone if what proves who the owner is has changed since the account was read.
func (s *Store) SetCode(ctx context.Context, a *account.Account, c Code, kept []string, mails []message.Message, e Activity) error {
	account := a.ID
	return s.changeFactors(ctx, account, mails, e, func(tx speaker) error {
		if err := stillProven(ctx, tx, a); err != nil {
			return err
		}
		c.Account = account
		if err := codes.put(ctx, tx, c, "account_id"); err != nil {
			return err
		}
		if err := endFactor(ctx, tx, account, factor.Code); err != nil { // of codes before, if there were any
			return err
		}
		return setKept(ctx, tx, account, kept)
	})
}

// UseCode notes that the code of a step was taken. The error is ErrNone if it, or a later one, was taken before.
func (s *Store) UseCode(ctx context.Context, account, step int64, at time.Time) error {
	return one(s.exec(ctx, `UPDATE codes SET step = ?, used_at = ? WHERE account_id = ? AND step < ?`, step, millis(at), account, step))
}

// RemoveCode takes the one-time codes from an account. The error is ErrNone if it has none.
func (s *Store) RemoveCode(ctx context.Context, account int64, mails []message.Message, e Activity) error {
	return s.changeFactors(ctx, account, mails, e, func(tx speaker) error {
		if err := one(tx.exec(ctx, `DELETE FROM codes WHERE account_id = ?`, account)); err != nil {
			return err
		}
		return endFactor(ctx, tx, account, factor.Code)
	})
}

// SetKept gives an account codes to keep, in place of those it had, by their hashes.
func (s *Store) SetKept(ctx context.Context, account int64, hashes []string, mails []message.Message, e Activity) error {
	return s.changeFactors(ctx, account, mails, e, func(tx speaker) error { return setKept(ctx, tx, account, hashes) })
}

func setKept(ctx context.Context, tx speaker, account int64, hashes []string) error {
	if len(hashes) == 0 {
		return nil
	}
	if _, err := tx.exec(ctx, `DELETE FROM recovery_codes WHERE account_id = ?`, account); err != nil {
		return err
	}
	for _, hash := range hashes {
		if _, err := tx.exec(ctx, `INSERT INTO recovery_codes (account_id, hash, used_at) VALUES (?, ?, 0)`, account, hash); err != nil {
			return err
		}
	}
	return nil
}

// UseKept notes that a kept code was used. The error is ErrNone if there is none with that hash, or it was used before.
func (s *Store) UseKept(ctx context.Context, account int64, hash string, mails []message.Message, e Activity) error {
	return s.change(ctx, mails, e, func(tx speaker) error {
		return one(tx.exec(ctx, `UPDATE recovery_codes SET used_at = ? WHERE account_id = ? AND hash = ? AND used_at = 0`,
			millis(e.At), account, hash))
	})
}

// KeptLeft returns how many kept codes of an account were not used yet.
func (s *Store) KeptLeft(ctx context.Context, account int64) (n int, err error) {
	return n, s.get(ctx, &n, `SELECT COUNT(*) FROM recovery_codes WHERE account_id = ? AND used_at = 0`, account)
}

// changeFactors changes what an account can show beside the password, and writes down what that is then.
func (s *Store) changeFactors(ctx context.Context, account int64, mails []message.Message, e Activity, change func(speaker) error) error {
	return s.change(ctx, mails, e, func(tx speaker) error {
		if err := change(tx); err != nil {
			return err
		}
		return enrol(ctx, tx, account)
	})
}

// enrol writes down at an account what its owner can show beside the password. Codes to keep are of no use without another factor,
// and go with the last one.
func enrol(ctx context.Context, tx speaker, account int64) error {
	var can factor.Set
	for k, query := range map[factor.Kind]string{
		factor.Code: `SELECT COUNT(*) FROM codes WHERE account_id = ?`, factor.Passkey: `SELECT COUNT(*) FROM passkeys WHERE account_id = ?`,
	} {
		var n int
		if err := tx.get(ctx, &n, query, account); err != nil {
			return err
		}
		if n > 0 {
			can |= factor.Of(k)
		}
	}
	if can == 0 {
		for _, query := range []string{`DELETE FROM recovery_codes WHERE account_id = ?`,
			`DELETE FROM remembered_browsers WHERE account_id = ?`} {
			if _, err := tx.exec(ctx, query, account); err != nil {
				return err
			}
		}
	}
	tx.changed(account)
	return one(tx.exec(ctx, `UPDATE accounts SET enrolled = ? WHERE id = ?`, can.String(), account))
}
