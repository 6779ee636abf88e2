package store

import (
	"context"
	"time"

	"github.com/jmoiron/sqlx"

	"ostiarius/core/account"
)

type accountRow struct {
	ID       int64  `db:"id"`
	Name     string `db:"name"`
	Email    string `db:"email"`
	Hash     string `db:"hash"`
	Disabled bool   `db:"disabled"`
	MadeAt   int64  `db:"made_at"`
	MadeBy   string `db:"made_by"`
	SignedIn int64  `db:"signed_in_at"`
}

const accountColumns = `id, name, email, hash, disabled, made_at, made_by, signed_in_at`

func (r accountRow) account() *account.Account {
	return &account.Account{
		ID: r.ID, Name: r.Name, Email: r.Email, Disabled: r.Disabled,
		MadeAt: moment(r.MadeAt), MadeBy: r.MadeBy, SignedIn: moment(r.SignedIn),
	}
}

type grantRow struct {
	Account int64  `db:"account_id"`
	Role    string `db:"role"`
	From    int64  `db:"from_at"`
	Until   int64  `db:"until_at"`
	By      string `db:"granted_by"`
}

func (r grantRow) grant() account.Grant {
	return account.Grant{Role: r.Role, From: moment(r.From), Until: moment(r.Until), By: r.By}
}

// AddAccount adds an account with its grants and returns its number. The error is
// ErrTaken if an account of that name exists.
func (s *Store) AddAccount(ctx context.Context, a *account.Account, key, hash string, e Event) (id int64, err error) {
	err = s.inTransaction(ctx, func(tx *sqlx.Tx) error {
		var taken int
		if err := tx.GetContext(ctx, &taken, `SELECT COUNT(*) FROM accounts WHERE name_key = ?`, key); err != nil {
			return err
		}
		if taken > 0 {
			return ErrTaken
		}
		err := tx.GetContext(ctx, &id, `INSERT INTO accounts (name, name_key, email, hash, made_at, made_by) VALUES (?, ?, ?, ?, ?, ?) RETURNING id`,
			a.Name, key, a.Email, hash, millis(a.MadeAt), a.MadeBy)
		if err != nil {
			return err
		}
		for _, g := range a.Grants {
			if err := putGrant(ctx, tx, id, g); err != nil {
				return err
			}
		}
		return record(ctx, tx, e)
	})
	return id, err
}

func putGrant(ctx context.Context, tx *sqlx.Tx, id int64, g account.Grant) error {
	_, err := tx.ExecContext(ctx, `INSERT INTO grants (account_id, role, from_at, until_at, granted_by) VALUES (?, ?, ?, ?, ?)
		ON CONFLICT (account_id, role) DO UPDATE SET from_at = excluded.from_at, until_at = excluded.until_at, granted_by = excluded.granted_by`,
		id, g.Role, millis(g.From), millis(g.Until), g.By)
	return err
}

// Accounts returns all accounts, by name.
func (s *Store) Accounts(ctx context.Context) ([]*account.Account, error) {
	var rows []accountRow
	if err := s.db.SelectContext(ctx, &rows, `SELECT `+accountColumns+` FROM accounts ORDER BY name_key`); err != nil {
		return nil, err
	}
	var grants []grantRow
	if err := s.db.SelectContext(ctx, &grants, `SELECT account_id, role, from_at, until_at, granted_by FROM grants ORDER BY role`); err != nil {
		return nil, err
	}
	byID := map[int64]*account.Account{}
	accounts := make([]*account.Account, len(rows))
	for i, r := range rows {
		accounts[i] = r.account()
		byID[r.ID] = accounts[i]
	}
	for _, g := range grants {
		if a := byID[g.Account]; a != nil {
			a.Grants = append(a.Grants, g.grant())
		}
	}
	return accounts, nil
}

// AccountByKey returns the account of that name, as account.Key gives it, with the hash
// of its password. The error is ErrNone if there is none.
func (s *Store) AccountByKey(ctx context.Context, key string) (*account.Account, string, error) {
	return s.account(ctx, `name_key = ?`, key)
}

// AccountByID returns the account with that number.
func (s *Store) AccountByID(ctx context.Context, id int64) (*account.Account, error) {
	a, _, err := s.account(ctx, `id = ?`, id)
	return a, err
}

func (s *Store) account(ctx context.Context, where string, arg any) (*account.Account, string, error) {
	var r accountRow
	if err := s.db.GetContext(ctx, &r, `SELECT `+accountColumns+` FROM accounts WHERE `+where, arg); err != nil {
		return nil, "", none(err)
	}
	var grants []grantRow
	if err := s.db.SelectContext(ctx, &grants, `SELECT account_id, role, from_at, until_at, granted_by FROM grants WHERE account_id = ? ORDER BY role`, r.ID); err != nil {
		return nil, "", err
	}
	a := r.account()
	for _, g := range grants {
		a.Grants = append(a.Grants, g.grant())
	}
	return a, r.Hash, nil
}

// RemoveAccount removes an account with its grants and sessions.
func (s *Store) RemoveAccount(ctx context.Context, id int64, e Event) error {
	return s.inTransaction(ctx, func(tx *sqlx.Tx) error {
		if err := one(tx.ExecContext(ctx, `DELETE FROM accounts WHERE id = ?`, id)); err != nil {
			return err
		}
		return record(ctx, tx, e)
	})
}

// SetPassword replaces the hash of an account's password and ends its sessions.
func (s *Store) SetPassword(ctx context.Context, id int64, hash string, e Event) error {
	return s.inTransaction(ctx, func(tx *sqlx.Tx) error {
		if err := one(tx.ExecContext(ctx, `UPDATE accounts SET hash = ? WHERE id = ?`, hash, id)); err != nil {
			return err
		}
		if _, err := tx.ExecContext(ctx, `DELETE FROM sessions WHERE account_id = ?`, id); err != nil {
			return err
		}
		return record(ctx, tx, e)
	})
}

// SetDisabled disables or enables an account. Disabling ends its sessions.
func (s *Store) SetDisabled(ctx context.Context, id int64, disabled bool, e Event) error {
	return s.inTransaction(ctx, func(tx *sqlx.Tx) error {
		if err := one(tx.ExecContext(ctx, `UPDATE accounts SET disabled = ? WHERE id = ?`, disabled, id)); err != nil {
			return err
		}
		if disabled {
			if _, err := tx.ExecContext(ctx, `DELETE FROM sessions WHERE account_id = ?`, id); err != nil {
				return err
			}
		}
		return record(ctx, tx, e)
	})
}

// Grant gives a role to an account, or changes from when to when it has it.
func (s *Store) Grant(ctx context.Context, id int64, g account.Grant, e Event) error {
	return s.inTransaction(ctx, func(tx *sqlx.Tx) error {
		if err := putGrant(ctx, tx, id, g); err != nil {
			return err
		}
		return record(ctx, tx, e)
	})
}

// Revoke takes a role from an account. The error is ErrNone if it had none.
func (s *Store) Revoke(ctx context.Context, id int64, role string, e Event) error {
	return s.inTransaction(ctx, func(tx *sqlx.Tx) error {
		if err := one(tx.ExecContext(ctx, `DELETE FROM grants WHERE account_id = ? AND role = ?`, id, role)); err != nil {
			return err
		}
		return record(ctx, tx, e)
	})
}

func signedIn(ctx context.Context, tx *sqlx.Tx, id int64, at time.Time) error {
	return one(tx.ExecContext(ctx, `UPDATE accounts SET signed_in_at = ? WHERE id = ?`, millis(at), id))
}
