package store

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"time"

	"ostiarius/core/account"
	kind "ostiarius/core/activity"
	"ostiarius/core/joining"
)

// ErrResting says that a name was another account's until recently.
var ErrResting = fmt.Errorf("the name rests: %w", ErrTaken)

// ErrAlike says that a name looks like that of another account.
var ErrAlike = fmt.Errorf("the name looks like another: %w", ErrTaken)

// nextAccount returns the number of the next account. That of one which was removed is not given again: the history of one would be
// taken for the other's.
func nextAccount(ctx context.Context, tx speaker) (id int64, err error) {
	return id, tx.get(ctx, &id, `SELECT 1 + MAX(n) FROM (SELECT COALESCE(MAX(id), 0) AS n FROM accounts UNION ALL
		SELECT COALESCE(MAX(account_id), 0) AS n FROM activity UNION ALL SELECT COALESCE(MAX(actor_id), 0) AS n FROM activity
		UNION ALL SELECT COALESCE(MAX(value), 0) AS n FROM numbers WHERE name = 'account') AS known`)
}

// free returns ErrTaken if another account has one of the names, as name or as address: people sign in with either. It returns
// ErrResting or ErrAlike, which are ErrTaken too, if a name was another's until recently or looks like another.
func free(ctx context.Context, tx speaker, keys Keys, but int64) error {
	var taken int
	err := tx.get(ctx, &taken, `SELECT COUNT(*) FROM accounts WHERE id <> ? AND (name_key = ? OR email_key = ?)`, but, keys.Name, keys.Name)
	if err == nil && taken == 0 && keys.Email != "" {
		err = tx.get(ctx, &taken, `SELECT COUNT(*) FROM accounts WHERE id <> ? AND (name_key = ? OR email_key = ?)`, but, keys.Email, keys.Email)
	}
	if err == nil && taken > 0 {
		return ErrTaken
	}
	if err == nil && !keys.Anyway && keys.Name != "" {
		return nameFits(ctx, tx, keys.Name, but)
	}
	return err
}

// nameFits returns ErrResting or ErrAlike if an account can't have a name, though it is nobody else's. But is the account that gets it,
// 0 for a new one: it keeps the name that it has, and may take back one that it had.
func nameFits(ctx context.Context, tx speaker, key string, but int64) error {
	var n int
	if err := tx.get(ctx, &n, `SELECT COUNT(*) FROM accounts WHERE id = ? AND name_key = ?`, but, key); err != nil || n > 0 {
		return err
	}
	if err := tx.get(ctx, &n, `SELECT COUNT(*) FROM resting_names WHERE name_hash = ? AND account_id <> ?`, hashOfName(key), but); err != nil {
		return err
	}
	if n > 0 {
		return ErrResting
	}
	skeleton := account.Skeleton(key)
	if skeleton == "" {
		return nil
	}
	if err := tx.get(ctx, &n, `SELECT COUNT(*) FROM accounts WHERE skeleton = ? AND id <> ?`, skeleton, but); err != nil {
		return err
	}
	if n > 0 {
		return ErrAlike
	}
	return nil
}

// rest keeps the name of an account from being given to another one until a time, and its number for ever.
func rest(ctx context.Context, tx speaker, key string, id int64, until time.Time) error {
	if err := keepNumber(ctx, tx, id); err != nil {
		return err
	}
	_, err := tx.exec(ctx, `INSERT INTO resting_names (name_hash, account_id, until_at) VALUES (?, ?, ?)
		ON CONFLICT (name_hash) DO UPDATE SET account_id = excluded.account_id, until_at = excluded.until_at`, hashOfName(key), id, millis(until))
	return err
}

// wake ends the rest of a name that an account has.
func wake(ctx context.Context, tx speaker, key string) error {
	_, err := tx.exec(ctx, `DELETE FROM resting_names WHERE name_hash = ?`, hashOfName(key))
	return err
}

// hashOfName is what is kept of a name whose account is gone.
func hashOfName(key string) string {
	sum := sha256.Sum256([]byte(key))
	return hex.EncodeToString(sum[:])
}

// SweepNames gives the names free whose rest is over.
func (s *Store) SweepNames(ctx context.Context, now time.Time) error {
	return s.sweep(ctx, "resting_names", "name_hash", `until_at <= ?`, millis(now))
}

// keepNumber notes that the number of an account was given.
func keepNumber(ctx context.Context, tx speaker, id int64) error {
	_, err := tx.exec(ctx, `INSERT INTO numbers (name, value) VALUES ('account', ?)
		ON CONFLICT (name) DO UPDATE SET value = CASE WHEN excluded.value > numbers.value THEN excluded.value ELSE numbers.value END`, id)
	return err
}

// checkNames writes down what names look like, and renames accounts whose names can't be used any more, such as one that reads as somebody
// else's address. Their owners sign in with their address, or a steward tells them the new name.
func checkNames(ctx context.Context, tx speaker) error {
	var rows []struct {
		ID   int64  `db:"id"`
		Name string `db:"name"`
		Key  string `db:"name_key"`
	}
	if err := tx.all(ctx, &rows, `SELECT id, name, name_key FROM accounts`); err != nil {
		return err
	}
	now := time.Now()
	for _, r := range rows {
		key, err := account.Key(r.Name)
		if err == nil && key == r.Key {
			if _, err := tx.exec(ctx, `UPDATE accounts SET skeleton = ? WHERE id = ?`, account.Skeleton(key), r.ID); err != nil {
				return err
			}
			continue
		}
		name := fmt.Sprintf("renamed-%d", r.ID)
		for n := 1; errors.Is(free(ctx, tx, Keys{Name: name, Anyway: true}, r.ID), ErrTaken); n++ {
			name = fmt.Sprintf("renamed-%d-%d", r.ID, n)
		}
		if _, err := tx.exec(ctx, `UPDATE accounts SET name = ?, name_key = ?, skeleton = ?, words = ? WHERE id = ?`, name, name,
			account.Skeleton(name), wordsOf(name), r.ID); err != nil {
			return err
		}
		if err := record(ctx, tx, Activity{At: now, Kind: kind.AccountChanged, Account: name, AccountID: r.ID, Actor: "upgrade",
			Detail: fmt.Sprintf("the name was %q, which can't be used any more", r.Name)}); err != nil {
			return err
		}
	}
	var keys []string
	if err := tx.all(ctx, &keys, `SELECT name_key FROM applications`); err != nil {
		return err
	}
	for _, key := range keys {
		if again, err := account.Key(key); err != nil || again != key {
			if _, err := tx.exec(ctx, `UPDATE applications SET state = ? WHERE name_key = ?`, joining.Declined, key); err != nil {
				return err
			}
		}
		if _, err := tx.exec(ctx, `UPDATE applications SET skeleton = ? WHERE name_key = ?`, account.Skeleton(key), key); err != nil {
			return err
		}
	}
	return keyMessages(ctx, tx)
}

// keyMessages writes down to which address messages went, as addresses are compared.
func keyMessages(ctx context.Context, tx speaker) error {
	var addresses []string
	if err := tx.all(ctx, &addresses, `SELECT DISTINCT to_address FROM messages WHERE way = 'mail'`); err != nil {
		return err
	}
	for _, address := range addresses {
		if _, err := tx.exec(ctx, `UPDATE messages SET to_key = ? WHERE to_address = ? AND way = 'mail'`, keyOfAddress(address),
			address); err != nil {
			return err
		}
	}
	return nil
}

func keyOfAddress(address string) string {
	key, err := account.EmailKey(address)
	if err != nil {
		return address
	}
	return key
}
