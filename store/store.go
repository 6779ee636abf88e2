// Package store keeps the records: accounts, sessions, activity. It is the only place
// with SQL.
//
// A method that changes records writes the activity record in the same transaction, so
// that nothing happens without a trace and no trace is of what did not happen.
package store

import (
	"context"
	"database/sql"
	"embed"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	_ "modernc.org/sqlite" // the driver "sqlite"
)

// ErrNone says that there is no such record.
var ErrNone = errors.New("no such record")

// ErrTaken says that a record of that name exists already.
var ErrTaken = errors.New("the name is taken")

// FileName is the name of the file of the records in a data directory.
const FileName = "ostiarius.db"

// FileIn returns the path of the records in a data directory: in the directory itself, or, as the demo has it, in one of the
// name "records" below.
func FileIn(data string) string {
	below := filepath.Join(data, "records", FileName)
	if l, err := look(filepath.Join(data, FileName)); err == nil && !l.records && !l.wal {
		if _, err := os.Stat(below); err == nil {
			return below
		}
	}
	return filepath.Join(data, FileName)
}

// A Store is the records of one running service.
type Store struct {
	speaker         // reads and writes soon, or says that it cannot
	long    speaker // for questions that may take a while
	*pools
	path string
}

// Path returns the path of the file that has the records.
func (s *Store) Path() string { return s.path }

//go:embed migrations/*.sql
var migrations embed.FS

// Open opens the records in the file at path, makes the file if there is none, and
// brings its tables up to date. The error is *Lost if a part of them is missing.
//
// What a method has returned survives the end of the process, however it ends: the
// journal is written through to the disk at each commit.
func Open(path string) (*Store, error) { return OpenBy(UsualDriver, path) }

// OpenBy is Open with another driver of package sql, as one of a slow disk.
func OpenBy(driver, path string) (*Store, error) {
	before, err := look(path)
	if err == nil && !before.records && before.wal {
		return nil, &Lost{walOf(path), path}
	}
	if err != nil {
		return nil, fmt.Errorf("records: %w", err)
	}
	// Made here if it is new, since the database would let everybody read it.
	file, err := os.OpenFile(path, os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return nil, fmt.Errorf("records: %w", err)
	}
	file.Close()
	s, err := openFileBy(driver, path, "rw", "auto_vacuum(2)", "journal_mode(WAL)", "synchronous(FULL)", "secure_delete(1)")
	if err != nil {
		return nil, err
	}
	ctx := context.Background()
	if err = s.isWhole(ctx, before); err == nil {
		err = s.migrate(ctx)
	}
	if err == nil {
		s.layOut(ctx) // a full disk does not keep a service from starting
		s.takeUp(ctx)
		return s, nil
	}
	if before.wal {
		s.closeInUse()
	} else {
		s.close()
	}
	if lost := (*Lost)(nil); errors.As(err, &lost) {
		return nil, err
	}
	return nil, fmt.Errorf("records in %s: %w", path, err)
}

// OpenToRead opens the records that are in the file at path, to be read alone: nothing of them is changed, and another
// process may use them meanwhile. The error is *Lost if a part of them is missing, or says that there are none.
func OpenToRead(path string) (*Store, error) {
	before, err := look(path)
	if err != nil {
		return nil, fmt.Errorf("records: %w", err)
	}
	s, err := openFile(path, "ro")
	if err != nil {
		return nil, err
	}
	if err := s.isWhole(context.Background(), before); err != nil {
		s.close()
		return nil, err
	}
	return s, nil
}

// openFile opens a file that is there.
func openFile(path, mode string) (*Store, error) { return openFileBy(UsualDriver, path, mode) }

func openFileBy(driver, path, mode string, pragmas ...string) (*Store, error) {
	p, err := openPools(driver, path, mode, pragmas...)
	if err != nil {
		return nil, err
	}
	return &Store{p.read(), p.long(), p, path}, nil
}

