package store

import (
	"context"
	"encoding/base64"
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

type passkeyRow struct {
	ID      string `db:"id"`
	Account int64  `db:"account_id"`
	Name    string `db:"name"`
	Party   string `db:"party"`
	Key     string `db:"public_key"`
	Uses    int64  `db:"uses"`
	MadeAt  int64  `db:"made_at"`
	UsedAt  int64  `db:"used_at"`
}

const passkeyColumns = `id, account_id, name, party, public_key, uses, made_at, used_at`

func (r passkeyRow) passkey() (Passkey, error) {
	key, err := base64.RawURLEncoding.DecodeString(r.Key)
	return Passkey{r.ID, r.Account, r.Name, r.Party, key, uint32(r.Uses), moment(r.MadeAt), moment(r.UsedAt)}, err
}

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
		if _, err := tx.exec(ctx, `INSERT INTO passkeys (`+passkeyColumns+`) VALUES (?, ?, ?, ?, ?, ?, ?, ?)`,
			p.ID, p.Account, p.Name, p.Party, base64.RawURLEncoding.EncodeToString(p.Key), int64(p.Uses), millis(p.MadeAt),
			millis(p.UsedAt)); err != nil {
			return err
		}
		return setKept(ctx, tx, p.Account, kept)
	})
}

// Passkey returns the passkey of a number. The error is ErrNone if there is none.
func (s *Store) Passkey(ctx context.Context, id string) (Passkey, error) {
	var r passkeyRow
	if err := s.get(ctx, &r, `SELECT `+passkeyColumns+` FROM passkeys WHERE id = ?`, id); err != nil {
		return Passkey{}, none(err)
	}
	return r.passkey()
}

// PasskeysFor reports whether there is a passkey for a host.
func (s *Store) PasskeysFor(ctx context.Context, party string) (bool, error) {
	var n int
	err := s.get(ctx, &n, `SELECT COUNT(*) FROM (SELECT 1 FROM passkeys WHERE party = ? LIMIT 1) AS some`, party)
	return n > 0, err
}

// Passkeys returns the passkeys of an account, the oldest first.
func (s *Store) Passkeys(ctx context.Context, account int64) (found []Passkey, err error) {
	var rows []passkeyRow
	if err := s.all(ctx, &rows, `SELECT `+passkeyColumns+` FROM passkeys WHERE account_id = ? ORDER BY made_at, id`, account); err != nil {
		return nil, err
	}
	for _, r := range rows {
		p, err := r.passkey()
		if err != nil {
			return nil, err
		}
		found = append(found, p)
	}
	return found, nil
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
