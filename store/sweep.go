package store

import (
	"context"
	"errors"
	"slices"
	"time"

	"github.com/jmoiron/sqlx"
)

// What has ended is removed in portions, each in a transaction of its own, so that whoever wants to write waits for one of them at
// most. What is to go is found by reading, which holds up nobody.

const (
	portionLasts = 50 * time.Millisecond // about, at most
	mostFound    = 50_000                // rows that are looked for at a time
)

// A portion is how much is done in one transaction; it is fitted to how long the one before took.
type portion int

func (p *portion) took(d time.Duration, least, most int) {
	switch {
	case d > portionLasts:
		*p = portion(max(int(*p)/2, least))
	case d < portionLasts/2:
		*p = portion(min(int(*p)*2, most))
	}
}

// sweep removes the rows of a table for which a condition holds, whatever their number. Those of one value of the column by are
// removed together.
func (s *Store) sweep(ctx context.Context, table, by, condition string, args ...any) error {
	size := portion(100)
	for {
		var found []any
		if err := s.long.all(ctx, &found, `SELECT DISTINCT `+by+` FROM `+table+` WHERE `+condition+` LIMIT ?`,
			append(slices.Clone(args), mostFound)...); err != nil {
			return err
		}
		for rest := found; len(rest) > 0; {
			some := rest[:min(int(size), len(rest))]
			rest = rest[len(some):]
			query, values, err := sqlx.In(`DELETE FROM `+table+` WHERE `+by+` IN (?) AND (`+condition+`)`, append([]any{some}, args...)...)
			if err != nil {
				return err
			}
			var took time.Duration
			err = s.inTransaction(ctx, func(tx speaker) error {
				began := time.Now()
				_, err := tx.exec(ctx, query, values...)
				took = time.Since(began)
				return err
			})
			if err != nil {
				return err
			}
			size.took(took, 20, 5000)
		}
		if len(found) < mostFound {
			return nil
		}
	}
}

// layOut writes the records of an earlier version anew, once, so that room can be given back. It takes a moment for each gigabyte,
// and as much room meanwhile.
func (s *Store) layOut(ctx context.Context) error {
	var mode int
	if err := s.get(ctx, &mode, `PRAGMA auto_vacuum`); err != nil || mode != 0 {
		return err
	}
	if _, err := s.exec(ctx, `PRAGMA auto_vacuum = 2`); err != nil {
		return err
	}
	_, err := s.exec(ctx, `VACUUM`)
	return err
}

// GiveBack gives the room that nothing needs any more back to the file system, but for what will soon be needed again.
func (s *Store) GiveBack(ctx context.Context) error {
	if used, err := s.isInUse(ctx); err == nil && !used { // the disk was full at the start
		s.takeUp(ctx)
	}
	// What was erased still stands in the second file, until that is worked in. Somebody who reads at the moment puts it off to the next time.
	if _, err := s.exec(ctx, `PRAGMA wal_checkpoint(TRUNCATE)`); err != nil {
		return err
	}
	size := portion(64)
	for {
		var all, free int
		if err := errors.Join(s.get(ctx, &all, `PRAGMA page_count`), s.get(ctx, &free, `PRAGMA freelist_count`)); err != nil {
			return err
		}
		keep := all / 10
		if free <= keep {
			return nil
		}
		began := time.Now()
		if err := s.vacuum(ctx, min(int(size), free-keep)); err != nil {
			return err
		}
		size.took(time.Since(began), 16, 2000)
		var left int
		if err := s.get(ctx, &left, `PRAGMA freelist_count`); err != nil || left >= free {
			return err // records of an earlier version, that were not laid out for it
		}
	}
}
