package store

import (
	"context"
	"errors"
	"math"
	"slices"
	"strings"
	"time"

	"github.com/jmoiron/sqlx"

	"ostiarius/core/account"
	"ostiarius/core/secret"
	"ostiarius/core/session"
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
	Notes    string `db:"notes"`
}

const accountColumns = `id, name, email, hash, disabled, made_at, made_by, signed_in_at, notes`

func (r accountRow) account() *account.Account {
	return &account.Account{
		ID: r.ID, Name: r.Name, Email: r.Email, Disabled: r.Disabled,
		MadeAt: moment(r.MadeAt), MadeBy: r.MadeBy, SignedIn: moment(r.SignedIn), Notes: r.Notes, Unset: r.Hash == "",
	}
}

type grantRow struct {
	Account int64  `db:"account_id"`
	Role    string `db:"role"`
	From    int64  `db:"from_at"`
	Until   int64  `db:"until_at"`
	By      string `db:"granted_by"`
}

const grantsOf = `SELECT account_id, role, from_at, until_at, granted_by FROM grants WHERE account_id = ? ORDER BY role`

func (r grantRow) grant() account.Grant {
	return account.Grant{Role: r.Role, From: moment(r.From), Until: moment(r.Until), By: r.By}
}

// Keys are the forms in which an account's names are compared.
type Keys struct {
	Name  string // as account.Key gives it
	Email string // as account.EmailKey gives it; "" for none
}

// AddAccount adds an account with its grants and returns its number. The hash is "" for an
// account that has no password yet. The error is ErrTaken if an account of that name or
// with that address exists.
func (s *Store) AddAccount(ctx context.Context, a *account.Account, keys Keys, hash string, e Event) (id int64, err error) {
	err = s.inTransaction(ctx, func(tx *sqlx.Tx) error {
		id, err = addAccount(ctx, tx, a, keys, hash, e)
		return err
	})
	return id, err
}

func addAccount(ctx context.Context, tx *sqlx.Tx, a *account.Account, keys Keys, hash string, e Event) (id int64, err error) {
	if err := free(ctx, tx, keys, 0); err != nil {
		return 0, err
	}
	err = tx.GetContext(ctx, &id, `INSERT INTO accounts (name, name_key, email, email_key, hash, disabled, made_at, made_by, notes, password_at) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?) RETURNING id`,
		a.Name, keys.Name, a.Email, keys.Email, hash, a.Disabled, millis(a.MadeAt), a.MadeBy, a.Notes, millis(a.MadeAt))
	if err != nil {
		return 0, err
	}
	for _, g := range a.Grants {
		if err := putGrant(ctx, tx, id, g); err != nil {
			return 0, err
		}
	}
	return id, record(ctx, tx, e)
}

// free returns ErrTaken if another account has one of the names, as name or as address:
// people sign in with either.
func free(ctx context.Context, tx *sqlx.Tx, keys Keys, but int64) error {
	var taken int
	err := tx.GetContext(ctx, &taken, `SELECT COUNT(*) FROM accounts WHERE id <> ? AND (name_key = ? OR email_key = ?)`, but, keys.Name, keys.Name)
	if err == nil && taken == 0 && keys.Email != "" {
		err = tx.GetContext(ctx, &taken, `SELECT COUNT(*) FROM accounts WHERE id <> ? AND (name_key = ? OR email_key = ?)`, but, keys.Email, keys.Email)
	}
	if err == nil && taken > 0 {
		return ErrTaken
	}
	return err
}

// EditAccount changes name, address and notes of an account. The error is ErrTaken or
// ErrNone.
func (s *Store) EditAccount(ctx context.Context, a *account.Account, keys Keys, e Event) error {
	return s.inTransaction(ctx, func(tx *sqlx.Tx) error {
		if err := free(ctx, tx, keys, a.ID); err != nil {
			return err
		}
		if err := editAccount(ctx, tx, a, keys); err != nil {
			return err
		}
		return record(ctx, tx, e)
	})
}

func editAccount(ctx context.Context, tx *sqlx.Tx, a *account.Account, keys Keys) error {
	return one(tx.ExecContext(ctx, `UPDATE accounts SET name = ?, name_key = ?, email = ?, email_key = ?, notes = ? WHERE id = ?`,
		a.Name, keys.Name, a.Email, keys.Email, a.Notes, a.ID))
}

