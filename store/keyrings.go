package store

import (
	"context"
	"errors"
	"strings"
	"time"

	"ostiarius/core/keyring"
)

var entries = tableOf[keyring.Entry]("keyring_entries", `keyring, name, hash, note, disabled, made_at, made_by, used_at, until_at Until, `+
	`old_hash, old_until`)

// Entries returns the entries of a keyring, or of all if the name is "", in order.
func (s *Store) Entries(ctx context.Context, ring string) ([]*keyring.Entry, error) {
	found, err := entries.all(ctx, s.speaker, `WHERE keyring = ? OR ? = '' ORDER BY keyring, name`, ring, ring)
	return pointers(found), err
}

// Entry returns one entry. The error is ErrNone if there is none.
func (s *Store) Entry(ctx context.Context, ring, name string) (*keyring.Entry, error) {
	return pointer(entries.one(ctx, s.speaker, `WHERE keyring = ? AND name = ?`, ring, name))
}

// AddEntries adds entries, all or none; with replace, those that there are get the new hash, and
// nothing else of them changes but that the hash before counts no longer. The error is ErrTaken if
// one of them is there already.
func (s *Store) AddEntries(ctx context.Context, all []*keyring.Entry, replace bool, e Activity) error {
	return s.change(ctx, nil, e, func(tx speaker) error {
		tx.news.Keyrings = true
		for _, n := range all {
			err := one(tx.exec(ctx, `UPDATE keyring_entries SET hash = ?, old_hash = '', old_until = 0 WHERE keyring = ? AND name = ?`,
				n.Hash, n.Keyring, n.Name))
			switch {
			case err == nil && !replace:
				return ErrTaken // and nothing of this is written
			case err == nil:
				continue
			case !errors.Is(err, ErrNone):
				return err
			}
			if err := entries.addOne(ctx, tx, *n); err != nil {
				return err
			}
		}
		return nil
	})
}

// RotateEntry gives an entry another hash. The one before counts until a time; zero is not at all.
// The error is ErrNone if there is no such entry.
func (s *Store) RotateEntry(ctx context.Context, ring, name, hash string, old time.Time, e Activity) error {
	before := `''`
	if !old.IsZero() {
		before = "hash"
	}
	return s.inTransaction(ctx, func(tx speaker) error {
		return changeEntry(ctx, tx, e,
			`UPDATE keyring_entries SET old_hash = `+before+
				`, old_until = ?, hash = ? WHERE keyring = ? AND name = ?`, millis(old), hash, ring, name)
	})
}

// EditEntry changes the note of an entry, if it is not nil, and its end, if until is not zero or it is to have none. The error
// is ErrNone if there is no such entry.
func (s *Store) EditEntry(ctx context.Context, ring, name string, note *string, until time.Time, endless bool, e Activity) error {
	changes, args := []string{}, []any{}
	if note != nil {
		changes, args = append(changes, `note = ?`), append(args, *note)
	}
	if endless || !until.IsZero() {
		changes, args = append(changes, `until_at = ?`), append(args, millis(until))
	}
	return s.inTransaction(ctx, func(tx speaker) error {
		return changeEntry(ctx, tx, e, `UPDATE keyring_entries SET `+strings.Join(changes, ", ")+` WHERE keyring = ? AND name = ?`,
			append(args, ring, name)...)
	})
}

// SwitchEntry disables or enables an entry. The error is ErrNone if there is no such entry.
func (s *Store) SwitchEntry(ctx context.Context, ring, name string, disabled bool, e Activity) error {
	return s.inTransaction(ctx, func(tx speaker) error {
		if is, err := isSo(ctx, tx, disabled, `SELECT disabled FROM keyring_entries WHERE keyring = ? AND name = ?`, ring,
			name); err != nil || is {
			return err
		}
		return changeEntry(ctx, tx, e, `UPDATE keyring_entries SET disabled = ? WHERE keyring = ? AND name = ?`, bit(disabled), ring, name)
	})
}

// changeEntry changes columns of one entry. What others change at the same time in other columns
// stays changed.
func changeEntry(ctx context.Context, tx speaker, e Activity, update string, args ...any) error {
	tx.news.Keyrings = true
	if err := one(tx.exec(ctx, update, args...)); err != nil {
		return err
	}
	return record(ctx, tx, e)
}

// RemoveEntry removes an entry. The error is ErrNone if there is none.
func (s *Store) RemoveEntry(ctx context.Context, ring, name string, e Activity) error {
	return s.change(ctx, nil, e, func(tx speaker) error {
		tx.news.Keyrings = true
		if err := one(tx.exec(ctx, `DELETE FROM keyring_entries WHERE keyring = ? AND name = ?`, ring, name)); err != nil {
			return err
		}
		return forgetPlaces(ctx, tx, PlaceOfEntry(ring, name))
	})
}

// UsedEntry notes that an entry was used, and replaces its hash by another of the same
// password if after is not "" and the hash is still the one before.
func (s *Store) UsedEntry(ctx context.Context, ring, name string, at time.Time, before, after string) error {
	if after != "" {
		if _, err := s.exec(ctx, `UPDATE keyring_entries SET hash = ? WHERE keyring = ? AND name = ? AND hash = ?`, after, ring, name,
			before); err != nil {
			return err
		}
	}
	_, err := s.exec(ctx, `UPDATE keyring_entries SET used_at = ? WHERE keyring = ? AND name = ?`, millis(at), ring, name)
	return err
}
