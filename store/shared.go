package store

import (
	"context"
	"time"

	"ostiarius/core/message"
	"ostiarius/core/secret"
	"ostiarius/core/shared"
)

type sharedRow struct {
	ID     int64  `db:"id"`
	Name   string `db:"name"`
	Hash   string `db:"hash"`
	MadeAt int64  `db:"made_at"`
	MadeBy string `db:"made_by"`
	Until  int64  `db:"until_at"`
	UsedAt int64  `db:"used_at"`
}

// SharedPasswords returns the passwords of one name, or of all if it is "", the newest of each first, and also those
// that count no longer.
func (s *Store) SharedPasswords(ctx context.Context, name string) ([]shared.Password, error) {
	return sharedPasswords(ctx, s.speaker, name)
}

func sharedPasswords(ctx context.Context, tx speaker, name string) ([]shared.Password, error) {
	var rows []sharedRow
	err := tx.all(ctx, &rows, `SELECT id, name, hash, made_at, made_by, until_at, used_at FROM shared_passwords WHERE name = ? OR ? = `+
		`'' ORDER BY name, id DESC`, name, name)
	all := make([]shared.Password, len(rows))
	for i, r := range rows {
		all[i] = shared.Password{
			ID: r.ID, Name: r.Name, Hash: r.Hash, MadeAt: moment(r.MadeAt), MadeBy: r.MadeBy, Until: moment(r.Until), UsedAt: moment(r.UsedAt),
		}
	}
	return all, err
}

// SetShared gives a name another password. Those before count until a time, or not at all if that is zero; at most so
// many of them, the newest. With endUnlocks, what was unlocked with those before ends at once; else it goes on.
func (s *Store) SetShared(ctx context.Context, p shared.Password, before time.Time, endUnlocks bool, e Activity) error {
	return s.inTransaction(ctx, func(tx speaker) error {
		old, err := sharedPasswords(ctx, tx, p.Name)
		if err != nil {
			return err
		}
		kept := 0
		for _, o := range old {
			if before.IsZero() || !o.Counts(p.MadeAt) || kept >= shared.MostValid-1 {
				if _, err := tx.exec(ctx, `DELETE FROM shared_passwords WHERE id = ?`, o.ID); err != nil {
					return err
				}
				continue
			}
			kept++
			until := before
			if !o.Until.IsZero() && o.Until.Before(until) {
				until = o.Until
			}
			if _, err := tx.exec(ctx, `UPDATE shared_passwords SET until_at = ? WHERE id = ?`, millis(until), o.ID); err != nil {
				return err
			}
		}
		if endUnlocks {
			if _, err := tx.exec(ctx, `DELETE FROM unlocks WHERE name = ?`, p.Name); err != nil {
				return err
			}
		}
		if _, err := tx.exec(ctx,
			`INSERT INTO shared_passwords (name, hash, made_at, made_by, until_at, used_at) VALUES (?, ?, ?, ?, ?, 0)`, p.Name, p.Hash,
			millis(p.MadeAt), p.MadeBy, millis(p.Until)); err != nil {
			return err
		}
		return record(ctx, tx, e)
	})
}

// DropShared takes all passwords of a name away, and what was unlocked with them. The error is ErrNone if there is none.
func (s *Store) DropShared(ctx context.Context, name string, e Activity) error {
	return s.inTransaction(ctx, func(tx speaker) error {
		if err := one(tx.exec(ctx, `DELETE FROM shared_passwords WHERE name = ?`, name)); err != nil {
			return err
		}
		if _, err := tx.exec(ctx, `DELETE FROM unlocks WHERE name = ?`, name); err != nil {
			return err
		}
		return record(ctx, tx, e)
	})
}

// BetterShared replaces the hash of a password by another of the same password, if it is still the one before.
func (s *Store) BetterShared(ctx context.Context, id int64, before, after string) error {
	_, err := s.exec(ctx, `UPDATE shared_passwords SET hash = ? WHERE id = ? AND hash = ?`, after, id, before)
	return err
}

type unlockRow struct {
	Hash     string `db:"token_hash"`
	Name     string `db:"name"`
	Password int64  `db:"password_id"`
	MadeAt   int64  `db:"made_at"`
	Network  string `db:"network"`
	Agent    string `db:"agent"`
	Account  string `db:"account"`
}

const unlockColumns = `token_hash, name, password_id, made_at, network, agent, account`

func (r unlockRow) unlock() (*shared.Unlock, error) {
	hash, err := unhex(r.Hash)
	return &shared.Unlock{
		Hash: hash, Name: r.Name, Password: r.Password, MadeAt: moment(r.MadeAt), Network: r.Network, Agent: r.Agent, Account: r.Account,
	}, err
}

// AddUnlock adds what was unlocked with a password that is still there, and ends the one that the browser had before,
// if any. The error is ErrNone if the password is gone.
func (s *Store) AddUnlock(ctx context.Context, u *shared.Unlock, before *secret.TokenHash, e Activity) error {
	return s.inTransaction(ctx, func(tx speaker) error {
		if before != nil {
			if _, err := tx.exec(ctx, `DELETE FROM unlocks WHERE token_hash = ? AND name = ?`, hexOf(*before), u.Name); err != nil {
				return err
			}
		}
		if err := one(tx.exec(ctx, `UPDATE shared_passwords SET used_at = ? WHERE id = ? AND name = ?`, millis(u.MadeAt), u.Password,
			u.Name)); err != nil {
			return err
		}
		if _, err := tx.exec(ctx, `INSERT INTO unlocks (`+unlockColumns+`) VALUES (?, ?, ?, ?, ?, ?, ?)`, hexOf(u.Hash), u.Name,
			u.Password, millis(u.MadeAt), u.Network, u.Agent, u.Account); err != nil {
			return err
		}
		return record(ctx, tx, e)
	})
}

