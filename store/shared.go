package store

import (
	"context"
	"time"

	"ostiarius/core/message"
	"ostiarius/core/secret"
	"ostiarius/core/shared"
)

var sharedRecords = tableOf[shared.Password]("shared_passwords", `id, name, hash, made_at, made_by, until_at Until, used_at`)

// SharedPasswords returns the passwords of one name, or of all if it is "", the newest of each first, and also those
// that count no longer.
func (s *Store) SharedPasswords(ctx context.Context, name string) ([]shared.Password, error) {
	return sharedPasswords(ctx, s.speaker, name)
}

func sharedPasswords(ctx context.Context, tx speaker, name string) ([]shared.Password, error) {
	return sharedRecords.all(ctx, tx, `WHERE name = ? OR ? = '' ORDER BY name, id DESC`, name, name)
}

// SetShared gives a name another password. Those before count until a time, or not at all if that is zero; at most so
// many of them, the newest. With endUnlocks, what was unlocked with those before ends at once; else it goes on.
func (s *Store) SetShared(ctx context.Context, p shared.Password, before time.Time, endUnlocks bool, e Activity) error {
	return s.change(ctx, nil, e, func(tx speaker) error {
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
		p.ID, p.UsedAt = 0, time.Time{}
		return sharedRecords.addOne(ctx, tx, p)
	})
}

// DropShared takes all passwords of a name away, and what was unlocked with them. The error is ErrNone if there is none.
func (s *Store) DropShared(ctx context.Context, name string, e Activity) error {
	return s.change(ctx, nil, e, func(tx speaker) error {
		if err := one(tx.exec(ctx, `DELETE FROM shared_passwords WHERE name = ?`, name)); err != nil {
			return err
		}
		if _, err := tx.exec(ctx, `DELETE FROM unlocks WHERE name = ?`, name); err != nil {
			return err
		}
		return nil
	})
}

// BetterShared replaces the hash of a password by another of the same password, if it is still the one before.
func (s *Store) BetterShared(ctx context.Context, id int64, before, after string) error {
	_, err := s.exec(ctx, `UPDATE shared_passwords SET hash = ? WHERE id = ? AND hash = ?`, after, id, before)
	return err
}

var unlocks = tableOf[shared.Unlock]("unlocks", `token_hash Hash, name, password_id Password, made_at, network, agent, account`)

// AddUnlock adds what was unlocked with a password that is still there, and ends the one that the browser had before,
// if any. The error is ErrNone if the password is gone.
func (s *Store) AddUnlock(ctx context.Context, u *shared.Unlock, before *secret.TokenHash, e Activity) error {
	return s.change(ctx, nil, e, func(tx speaker) error {
		if before != nil {
			if _, err := tx.exec(ctx, `DELETE FROM unlocks WHERE token_hash = ? AND name = ?`, hexOf(*before), u.Name); err != nil {
				return err
			}
		}
		if err := one(tx.exec(ctx, `UPDATE shared_passwords SET used_at = ? WHERE id = ? AND name = ?`, millis(u.MadeAt), u.Password,
			u.Name)); err != nil {
			return err
		}
		return unlocks.addOne(ctx, tx, *u)
	})
}

// Unlock returns the unlock of a token. The error is ErrNone if there is none.
func (s *Store) Unlock(ctx context.Context, hash secret.TokenHash) (*shared.Unlock, error) {
	return pointer(unlocks.one(ctx, s.speaker, `WHERE token_hash = ?`, hexOf(hash)))
}

// Unlocks returns what is unlocked by a name, or by any if it is "", the newest first; at most so many; and how many
// there are in all. A handle means the one that has it.
func (s *Store) Unlocks(ctx context.Context, name, handle string, most int) ([]*shared.Unlock, int, error) {
	where, args := `WHERE (name = ? OR ? = '')`, []any{name, name}
	if handle != "" {
		where, args = where+` AND token_hash >= ? AND token_hash < ?`, append(args, handle, handle+"g")
	}
	var total int
	if err := s.long.get(ctx, &total, `SELECT COUNT(*) FROM unlocks `+where, args...); err != nil {
		return nil, 0, err
	}
	found, err := unlocks.all(ctx, s.long, where+` ORDER BY made_at DESC LIMIT ?`, append(args, most)...)
	return pointers(found), total, err
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
	return s.change(ctx, nil, e, func(tx speaker) error {
		return one(tx.exec(ctx, `DELETE FROM unlocks WHERE token_hash = ?`, hexOf(hash)))
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

var tellings = tableOf[shared.Telling]("shared_tellings", `name, address, at, actor`)

// TellShared writes down that people are told a shared password, with the messages that do it.
func (s *Store) TellShared(ctx context.Context, told []shared.Telling, mails []message.Message, e Activity) error {
	return s.change(ctx, mails, e, func(tx speaker) error {
		for _, t := range told {
			if err := tellings.addOne(ctx, tx, t); err != nil {
				return err
			}
		}
		return nil
	})
}

// SharedTellings returns who was told a shared password, the latest first, at most so many, and how many in all.
func (s *Store) SharedTellings(ctx context.Context, name string, most int) ([]shared.Telling, int, error) {
	var total int
	if err := s.long.get(ctx, &total, `SELECT COUNT(*) FROM shared_tellings WHERE name = ?`, name); err != nil {
		return nil, 0, err
	}
	all, err := tellings.all(ctx, s.long, `WHERE name = ? ORDER BY at DESC, address LIMIT ?`, name, most)
	return all, total, err
}
