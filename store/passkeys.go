package store

import (
	"context"
	"time"

	"ostiarius/core/account"
	"ostiarius/core/factor"
	"ostiarius/core/message"
)

// A Passkey is what is kept of a passkey of an account.
type Passkey struct {
	ID      string // of the credential, in base64url
	Account int64
	Name    string
	Party   string // the host that it is for
	Key     []byte // a COSE_Key
	Uses    uint32 // the authenticator's own count
	MadeAt  time.Time
	UsedAt  time.Time // zero for never
}

var passkeys = tableOf[Passkey]("passkeys", `id, account_id Account, name, party, public_key Key base64, uses, made_at, used_at`)

// AddPasskey adds a passkey, and codes to keep if there are any. The error is ErrTaken if there is one with its number,
// of whatever account, and ErrNone if what proves who the owner is has changed since the account was read.
func (s *Store) AddPasskey(ctx context.Context, a *account.Account, p Passkey, kept []string, mails []message.Message, e Activity) error {
	return s.changeFactors(ctx, p.Account, mails, e, func(tx speaker) error {
		if err := stillProven(ctx, tx, a); err != nil {
			return err
		}
		var n int
		if err := tx.get(ctx, &n, `SELECT COUNT(*) FROM passkeys WHERE id = ?`, p.ID); err != nil {
			return err
		}
		if n > 0 {
			return ErrTaken
		}
		if err := passkeys.addOne(ctx, tx, p); err != nil {
			return err
		}
		return setKept(ctx, tx, p.Account, kept)
	})
}

// Passkey returns the passkey of a number. The error is ErrNone if there is none.
func (s *Store) Passkey(ctx context.Context, id string) (Passkey, error) {
	return passkeys.one(ctx, s.speaker, `WHERE id = ?`, id)
}

// PasskeysFor reports whether there is a passkey for a host.
func (s *Store) PasskeysFor(ctx context.Context, party string) (bool, error) {
	var n int
	err := s.get(ctx, &n, `SELECT COUNT(*) FROM (SELECT 1 FROM passkeys WHERE party = ? LIMIT 1) AS some`, party)
	return n > 0, err
}

// Passkeys returns the passkeys of an account, the oldest first.
func (s *Store) Passkeys(ctx context.Context, account int64) ([]Passkey, error) {
	return passkeys.all(ctx, s.speaker, `WHERE account_id = ? ORDER BY made_at, id`, account)
}

// UsePasskey notes that a passkey was used, and the authenticator's count, which must still be what it was; the error is ErrNone if not.
func (s *Store) UsePasskey(ctx context.Context, id string, before, uses uint32, at time.Time) error {
	return one(s.exec(ctx, `UPDATE passkeys SET uses = ?, used_at = ? WHERE id = ? AND uses = ?`, int64(uses), millis(at), id, int64(before)))
}

// RemovePasskey takes a passkey from an account. The error is ErrNone if it has none of that number.
func (s *Store) RemovePasskey(ctx context.Context, account int64, id string, mails []message.Message, e Activity) error {
	return s.changeFactors(ctx, account, mails, e, func(tx speaker) error {
		if err := one(tx.exec(ctx, `DELETE FROM passkeys WHERE account_id = ? AND id = ?`, account, id)); err != nil {
			return err
		}
		return endFactor(ctx, tx, account, factor.Passkey)
	})
}