// An Import is one account that is brought in: a new one, or what an existing one gets.
type Import struct {
	Account *account.Account // ID 0 for a new one
	Keys    Keys
	Hash    string          // "" for no password, or to leave it as it is
	Grants  []account.Grant // to be added to an existing one
	Switch  bool            // to disable or enable an existing one, as Account says
	Event   Event
}

// Import brings in accounts, all or none.
func (s *Store) Import(ctx context.Context, all []Import) error {
	return s.inTransaction(ctx, func(tx *sqlx.Tx) error {
		var added []Import
		for _, i := range all {
			if i.Account.ID == 0 {
				added = append(added, i)
			} else if err := changeByImport(ctx, tx, i); err != nil {
				return err
			}
		}
		for part := range slices.Chunk(added, 200) {
			if err := addAccounts(ctx, tx, part); err != nil {
				return err
			}
		}
		return nil
	})
}

func changeByImport(ctx context.Context, tx *sqlx.Tx, i Import) error {
	if err := free(ctx, tx, i.Keys, i.Account.ID); err != nil {
		return err
	}
	if err := editAccount(ctx, tx, i.Account, i.Keys); err != nil {
		return err
	}
	for _, g := range i.Grants {
		if err := putGrant(ctx, tx, i.Account.ID, g); err != nil {
			return err
		}
	}
	if i.Switch {
		if err := setDisabled(ctx, tx, i.Account.ID, i.Account.Disabled); err != nil {
			return err
		}
	}
	if i.Hash != "" {
		if err := setPassword(ctx, tx, i.Account.ID, i.Hash, i.Event.At); err != nil {
			return err
		}
	}
	return record(ctx, tx, i.Event)
}

// addAccounts is addAccount for many, which is ten times as fast.
func addAccounts(ctx context.Context, tx *sqlx.Tx, all []Import) error {
	type row struct {
		accountRow
		NameKey    string `db:"name_key"`
		EmailKey   string `db:"email_key"`
		PasswordAt int64  `db:"password_at"`
	}
	var rows []row
	var grants []grantRow
	var events []eventRow
	var names, keys []string
	for _, i := range all {
		a := i.Account
		rows = append(rows, row{
			accountRow{Name: a.Name, Email: a.Email, Hash: i.Hash, Disabled: a.Disabled, MadeAt: millis(a.MadeAt), MadeBy: a.MadeBy, Notes: a.Notes},
			i.Keys.Name, i.Keys.Email, millis(a.MadeAt),
		})
		events = append(events, rowOf(i.Event))
		names = append(names, i.Keys.Name)
		if keys = append(keys, i.Keys.Name); i.Keys.Email != "" && i.Keys.Email != i.Keys.Name {
			keys = append(keys, i.Keys.Email)
		}
	}
	query, args, err := sqlx.In(`SELECT COUNT(*) FROM accounts WHERE name_key IN (?) OR email_key IN (?)`, keys, keys)
	if err != nil {
		return err
	}
	var taken int
	if err := tx.GetContext(ctx, &taken, query, args...); err != nil {
		return err
	}
	if slices.Sort(keys); taken > 0 || len(slices.Compact(keys)) < len(keys) {
		return ErrTaken
	}
	if _, err = tx.NamedExecContext(ctx, `INSERT INTO accounts (name, name_key, email, email_key, hash, disabled, made_at, made_by, notes, password_at)
		VALUES (:name, :name_key, :email, :email_key, :hash, :disabled, :made_at, :made_by, :notes, :password_at)`, rows); err != nil {
		return err
	}
	if query, args, err = sqlx.In(`SELECT id, name_key FROM accounts WHERE name_key IN (?)`, names); err != nil {
		return err
	}
	var numbered []row
	if err := tx.SelectContext(ctx, &numbered, query, args...); err != nil {
		return err
	}
	ids := map[string]int64{}
	for _, r := range numbered {
		ids[r.NameKey] = r.ID
	}
	for _, i := range all {
		for _, g := range i.Account.Grants {
			grants = append(grants, grantRow{ids[i.Keys.Name], g.Role, millis(g.From), millis(g.Until), g.By})
		}
	}
	if len(grants) > 0 {
		if _, err := tx.NamedExecContext(ctx, insertGrant, grants); err != nil {
			return err
		}
	}
	_, err = tx.NamedExecContext(ctx, insertEvent, events)
	return err
}

const insertGrant = `INSERT INTO grants (account_id, role, from_at, until_at, granted_by) VALUES (:account_id, :role, :from_at, :until_at, :granted_by)
	ON CONFLICT (account_id, role) DO UPDATE SET from_at = excluded.from_at, until_at = excluded.until_at, granted_by = excluded.granted_by`

