package store

import (
	"context"
	"time"

	"ostiarius/core/accesskey"
	"ostiarius/core/message"
	"ostiarius/core/secret"
)

var accessKeys = tableOf[accesskey.Key]("access_keys",
	`hash, account_id Account, name, roles Roles words-or-all, networks Networks words, made_at, `+
		`made_by, until_at Until, used_at, used_from`)

// AddAccessKey adds an access key, and the messages that tell its owner.
func (s *Store) AddAccessKey(ctx context.Context, k accesskey.Key, mails []message.Message, e Activity) error {
	return s.change(ctx, mails, e, func(tx speaker) error {
		if err := isThere(ctx, tx, k.Account); err != nil {
			return err
		}
		return accessKeys.addOne(ctx, tx, k)
	})
}

// AccessKey returns the access key of a token. The error is ErrNone if there is none.
func (s *Store) AccessKey(ctx context.Context, hash secret.TokenHash) (accesskey.Key, error) {
	return accessKeys.one(ctx, s.speaker, `WHERE hash = ?`, hexOf(hash))
}

// An OwnedKey is an access key with the name of its account.
type OwnedKey struct {
	accesskey.Key
	Owner string
}

var ownedKeys = tableOf[OwnedKey]("access_keys k JOIN accounts ON accounts.id = account_id",
	`k.hash Hash, account_id Account, k.name Name, `+
		`roles Roles words-or-all, networks Networks words, k.made_at MadeAt, k.made_by MadeBy, until_at Until, used_at, used_from, `+
		`accounts.name Owner`)

// AccessKeys returns the access keys of an account, or all if that is 0, the latest made first: so many at most after an offset,
// and how many there are.
func (s *Store) AccessKeys(ctx context.Context, account int64, offset, limit int) (found []OwnedKey, total int, err error) {
	where, args := ``, []any{}
	if account != 0 {
		where, args = ` WHERE account_id = ?`, []any{account}
	}
	if err := s.get(ctx, &total, `SELECT COUNT(*) FROM access_keys`+where, args...); err != nil {
		return nil, 0, err
	}
	found, err = ownedKeys.all(ctx, s.speaker, where+` ORDER BY k.made_at DESC, k.hash LIMIT ? OFFSET ?`, append(args, limit, offset)...)
	return found, total, err
}

// AccessKeyNamed returns the access key with a handle. The error is ErrNone if there is none.
func (s *Store) AccessKeyNamed(ctx context.Context, handle string) (accesskey.Key, error) {
	return accessKeys.one(ctx, s.speaker, `WHERE hash >= ? AND hash < ?`, handle, handle+"g")
}

// RemoveAccessKey removes one. The error is ErrNone if there is none.
func (s *Store) RemoveAccessKey(ctx context.Context, hash secret.TokenHash, mails []message.Message, e Activity) error {
	return s.change(ctx, mails, e, func(tx speaker) error {
		return one(tx.exec(ctx, `DELETE FROM access_keys WHERE hash = ?`, hexOf(hash)))
	})
}

// KeyUse is when, and from where, an access key was used last.
type KeyUse struct {
	At   time.Time
	From string
}

// UseAccessKeys writes when access keys were used last. What is written is taken from the map.
func (s *Store) UseAccessKeys(ctx context.Context, uses map[secret.TokenHash]KeyUse) error {
	return s.inTransaction(ctx, func(tx speaker) error {
		for hash, use := range uses {
			if _, err := tx.exec(ctx, `UPDATE access_keys SET used_at = ?, used_from = ? WHERE hash = ? AND used_at < ?`, millis(use.At),
				use.From, hexOf(hash), millis(use.At)); err != nil {
				return err
			}
		}
		return nil
	})
}

// SweepAccessKeys removes those that ended before a time.
func (s *Store) SweepAccessKeys(ctx context.Context, before time.Time) error {
	return s.sweep(ctx, "access_keys", "hash", `until_at > 0 AND until_at <= ?`, millis(before))
}
