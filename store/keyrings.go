package store

import (
	"context"
	"errors"
	"strings"
	"time"

	"ostiarius/core/keyring"
)

type entryRow struct {
	Keyring  string `db:"keyring"`
	Name     string `db:"name"`
	Hash     string `db:"hash"`
	Note     string `db:"note"`
	Disabled bit    `db:"disabled"`
	MadeAt   int64  `db:"made_at"`
	MadeBy   string `db:"made_by"`
	UsedAt   int64  `db:"used_at"`
	Until    int64  `db:"until_at"`
	OldHash  string `db:"old_hash"`
	OldUntil int64  `db:"old_until"`
}

const entryColumns = `keyring, name, hash, note, disabled, made_at, made_by, used_at, until_at, old_hash, old_until`

func (r entryRow) entry() *keyring.Entry {
	return &keyring.Entry{
		Keyring: r.Keyring, Name: r.Name, Hash: r.Hash, Note: r.Note, Disabled: bool(r.Disabled), MadeAt: moment(r.MadeAt), MadeBy: r.MadeBy,
		UsedAt: moment(r.UsedAt), Until: moment(r.Until), OldHash: r.OldHash, OldUntil: moment(r.OldUntil),
	}
}

// Entries returns the entries of a keyring, or of all if the name is "", in order.
func (s *Store) Entries(ctx context.Context, ring string) ([]*keyring.Entry, error) {
	var rows []entryRow
	err := s.all(ctx, &rows, `SELECT `+entryColumns+` FROM keyring_entries WHERE keyring = ? OR ? = '' ORDER BY keyring, name`, ring, ring)
	entries := make([]*keyring.Entry, len(rows))
	for i, r := range rows {
		entries[i] = r.entry()
	}
	return entries, err
}

// Entry returns one entry. The error is ErrNone if there is none.
func (s *Store) Entry(ctx context.Context, ring, name string) (*keyring.Entry, error) {
	var r entryRow
	if err := s.get(ctx, &r, `SELECT `+entryColumns+` FROM keyring_entries WHERE keyring = ? AND name = ?`, ring, name); err != nil {
		return nil, none(err)
	}
	return r.entry(), nil
}

// AddEntries adds entries, all or none; with replace, those that there are get the new hash, and
// nothing else of them changes but that the hash before counts no longer. The error is ErrTaken if
// one of them is there already.
func (s *Store) AddEntries(ctx context.Context, all []*keyring.Entry, replace bool, e Activity) error {
	return s.inTransaction(ctx, func(tx speaker) error {
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
			_, err = tx.exec(ctx, `INSERT INTO keyring_entries (`+entryColumns+`) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)`,
				n.Keyring, n.Name, n.Hash, n.Note, bit(n.Disabled), millis(n.MadeAt), n.MadeBy, millis(n.UsedAt), millis(n.Until), n.OldHash,
				millis(n.OldUntil))
			if err != nil {
				return err
			}
		}
		return record(ctx, tx, e)
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
	return s.inTransaction(ctx, func(tx speaker) error {
		tx.news.Keyrings = true
		if err := one(tx.exec(ctx, `DELETE FROM keyring_entries WHERE keyring = ? AND name = ?`, ring, name)); err != nil {
			return err
		}
		if err := forgetPlaces(ctx, tx, PlaceOfEntry(ring, name)); err != nil {
			return err
		}
		return record(ctx, tx, e)
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