func putGrant(ctx context.Context, tx *sqlx.Tx, id int64, g account.Grant) error {
	_, err := tx.NamedExecContext(ctx, insertGrant, grantRow{id, g.Role, millis(g.From), millis(g.Until), g.By})
	return err
}

// An AccountQuery says which accounts are meant, and in which order.
type AccountQuery struct {
	Words  []string  // each stands in the name, the address or the notes
	Role   string    // granted now
	State  string    // "enabled", "disabled", "never" (signed in), "" for any
	Now    time.Time // when grants count
	Sort   string    // "name", "email", "made", "signed-in"
	Down   bool      // in falling order
	Offset int
	Limit  int // 0 for all
}

var accountOrders = map[string]string{"": "name_key", "name": "name_key", "email": "email_key", "made": "made_at", "signed-in": "signed_in_at"}

// Accounts returns the accounts that a query means, and how many there are in all.
func (s *Store) Accounts(ctx context.Context, q AccountQuery) ([]*account.Account, int, error) {
	where, args := ` WHERE 1 = 1`, []any{}
	for _, word := range q.Words {
		like := "%" + escapeLike.Replace(strings.ToLower(word)) + "%"
		where += ` AND (name_key LIKE ? ESCAPE '!' OR email_key LIKE ? ESCAPE '!' OR lower(notes) LIKE ? ESCAPE '!')`
		args = append(args, like, like, like)
	}
	if q.Role != "" {
		where += ` AND id IN (SELECT account_id FROM grants WHERE role = ? AND from_at <= ? AND (until_at = 0 OR until_at > ?))`
		args = append(args, q.Role, millis(q.Now), millis(q.Now))
	}
	switch q.State {
	case "enabled", "disabled":
		where += ` AND disabled = ?`
		args = append(args, q.State == "disabled")
	case "never":
		where += ` AND signed_in_at = 0`
	}
	var total int
	if err := s.db.GetContext(ctx, &total, `SELECT COUNT(*) FROM accounts`+where, args...); err != nil {
		return nil, 0, err
	}
	order, down := accountOrders[q.Sort], ""
	if order == "" {
		order = "name_key"
	}
	if q.Down {
		down = " DESC"
	}
	limit := q.Limit
	if limit == 0 {
		limit = math.MaxInt32
	}
	var rows []accountRow
	err := s.db.SelectContext(ctx, &rows, `SELECT `+accountColumns+` FROM accounts`+where+` ORDER BY `+order+down+`, id`+down+` LIMIT ? OFFSET ?`, append(args, limit, q.Offset)...)
	if err != nil {
		return nil, 0, err
	}
	byID := map[int64]*account.Account{}
	accounts := make([]*account.Account, len(rows))
	for i, r := range rows {
		accounts[i] = r.account()
		byID[r.ID] = accounts[i]
	}
	// The grants of these accounts: few are asked for by number, many are read in one go.
	for from := 0; from < len(rows); from += 500 {
		some := rows[from:min(from+500, len(rows))]
		ids := make([]int64, len(some))
		for i, r := range some {
			ids[i] = r.ID
		}
		query, args, err := sqlx.In(`SELECT account_id, role, from_at, until_at, granted_by FROM grants WHERE account_id IN (?) ORDER BY role`, ids)
		if err != nil {
			return nil, 0, err
		}
		var grants []grantRow
		if err := s.db.SelectContext(ctx, &grants, s.db.Rebind(query), args...); err != nil {
			return nil, 0, err
		}
		for _, g := range grants {
			byID[g.Account].Grants = append(byID[g.Account].Grants, g.grant())
		}
	}
	return accounts, total, nil
}

var escapeLike = strings.NewReplacer("!", "!!", "%", "!%", "_", "!_")

// AccountByKey returns the account of that name, as account.Key gives it, with the hash
// of its password. The error is ErrNone if there is none.
func (s *Store) AccountByKey(ctx context.Context, key string) (*account.Account, string, error) {
	return s.account(ctx, `name_key = ?`, key)
}

// AccountBySignIn returns the account that somebody means who signs in with a name or an
// address, with the hash of its password. It asks the same of the records whatever is
// found.
func (s *Store) AccountBySignIn(ctx context.Context, keys Keys) (*account.Account, string, error) {
	if keys.Email == "" {
		keys.Email = "?" // no account has it
	}
	a, hash, err := s.account(ctx, `id = (SELECT MIN(id) FROM (SELECT id FROM accounts WHERE name_key = ? UNION ALL SELECT id FROM accounts WHERE email_key = ?) AS found)`, keys.Name, keys.Email)
	if errors.Is(err, ErrNone) {
		var none []grantRow
		if failed := s.db.SelectContext(ctx, &none, grantsOf, 0); failed != nil {
			return nil, "", failed
		}
	}
	return a, hash, err
}

