package store

import (
	"context"
	"time"

	"github.com/jmoiron/sqlx"

	"ostiarius/core/account"
)

// Grant gives a role to an account, or changes from when to when it has it.
func (s *Store) Grant(ctx context.Context, id int64, g account.Grant, e Activity) error {
	return s.change(ctx, nil, e, func(tx speaker) error {
		return putGrant(ctx, tx, id, g)
	})
}

// Revoke takes a role from an account. The error is ErrNone if it had none.
func (s *Store) Revoke(ctx context.Context, id int64, role string, e Activity) error {
	return s.change(ctx, nil, e, func(tx speaker) error {
		if err := endGrants(ctx, tx, e.At, `g.account_id = ? AND g.role = ?`, id, role); err != nil {
			return err
		}
		tx.changed(id)
		if err := one(tx.exec(ctx, `DELETE FROM grants WHERE account_id = ? AND role = ?`, id, role)); err != nil {
			return err
		}
		// What was paid for it counts no more either.
		if _, err := tx.exec(ctx, `UPDATE payments SET taken_at = ? WHERE account_id = ? AND role = ? AND taken_at = 0`, millis(e.At), id,
			role); err != nil {
			return err
		}
		if _, err := tx.exec(ctx, `UPDATE payments SET after_role = '' WHERE account_id = ? AND after_role = ?`, id, role); err != nil {
			return err
		}
		return settle(ctx, tx, id, e.At)
	})
}

func putGrant(ctx context.Context, tx speaker, id int64, g account.Grant) error {
	tx.changed(id)
	_, err := newGrants.add(ctx, tx, []keptGrant{{Account: id, Grant: account.Grant{Role: g.Role, From: g.From, Until: g.Until, By: g.By}}},
		replaceGrant)
	return err
}

// Others returns how many accounts beside one can be signed in to and have one of some roles, from now until at least a
// time. Those whose owners are leaving don't count.
func (s *Store) Others(ctx context.Context, roles []string, id int64, now, until time.Time) (n int, err error) {
	query, args, err := sqlx.In(`SELECT COUNT(DISTINCT a.id) FROM accounts a JOIN grants g ON g.account_id = a.id
		WHERE g.role IN (?) AND a.id <> ? AND a.disabled = 0 AND a.leaves_at = 0 AND a.hash <> '' AND g.from_at <= ? AND (g.until_at = 0
			OR g.until_at > ?)`, roles, id, millis(now), millis(until))
	if err != nil {
		return 0, err
	}
	return n, s.get(ctx, &n, query, args...)
}

// GrantsEnding returns how many grants hold now and end before a time.
func (s *Store) GrantsEnding(ctx context.Context, now, before time.Time) (n int, err error) {
	return n, s.long.get(ctx, &n, `SELECT COUNT(*) FROM grants WHERE from_at <= ? AND until_at > ? AND until_at < ?`, millis(now),
		millis(now), millis(before))
}