// IsCurrent reports whether the tables are those of this version; the error says what to do if they are not.
func (s *Store) IsCurrent(ctx context.Context) error {
	knows, has, err := s.migrations(ctx)
	if err != nil {
		return err
	}
	if later := without(has, knows); len(later) > 0 {
		return errLater(later)
	}
	if len(without(knows, has)) > 0 {
		return errors.New("the records are of an earlier version of Ostiarius; start the service once, which brings them up to date")
	}
	return nil
}

func errLater(later []string) error {
	return fmt.Errorf("the records are of a later version of Ostiarius (%s); use that one", later[0])
}

// migrations returns the names of the migrations that this version knows, and of those that the records have.
func (s *Store) migrations(ctx context.Context) (knows, has []string, err error) {
	files, err := fs.Glob(migrations, "migrations/*.sql")
	for _, file := range files {
		knows = append(knows, strings.TrimPrefix(file, "migrations/"))
	}
	if err == nil {
		err = s.all(ctx, &has, `SELECT name FROM migrations ORDER BY name`)
	}
	return knows, has, err
}

// without returns what of some texts is not among others.
func without(all, others []string) []string {
	return slices.DeleteFunc(slices.Clone(all), func(one string) bool { return slices.Contains(others, one) })
}

// Ping reads something, and so reports whether the records can be read.
func (s *Store) Ping(ctx context.Context) error {
	var n int
	return s.get(ctx, &n, `SELECT COUNT(*) FROM migrations`)
}

// Close closes the records.
func (s *Store) Close() error {
	if err := s.layDown(); err != nil { // as on a full disk: the records still say that they are in use
		return s.closeInUse()
	}
	return s.close()
}

func (s *Store) migrate(ctx context.Context) error {
	if _, err := s.exec(ctx, `CREATE TABLE IF NOT EXISTS migrations (name TEXT NOT NULL PRIMARY KEY, at BIGINT NOT NULL)`); err != nil {
		return err
	}
	knows, has, err := s.migrations(ctx)
	if err != nil {
		return err
	}
	if later := without(has, knows); len(later) > 0 { // which this one would spoil
		return errLater(later)
	}
	for _, name := range without(knows, has) {
		err := s.inTransaction(ctx, func(tx speaker) error {
			var done int
			if err := tx.get(ctx, &done, `SELECT COUNT(*) FROM migrations WHERE name = ?`, name); err != nil || done > 0 {
				return err
			}
			text, err := migrations.ReadFile("migrations/" + name)
			if err != nil {
				return err
			}
			if _, err := tx.exec(ctx, string(text)); err != nil {
				return err
			}
			if after := afterMigration[name]; after != nil {
				if err := after(ctx, tx); err != nil {
					return err
				}
			}
			_, err = tx.exec(ctx, `INSERT INTO migrations (name, at) VALUES (?, ?)`, name, millis(time.Now()))
			return err
		})
		if err != nil {
			return fmt.Errorf("migration %s: %w", name, err)
		}
	}
	return nil
}

// afterMigration is what of a migration SQL cannot do in every database.
var afterMigration = map[string]func(context.Context, speaker) error{"008_words.sql": foldWords, "020_names.sql": checkNames}

// one turns what a change of a single record returned into an error if there was none.
func one(result sql.Result, err error) error {
	if err != nil {
		return err
	}
	if n, err := result.RowsAffected(); err != nil || n == 0 {
		return errors.Join(err, ErrNone)
	}
	return nil
}

// isSo reports whether a record is already as it is to be made; then nothing is written, and nothing
// recorded. The error is ErrNone if there is no such record.
func isSo(ctx context.Context, tx speaker, so bool, query string, args ...any) (bool, error) {
	var is bit
	err := tx.get(ctx, &is, query, args...)
	return bool(is) == so, none(err)
}

func none(err error) error {
	if errors.Is(err, sql.ErrNoRows) {
		return ErrNone
	}
	return err
}

func millis(t time.Time) int64 {
	if t.IsZero() {
		return 0
	}
	return t.UnixMilli()
}

func moment(ms int64) time.Time {
	if ms == 0 {
		return time.Time{}
	}
	return time.UnixMilli(ms).UTC()
}