// AccountByID returns the account with that number.
func (s *Store) AccountByID(ctx context.Context, id int64) (*account.Account, error) {
	a, _, err := s.account(ctx, `id = ?`, id)
	return a, err
}

func (s *Store) account(ctx context.Context, where string, args ...any) (*account.Account, string, error) {
	var r accountRow
	if err := s.db.GetContext(ctx, &r, `SELECT `+accountColumns+` FROM accounts WHERE `+where, args...); err != nil {
		return nil, "", none(err)
	}
	var grants []grantRow
	if err := s.db.SelectContext(ctx, &grants, grantsOf, r.ID); err != nil {
		return nil, "", err
	}
	a := r.account()
	for _, g := range grants {
		a.Grants = append(a.Grants, g.grant())
	}
	return a, r.Hash, nil
}

// A KeyedAccount is an account with the forms in which its names are compared.
type KeyedAccount struct {
	*account.Account
	Keys Keys
}

// AccountsByKeys returns the accounts that have one of the keys, as name or as address.
func (s *Store) AccountsByKeys(ctx context.Context, keys []string) (all []KeyedAccount, err error) {
	seen := map[int64]bool{}
	for part := range slices.Chunk(keys, 500) {
		var rows []struct {
			accountRow
			NameKey  string `db:"name_key"`
			EmailKey string `db:"email_key"`
		}
		query, args, err := sqlx.In(`SELECT `+accountColumns+`, name_key, email_key FROM accounts WHERE name_key IN (?) OR email_key IN (?)`, part, part)
		if err != nil {
			return nil, err
		}
		if err := s.db.SelectContext(ctx, &rows, query, args...); err != nil {
			return nil, err
		}
		var ids []int64
		at := map[int64]*account.Account{}
		for _, r := range rows {
			if !seen[r.ID] {
				seen[r.ID], at[r.ID] = true, r.account()
				ids = append(ids, r.ID)
				all = append(all, KeyedAccount{at[r.ID], Keys{r.NameKey, r.EmailKey}})
			}
		}
		if len(ids) == 0 {
			continue
		}
		var grants []grantRow
		if query, args, err = sqlx.In(`SELECT account_id, role, from_at, until_at, granted_by FROM grants WHERE account_id IN (?) ORDER BY role`, ids); err != nil {
			return nil, err
		}
		if err := s.db.SelectContext(ctx, &grants, query, args...); err != nil {
			return nil, err
		}
		for _, g := range grants {
			at[g.Account].Grants = append(at[g.Account].Grants, g.grant())
		}
	}
	return all, nil
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

// SetPassword replaces the hash of an account's password and ends its sessions and links.
func (s *Store) SetPassword(ctx context.Context, id int64, hash string, e Event) error {
	return s.inTransaction(ctx, func(tx *sqlx.Tx) error {
		if err := setPassword(ctx, tx, id, hash, e.At); err != nil {
			return err
		}
		return record(ctx, tx, e)
	})
}

func setPassword(ctx context.Context, tx *sqlx.Tx, id int64, hash string, at time.Time) error {
	if err := one(tx.ExecContext(ctx, `UPDATE accounts SET hash = ?, password_at = ? WHERE id = ?`, hash, millis(at), id)); err != nil {
		return err
	}
	if _, err := tx.ExecContext(ctx, `DELETE FROM links WHERE account_id = ?`, id); err != nil {
		return err
	}
	return endSessions(ctx, tx, id)
}

func endSessions(ctx context.Context, tx *sqlx.Tx, id int64) error {
	_, err := tx.ExecContext(ctx, `DELETE FROM sessions WHERE account_id = ?`, id)
	return err
}

// ChangePassword is SetPassword for somebody who has typed the one before, whose hash was
// verified, and goes on in a session of their own. The error is ErrNone if the password
// has changed since.
func (s *Store) ChangePassword(ctx context.Context, verified, hash string, next *session.Session, e Event) error {
	return s.inTransaction(ctx, func(tx *sqlx.Tx) error {
		if err := one(tx.ExecContext(ctx, `UPDATE accounts SET hash = ?, password_at = ? WHERE id = ? AND hash = ?`, hash, millis(e.At), next.Account, verified)); err != nil {
			return err
		}
		if _, err := tx.ExecContext(ctx, `DELETE FROM links WHERE account_id = ?`, next.Account); err != nil {
			return err
		}
		if err := endSessions(ctx, tx, next.Account); err != nil {
			return err
		}
		if err := putSession(ctx, tx, next, hash); err != nil {
			return err
		}
		return record(ctx, tx, e)
	})
}

// Rehash replaces a hash by another of the same password. Nothing happens if the password
// has changed since.
func (s *Store) Rehash(ctx context.Context, id int64, before, after string) error {
	_, err := s.db.ExecContext(ctx, `UPDATE accounts SET hash = ? WHERE id = ? AND hash = ?`, after, id, before)
	return err
}

// AddLink notes a link with which somebody may set an account's password once.
func (s *Store) AddLink(ctx context.Context, token secret.TokenHash, id int64, until time.Time, e Event) error {
	return s.inTransaction(ctx, func(tx *sqlx.Tx) error {
		_, err := tx.ExecContext(ctx, `INSERT INTO links (token_hash, account_id, made_at, until_at, made_by) VALUES (?, ?, ?, ?, ?)`, hexOf(token), id, millis(e.At), millis(until), e.Actor)
		if err != nil {
			return err
		}
		return record(ctx, tx, e)
	})
}

// AccountByLink returns the account that a link is for. The error is ErrNone if the link
// was used, has ended, never was, or was made in the future, since the clock went back.
func (s *Store) AccountByLink(ctx context.Context, token secret.TokenHash, now time.Time) (*account.Account, error) {
	a, _, err := s.account(ctx, `id = (SELECT account_id FROM links WHERE token_hash = ? AND until_at > ? AND made_at <= ?)`, hexOf(token), millis(now), millis(now.Add(session.Slack)))
	return a, err
}

// UseLink sets the password of the account that a link is for, and with that ends the link
// and the account's sessions. The error is ErrNone if the link has ended meanwhile.
func (s *Store) UseLink(ctx context.Context, token secret.TokenHash, id int64, hash string, e Event) error {
	return s.inTransaction(ctx, func(tx *sqlx.Tx) error {
		if err := one(tx.ExecContext(ctx, `DELETE FROM links WHERE token_hash = ? AND account_id = ? AND until_at > ?`, hexOf(token), id, millis(e.At))); err != nil {
			return err
		}
		if err := setPassword(ctx, tx, id, hash, e.At); err != nil {
			return err
		}
		return record(ctx, tx, e)
	})
}

// SetDisabled disables or enables an account. Disabling ends its sessions and links.
func (s *Store) SetDisabled(ctx context.Context, id int64, disabled bool, e Event) error {
	return s.inTransaction(ctx, func(tx *sqlx.Tx) error {
		if is, err := isSo(ctx, tx, disabled, `SELECT disabled FROM accounts WHERE id = ?`, id); err != nil || is {
			return err
		}
		if err := setDisabled(ctx, tx, id, disabled); err != nil {
			return err
		}
		return record(ctx, tx, e)
	})
}

func setDisabled(ctx context.Context, tx *sqlx.Tx, id int64, disabled bool) error {
	if err := one(tx.ExecContext(ctx, `UPDATE accounts SET disabled = ? WHERE id = ?`, disabled, id)); err != nil || !disabled {
		return err
	}
	if _, err := tx.ExecContext(ctx, `DELETE FROM links WHERE account_id = ?`, id); err != nil {
		return err
	}
	return endSessions(ctx, tx, id)
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

// GrantsEnding returns how many grants hold now and end before a time.
func (s *Store) GrantsEnding(ctx context.Context, now, before time.Time) (n int, err error) {
	return n, s.db.GetContext(ctx, &n, `SELECT COUNT(*) FROM grants WHERE from_at <= ? AND until_at > ? AND until_at < ?`, millis(now), millis(now), millis(before))
}

// Hashes calls each with all hashes of passwords that are kept, of accounts and in keyrings.
func (s *Store) Hashes(ctx context.Context, each func(string)) error {
	rows, err := s.db.QueryxContext(ctx, `SELECT hash FROM accounts WHERE hash <> '' UNION ALL SELECT hash FROM keyring_entries UNION ALL SELECT old_hash FROM keyring_entries WHERE old_hash <> ''`)
	if err != nil {
		return err
	}
	defer rows.Close()
	for rows.Next() {
		var hash string
		if err := rows.Scan(&hash); err != nil {
			return err
		}
		each(hash)
	}
	return rows.Err()
}