// Unlock returns the unlock of a token. The error is ErrNone if there is none.
func (s *Store) Unlock(ctx context.Context, hash secret.TokenHash) (*shared.Unlock, error) {
	var r unlockRow
	if err := s.get(ctx, &r, `SELECT `+unlockColumns+` FROM unlocks WHERE token_hash = ?`, hexOf(hash)); err != nil {
		return nil, none(err)
	}
	return r.unlock()
}

// Unlocks returns what is unlocked by a name, or by any if it is "", the newest first; at most so many; and how many
// there are in all. A handle means the one that has it.
func (s *Store) Unlocks(ctx context.Context, name, handle string, most int) ([]*shared.Unlock, int, error) {
	where, args := ` FROM unlocks WHERE (name = ? OR ? = '')`, []any{name, name}
	if handle != "" {
		where, args = where+` AND token_hash >= ? AND token_hash < ?`, append(args, handle, handle+"g")
	}
	var total int
	if err := s.long.get(ctx, &total, `SELECT COUNT(*)`+where, args...); err != nil {
		return nil, 0, err
	}
	var rows []unlockRow
	if err := s.long.all(ctx, &rows, `SELECT `+unlockColumns+where+` ORDER BY made_at DESC LIMIT ?`, append(args, most)...); err != nil {
		return nil, 0, err
	}
	all := make([]*shared.Unlock, len(rows))
	for i, r := range rows {
		var err error
		if all[i], err = r.unlock(); err != nil {
			return nil, 0, err
		}
	}
	return all, total, nil
}

// CountUnlocks returns how many unlocks each name has.
func (s *Store) CountUnlocks(ctx context.Context) (map[string]int, error) {
	var rows []struct {
		Name string
		N    int
	}
	err := s.long.all(ctx, &rows, `SELECT name, COUNT(*) AS n FROM unlocks GROUP BY name`)
	counts := map[string]int{}
	for _, r := range rows {
		counts[r.Name] = r.N
	}
	return counts, err
}

// EndUnlock ends one. The error is ErrNone if it has ended already.
func (s *Store) EndUnlock(ctx context.Context, hash secret.TokenHash, e Activity) error {
	return s.inTransaction(ctx, func(tx speaker) error {
		if err := one(tx.exec(ctx, `DELETE FROM unlocks WHERE token_hash = ?`, hexOf(hash))); err != nil {
			return err
		}
		return record(ctx, tx, e)
	})
}

// EndUnlocks ends all of a name that were made until a time, and returns how many.
func (s *Store) EndUnlocks(ctx context.Context, name string, until time.Time, e Activity) (ended int64, err error) {
	err = s.inTransaction(ctx, func(tx speaker) error {
		result, err := tx.exec(ctx, `DELETE FROM unlocks WHERE name = ? AND made_at <= ?`, name, millis(until))
		if err != nil {
			return err
		}
		if ended, err = result.RowsAffected(); err != nil || ended == 0 {
			return err
		}
		return record(ctx, tx, e)
	})
	return ended, err
}

// SweepUnlocks removes what was unlocked by a name before a time.
func (s *Store) SweepUnlocks(ctx context.Context, name string, before time.Time) error {
	return s.sweep(ctx, "unlocks", "token_hash", `name = ? AND made_at <= ?`, name, millis(before))
}

// SweepShared removes the passwords that count no longer, but what was unlocked with them goes on.
func (s *Store) SweepShared(ctx context.Context, now time.Time) error {
	_, err := s.exec(ctx, `DELETE FROM shared_passwords WHERE until_at > 0 AND until_at <= ?`, millis(now))
	return err
}

// TellShared writes down that people are told a shared password, with the messages that do it.
func (s *Store) TellShared(ctx context.Context, told []shared.Telling, mails []message.Message, e Activity) error {
	return s.inTransaction(ctx, func(tx speaker) error {
		for _, t := range told {
			if _, err := tx.exec(ctx, `INSERT INTO shared_tellings (name, address, at, actor) VALUES (?, ?, ?, ?)`, t.Name, t.Address,
				millis(t.At), t.Actor); err != nil {
				return err
			}
		}
		if err := post(ctx, tx, mails); err != nil {
			return err
		}
		return record(ctx, tx, e)
	})
}

// SharedTellings returns who was told a shared password, the latest first, at most so many, and how many in all.
func (s *Store) SharedTellings(ctx context.Context, name string, most int) ([]shared.Telling, int, error) {
	var total int
	if err := s.long.get(ctx, &total, `SELECT COUNT(*) FROM shared_tellings WHERE name = ?`, name); err != nil {
		return nil, 0, err
	}
	var rows []struct {
		Name    string `db:"name"`
		Address string `db:"address"`
		At      int64  `db:"at"`
		Actor   string `db:"actor"`
	}
	err := s.long.all(ctx, &rows,
		`SELECT name, address, at, actor FROM shared_tellings WHERE name = ? ORDER BY at DESC, address LIMIT ?`, name, most)
	all := make([]shared.Telling, len(rows))
	for i, r := range rows {
		all[i] = shared.Telling{Name: r.Name, Address: r.Address, At: moment(r.At), Actor: r.Actor}
	}
	return all, total, err
}
