package store

import (
	"context"
	"net/netip"
	"strings"
	"time"

	"ostiarius/core/accesskey"
	"ostiarius/core/message"
	"ostiarius/core/secret"
)

type accessKeyRow struct {
	Hash     string `db:"hash"`
	Account  int64  `db:"account_id"`
	Name     string `db:"name"`
	Roles    string `db:"roles"`
	Networks string `db:"networks"`
	MadeAt   int64  `db:"made_at"`
	MadeBy   string `db:"made_by"`
	Until    int64  `db:"until_at"`
	UsedAt   int64  `db:"used_at"`
	UsedFrom string `db:"used_from"`
}

const accessKeyColumns = `access_keys.hash AS hash, account_id, access_keys.name AS name, roles, networks, access_keys.made_at AS ` +
	`made_at, access_keys.made_by AS made_by, until_at, used_at, used_from`

const allRoles = "*"

func (r accessKeyRow) key() (k accesskey.Key, err error) {
	k = accesskey.Key{
		Account: r.Account, Name: r.Name, MadeAt: moment(r.MadeAt), MadeBy: r.MadeBy, Until: moment(r.Until), UsedAt: moment(r.UsedAt),
		UsedFrom: r.UsedFrom,
	}
	if k.Hash, err = unhex(r.Hash); err != nil {
		return k, err
	}
	if r.Roles != allRoles {
		k.Roles = append([]string{}, strings.Fields(r.Roles)...)
	}
	for _, text := range strings.Fields(r.Networks) {
		network, err := netip.ParsePrefix(text)
		if err != nil {
			return k, err
		}
		k.Networks = append(k.Networks, network)
	}
	return k, nil
}

// AddAccessKey adds an access key, and the messages that tell its owner.
func (s *Store) AddAccessKey(ctx context.Context, k accesskey.Key, mails []message.Message, e Activity) error {
	roles := allRoles
	if k.Roles != nil {
		roles = strings.Join(k.Roles, " ")
	}
	var networks []string
	for _, n := range k.Networks {
		networks = append(networks, n.String())
	}
	return s.inTransaction(ctx, func(tx speaker) error {
		if err := one(tx.exec(ctx, `INSERT INTO access_keys (hash, account_id, name, roles, networks, made_at, made_by, until_at, used_at, `+
			`used_from) SELECT ?, id, ?, ?, ?, ?, ?, ?, 0, '' FROM accounts WHERE id = ?`,
			hexOf(k.Hash), k.Name, roles, strings.Join(networks, " "), millis(k.MadeAt), k.MadeBy, millis(k.Until), k.Account)); err != nil {
			return err
		}
		if err := post(ctx, tx, mails); err != nil {
			return err
		}
		return record(ctx, tx, e)
	})
}

// AccessKey returns the access key of a token. The error is ErrNone if there is none.
func (s *Store) AccessKey(ctx context.Context, hash secret.TokenHash) (accesskey.Key, error) {
	var r accessKeyRow
	if err := s.get(ctx, &r, `SELECT `+accessKeyColumns+` FROM access_keys WHERE hash = ?`, hexOf(hash)); err != nil {
		return accesskey.Key{}, none(err)
	}
	return r.key()
}

// An OwnedKey is an access key with the name of its account.
type OwnedKey struct {
	accesskey.Key
	Owner string
}

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
	var rows []struct {
		accessKeyRow
		Owner string `db:"owner"`
	}
	if err := s.all(ctx, &rows, `SELECT `+accessKeyColumns+`, accounts.name AS owner FROM access_keys JOIN accounts ON accounts.id = `+
		`account_id`+where+` ORDER BY access_keys.made_at DESC, access_keys.hash LIMIT ? OFFSET ?`, append(args, limit, offset)...); err != nil {
		return nil, 0, err
	}
	for _, r := range rows {
		k, err := r.key()
		if err != nil {
			return nil, 0, err
		}
		found = append(found, OwnedKey{k, r.Owner})
	}
	return found, total, nil
}

// AccessKeyNamed returns the access key with a handle. The error is ErrNone if there is none.
func (s *Store) AccessKeyNamed(ctx context.Context, handle string) (accesskey.Key, error) {
	var r accessKeyRow
	if err := s.get(ctx, &r, `SELECT `+accessKeyColumns+` FROM access_keys WHERE hash >= ? AND hash < ?`, handle, handle+"g"); err != nil {
		return accesskey.Key{}, none(err)
	}
	return r.key()
}

// RemoveAccessKey removes one. The error is ErrNone if there is none.
func (s *Store) RemoveAccessKey(ctx context.Context, hash secret.TokenHash, mails []message.Message, e Activity) error {
	return s.inTransaction(ctx, func(tx speaker) error {
		if err := one(tx.exec(ctx, `DELETE FROM access_keys WHERE hash = ?`, hexOf(hash))); err != nil {
			return err
		}
		if err := post(ctx, tx, mails); err != nil {
			return err
		}
		return record(ctx, tx, e)
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
