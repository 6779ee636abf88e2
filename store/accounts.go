package store

import (
	"context"
	"errors"
	"iter"
	"maps"
	"math"
	"slices"
	"time"

	"github.com/jmoiron/sqlx"

	"ostiarius/core/account"
	"ostiarius/core/message"
	"ostiarius/core/session"
	"ostiarius/core/words"
)

// A keptAccount is an account as it is kept.
type keptAccount struct {
	account.Account
	Keys       Keys
	Hash       string // of its password
	PasswordAt time.Time
	Words      string // in which it is searched for
	Skeleton   string // what looks like its name has the same
}

const accountColumns = `id, name, email, name_key Keys.Name, email_key Keys.Email, hash, disabled, made_at, made_by, signed_in_at ` +
	`SignedIn, notes, proofs, language, leaves_at, enrolled`

var (
	accounts    = tableOf[keptAccount]("accounts", accountColumns)
	newAccounts = tableOf[keptAccount]("accounts", accountColumns+`, password_at, words, skeleton`)
)

func (k *keptAccount) account() *account.Account {
	k.Unset = k.Hash == ""
	return &k.Account
}

// A keptGrant is a grant as it is kept.
type keptGrant struct {
	Account int64
	account.Grant
	Way  string // how the role was granted; "" for by somebody
	Told int    // which programs have been told: that it has begun, that it has ended
}

const grantColumns = `account_id Account, role, way, from_at From, until_at Until, granted_by By, order_no Order`

var (
	grants    = tableOf[keptGrant]("grants", grantColumns)
	newGrants = tableOf[keptGrant]("grants", grantColumns+`, told`)
)

const grantsOf = `WHERE account_id = ? ORDER BY role, way`

// Keys are the forms in which an account's names are compared.
type Keys struct {
	Name  string // as account.Key gives it
	Email string // as account.EmailKey gives it; "" for none
	// Anyway says that a steward wants the name though it was another's until recently, or looks like another.
	Anyway bool
}

// AddAccount adds an account with its grants and returns its number. The hash is "" for an
// account that has no password yet. The error is ErrTaken if an account of that name or
// with that address exists.
func (s *Store) AddAccount(ctx context.Context, a *account.Account, keys Keys, hash string, e Activity) (id int64, err error) {
	err = s.inTransaction(ctx, func(tx speaker) error {
		id, err = addAccount(ctx, tx, a, keys, hash, e)
		return err
	})
	return id, err
}

func addAccount(ctx context.Context, tx speaker, a *account.Account, keys Keys, hash string, e Activity) (id int64, err error) {
	if err := free(ctx, tx, keys, 0); err != nil {
		return 0, err
	}
	if keys.Anyway { // else it doesn't rest
		if err := wake(ctx, tx, keys.Name); err != nil {
			return 0, err
		}
	}
	if id, err = nextAccount(ctx, tx); err != nil {
		return 0, err
	}
	tx.changed(id)
	if err := newAccounts.addOne(ctx, tx, newAccount(id, a, keys, hash)); err != nil {
		return 0, err
	}
	for _, g := range a.Grants {
		if err := putGrant(ctx, tx, id, g); err != nil {
			return 0, err
		}
	}
	return id, record(ctx, tx, e)
}

// newAccount is an account as it is first written. What happens to it later is not taken from one that comes from elsewhere.
func newAccount(id int64, a *account.Account, keys Keys, hash string) keptAccount {
	return keptAccount{
		Account: account.Account{
			ID: id, Name: a.Name, Email: a.Email, Disabled: a.Disabled, MadeAt: a.MadeAt, MadeBy: a.MadeBy, Notes: a.Notes, Language: a.Language,
		},
		Keys: keys, Hash: hash, PasswordAt: a.MadeAt, Words: wordsOf(keys.Name, keys.Email, a.Notes), Skeleton: account.Skeleton(keys.Name),
	}
}

// EditAccount changes name, address and notes of an account. A name that it had rests until a time. The error is ErrTaken or
// ErrNone.
func (s *Store) EditAccount(ctx context.Context, a *account.Account, keys Keys, rests time.Time, e Activity) error {
	return s.change(ctx, nil, e, func(tx speaker) error {
		if err := free(ctx, tx, keys, a.ID); err != nil {
			return err
		}
		var before string
		if err := tx.get(ctx, &before, `SELECT name_key FROM accounts WHERE id = ?`, a.ID); err != nil {
			return none(err)
		}
		if before != keys.Name {
			if err := errors.Join(rest(ctx, tx, before, a.ID, rests), wake(ctx, tx, keys.Name)); err != nil {
				return err
			}
		}
		if err := dropAddressLinks(ctx, tx, a.ID, keys); err != nil {
			return err
		}
		return editAccount(ctx, tx, a, keys)
	})
}

func editAccount(ctx context.Context, tx speaker, a *account.Account, keys Keys) error {
	tx.changed(a.ID)
	// Whoever reads the mail of the address before is perhaps somebody else.
	if _, err := tx.exec(ctx, `DELETE FROM links WHERE account_id = (SELECT id FROM accounts WHERE id = ? AND email_key <> ?)`, a.ID,
		keys.Email); err != nil {
		return err
	}
	return one(tx.exec(ctx, `UPDATE accounts SET name = ?, name_key = ?, skeleton = ?, proven_at = CASE WHEN email_key = ? THEN `+
		`proven_at ELSE 0 END, email = ?, email_key = ?, notes = ?, words = ? WHERE id = ?`,
		a.Name, keys.Name, account.Skeleton(keys.Name), keys.Email, a.Email, keys.Email, a.Notes, wordsOf(keys.Name, keys.Email, a.Notes), a.ID))
}

// An Import is one account that is brought in: a new one, or what an existing one gets.
type Import struct {
	Account *account.Account // ID 0 for a new one
	Keys    Keys
	Hash    string          // "" for no password, or to leave it as it is
	Grants  []account.Grant // to be added to an existing one
	Switch  bool            // to disable or enable an existing one, as Account says
	Event   Activity
}

// Import brings in accounts, all or none.
func (s *Store) Import(ctx context.Context, all []Import) error {
	return s.inTransaction(ctx, func(tx speaker) error {
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

func changeByImport(ctx context.Context, tx speaker, i Import) error {
	if err := free(ctx, tx, i.Keys, i.Account.ID); err != nil {
		return err
	}
	if err := dropAddressLinks(ctx, tx, i.Account.ID, i.Keys); err != nil {
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
func addAccounts(ctx context.Context, tx speaker, all []Import) error {
	next, err := nextAccount(ctx, tx)
	if err != nil {
		return err
	}
	var added []keptAccount
	var granted []keptGrant
	var events []eventRow
	var keys []string
	for n, i := range all {
		id := next + int64(n)
		added = append(added, newAccount(id, i.Account, i.Keys, i.Hash))
		for _, g := range i.Account.Grants {
			granted = append(granted, keptGrant{Account: id, Grant: account.Grant{Role: g.Role, From: g.From, Until: g.Until, By: g.By}})
		}
		events = append(events, rowOf(i.Event))
		if keys = append(keys, i.Keys.Name); i.Keys.Email != "" && i.Keys.Email != i.Keys.Name {
			keys = append(keys, i.Keys.Email)
		}
	}
	query, args, err := sqlx.In(`SELECT COUNT(*) FROM accounts WHERE name_key IN (?) OR email_key IN (?)`, keys, keys)
	if err != nil {
		return err
	}
	var taken int
	if err := tx.get(ctx, &taken, query, args...); err != nil {
		return err
	}
	if slices.Sort(keys); taken > 0 || len(slices.Compact(keys)) < len(keys) {
		return ErrTaken
	}
	if _, err = newAccounts.add(ctx, tx, added, ""); err != nil {
		return err
	}
	if len(granted) > 0 {
		if _, err := newGrants.add(ctx, tx, granted, replaceGrant); err != nil {
			return err
		}
	}
	_, err = tx.named(ctx, insertEvent, events)
	return err
}

// replaceGrant is what is done about a grant that is there already. One that had ended and goes on has begun anew.
const replaceGrant = `ON CONFLICT (account_id, role, way) DO UPDATE SET from_at = excluded.from_at,
		until_at = excluded.until_at, granted_by = excluded.granted_by,
		told = CASE WHEN grants.told = 2 AND (excluded.until_at = 0 OR excluded.until_at > grants.until_at) THEN 0 ELSE grants.told END`

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

var accountOrders = map[string]string{
	"": "name_key", "name": "name_key", "email": "email_key", "made": "made_at", "signed-in": "signed_in_at",
}

// Accounts returns the accounts that a query means, and how many there are in all.
func (s *Store) Accounts(ctx context.Context, q AccountQuery) ([]*account.Account, int, error) {
	where, args := ` WHERE 1 = 1`, []any{}
	for _, word := range q.Words {
		where += ` AND words LIKE ? ESCAPE '!'`
		args = append(args, containing(word))
	}
	if q.Role != "" { // an expression instead of the role, or all who have it would be looked for first
		where += ` AND EXISTS (SELECT 1 FROM grants WHERE account_id = accounts.id AND role || '' = ? AND from_at <= ? AND (until_at = 0 ` +
			`OR until_at > ?))`
		args = append(args, q.Role, millis(q.Now), millis(q.Now))
	}
	switch q.State {
	case "enabled", "disabled":
		where += ` AND disabled = ?`
		args = append(args, bit(q.State == "disabled"))
	case "never":
		where += ` AND signed_in_at = 0`
	}
	var total int
	if err := s.long.get(ctx, &total, `SELECT COUNT(*) FROM accounts`+where, args...); err != nil {
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
	found, err := accounts.all(ctx, s.long, where+` ORDER BY `+order+down+`, id`+down+` LIMIT ? OFFSET ?`, append(args, limit, q.Offset)...)
	if err != nil {
		return nil, 0, err
	}
	all, err := granted(ctx, s.long, found)
	return all, total, err
}

// granted returns accounts with their grants.
func granted(ctx context.Context, from speaker, found []keptAccount) ([]*account.Account, error) {
	all, byID := make([]*account.Account, len(found)), map[int64]*account.Account{}
	for i := range found {
		all[i] = found[i].account()
		byID[all[i].ID] = all[i]
	}
	return all, addGrants(ctx, from, byID)
}

// addGrants adds their grants to accounts, which are given by number.
func addGrants(ctx context.Context, from speaker, accounts map[int64]*account.Account) error {
	for ids := range slices.Chunk(slices.Sorted(maps.Keys(accounts)), 500) {
		all, err := grants.in(ctx, from, `WHERE account_id IN (?) ORDER BY role, way`, ids)
		if err != nil {
			return err
		}
		for _, g := range all {
			accounts[g.Account].Grants = append(accounts[g.Account].Grants, g.Grant)
		}
	}
	return nil
}

// EachAccount returns all accounts, by name, which are read in portions: an account that is there all the while comes once. The
// error ends it.
func (s *Store) EachAccount(ctx context.Context) iter.Seq2[*account.Account, error] {
	return func(yield func(*account.Account, error) bool) {
		for last := ""; ; {
			found, err := accounts.all(ctx, s.long, `WHERE name_key > ? ORDER BY name_key LIMIT 2000`, last)
			var all []*account.Account
			if err == nil {
				all, err = granted(ctx, s.long, found)
			}
			if err != nil {
				yield(nil, err)
				return
			}
			for _, a := range all {
				if !yield(a, nil) {
					return
				}
			}
			if len(found) == 0 {
				return
			}
			last = found[len(found)-1].Keys.Name
		}
	}
}

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
	a, hash, err := s.account(ctx, `id = (SELECT MIN(id) FROM (SELECT id FROM accounts WHERE name_key = ? UNION ALL SELECT id FROM `+
		`accounts WHERE email_key = ?) AS found)`, keys.Name, keys.Email)
	if errors.Is(err, ErrNone) {
		if _, failed := grants.all(ctx, s.speaker, grantsOf, 0); failed != nil {
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
	kept, err := accounts.one(ctx, s.speaker, `WHERE `+where, args...)
	if err != nil {
		return nil, "", err
	}
	all, err := grants.all(ctx, s.speaker, grantsOf, kept.ID)
	if err != nil {
		return nil, "", err
	}
	for _, g := range all {
		kept.Grants = append(kept.Grants, g.Grant)
	}
	return kept.account(), kept.Hash, nil
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
		found, err := accounts.in(ctx, s.speaker, `WHERE name_key IN (?) OR email_key IN (?)`, part, part)
		if err != nil {
			return nil, err
		}
		at := map[int64]*account.Account{}
		for i := range found {
			if a := found[i].account(); !seen[a.ID] {
				seen[a.ID], at[a.ID] = true, a
				all = append(all, KeyedAccount{a, found[i].Keys})
			}
		}
		if err := addGrants(ctx, s.speaker, at); err != nil {
			return nil, err
		}
	}
	return all, nil
}

// SetLanguage notes in which language the owner of an account reads.
func (s *Store) SetLanguage(ctx context.Context, id int64, in words.Language) error {
	_, err := s.exec(ctx, `UPDATE accounts SET language = ? WHERE id = ? AND language <> ?`, in, id, in)
	return err
}

// RemoveAccount removes an account with its grants and sessions. Its name rests until a time.
func (s *Store) RemoveAccount(ctx context.Context, id int64, rests time.Time, e Activity) error {
	return s.change(ctx, nil, e, func(tx speaker) error {
		var name string
		if err := tx.get(ctx, &name, `SELECT name_key FROM accounts WHERE id = ?`, id); err != nil {
			return none(err)
		}
		if err := rest(ctx, tx, name, id, rests); err != nil {
			return err
		}
		tx.changed(id)
		return one(tx.exec(ctx, `DELETE FROM accounts WHERE id = ?`, id))
	})
}

// SetPassword replaces the hash of an account's password and ends its sessions and links.
func (s *Store) SetPassword(ctx context.Context, id int64, hash string, mails []message.Message, e Activity) error {
	return s.change(ctx, mails, e, func(tx speaker) error {
		return setPassword(ctx, tx, id, hash, e.At)
	})
}

func setPassword(ctx context.Context, tx speaker, id int64, hash string, at time.Time) error {
	tx.changed(id)
	if err := one(tx.exec(ctx, `UPDATE accounts SET hash = ?, password_at = ? WHERE id = ?`, hash, millis(at), id)); err != nil {
		return err
	}
	if err := endProofs(ctx, tx, id); err != nil {
		return err
	}
	return endSessions(ctx, tx, id)
}

func endSessions(ctx context.Context, tx speaker, id int64) error {
	_, err := tx.exec(ctx, `DELETE FROM sessions WHERE account_id = ?`, id)
	return err
}

// ChangePassword is SetPassword for somebody who has typed the one before, when the account had had
// so many changes of that, and goes on in a session of their own. The error is ErrNone if there was
// another since.
func (s *Store) ChangePassword(ctx context.Context, proofs int64, hash string, next *session.Session, mails []message.Message,
	e Activity) error {
	return s.inTransaction(ctx, func(tx speaker) error {
		if err := one(tx.exec(ctx, `UPDATE accounts SET proofs = proofs WHERE id = ? AND proofs = ?`, next.Account, proofs)); err != nil {
			return err
		}
		if err := setPassword(ctx, tx, next.Account, hash, e.At); err != nil {
			return err
		}
		if err := post(ctx, tx, mails); err != nil {
			return err
		}
		if err := putSession(ctx, tx, next, proofs+1); err != nil {
			return err
		}
		return record(ctx, tx, e)
	})
}

// Rehash replaces a hash by another of the same password. Nothing happens if the password
// has changed since.
func (s *Store) Rehash(ctx context.Context, id int64, before, after string) error {
	_, err := s.exec(ctx, `UPDATE accounts SET hash = ? WHERE id = ? AND hash = ?`, after, id, before)
	return err
}

// SetDisabled disables or enables an account. Disabling ends its sessions and links.
func (s *Store) SetDisabled(ctx context.Context, id int64, disabled bool, e Activity) error {
	return s.inTransaction(ctx, func(tx speaker) error {
		if is, err := isSo(ctx, tx, disabled, `SELECT disabled FROM accounts WHERE id = ?`, id); err != nil || is {
			return err
		}
		if err := setDisabled(ctx, tx, id, disabled); err != nil {
			return err
		}
		return record(ctx, tx, e)
	})
}

func setDisabled(ctx context.Context, tx speaker, id int64, disabled bool) error {
	tx.changed(id)
	if err := one(tx.exec(ctx, `UPDATE accounts SET disabled = ? WHERE id = ?`, bit(disabled), id)); err != nil || !disabled {
		return err
	}
	if err := endProofs(ctx, tx, id); err != nil {
		return err
	}
	return endSessions(ctx, tx, id)
}

func signedIn(ctx context.Context, tx speaker, id int64, at time.Time) error {
	return one(tx.exec(ctx, `UPDATE accounts SET signed_in_at = ? WHERE id = ?`, millis(at), id))
}

// Hashes calls each with all hashes of passwords that are kept, of accounts and in keyrings.
func (s *Store) Hashes(ctx context.Context, each func(string)) error {
	rows, err := s.long.rows(ctx, `SELECT hash FROM accounts WHERE hash <> '' UNION ALL SELECT hash FROM keyring_entries UNION ALL `+
		`SELECT old_hash FROM keyring_entries WHERE old_hash <> '' UNION ALL SELECT hash FROM shared_passwords`)
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
