package store

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"time"
)

// While records are in use, what was written of late stands in a second file beside the first, until it is worked in. A
// copy of the first file alone lacks it, and would look like records of a while ago, or like new ones. So the first file says
// that the records are in use; where it says so, the second must be there.

// walOf is the second file.
func walOf(path string) string { return path + "-wal" }

// A Lost is the error for records of which a part is missing.
type Lost struct {
	Path    string // of the records
	Missing string // the file that must be there
}

func (l *Lost) Error() string {
	return fmt.Sprintf("the records in %s were in use when they were last written, and %s, which has the latest of them, is missing: "+
		"perhaps only one of the two was copied. Bring it back, or restore a backup; to start with what is there, though it lacks what was "+
		"written last, use --accept-loss once", l.Path, l.Missing)
}

// looked is what was beside the records before they were opened.
type looked struct{ records, wal bool }

func look(path string) (l looked, err error) {
	for _, file := range []struct {
		path  string
		there *bool
	}{{path, &l.records}, {walOf(path), &l.wal}} {
		info, err := os.Stat(file.path)
		if err != nil && !errors.Is(err, fs.ErrNotExist) {
			return l, err
		}
		*file.there = err == nil && (file.there != &l.wal || l.records || info.Size() > 0)
	}
	return l, nil
}

// isWhole reports whether nothing of the records can be missing. The error is *Lost if something is.
func (s *Store) isWhole(ctx context.Context, before looked) error {
	used, err := s.isInUse(ctx)
	if err == nil && used && !before.wal {
		err = &Lost{s.path, walOf(s.path)}
	}
	return err
}

func (s *Store) isInUse(ctx context.Context) (bool, error) {
	var n int
	if err := s.get(ctx, &n, `SELECT COUNT(*) FROM sqlite_master WHERE type = 'table' AND name = 'in_use'`); err != nil || n == 0 {
		return false, err
	}
	err := s.get(ctx, &n, `SELECT COUNT(*) FROM in_use`)
	return n > 0, err
}

// takeUp says in the first file that the records are in use.
func (s *Store) takeUp(ctx context.Context) error {
	used, err := s.isInUse(ctx)
	if err == nil && !used {
		_, err = s.exec(ctx, `INSERT INTO in_use (since) VALUES (?)`, millis(time.Now()))
	}
	if err == nil {
		_, err = s.exec(ctx, `PRAGMA wal_checkpoint(TRUNCATE)`)
	}
	return err
}

// layDown says that the records are not in use any more. What was written is worked into the first file as they are closed.
func (s *Store) layDown() error {
	ctx, cancel := context.WithTimeout(context.Background(), 2*time.Second)
	defer cancel()
	_, err := s.exec(ctx, `DELETE FROM in_use`)
	return err
}

// closeInUse closes records that say, or may say, that they are in use. The second file stays, also if the database
// works all of it into the first one: without it the records would look as if a part of them were missing.
func (s *Store) closeInUse() error {
	_, err := os.Stat(walOf(s.path))
	there := err == nil
	s.keepSecond()
	err = s.close()
	if _, gone := os.Stat(walOf(s.path)); there && errors.Is(gone, fs.ErrNotExist) { // by a driver that can't be told to keep it
		if file, made := os.OpenFile(walOf(s.path), os.O_CREATE|os.O_WRONLY, 0o600); made == nil {
			file.Close()
		}
	}
	return err
}

// AcceptLoss lets records be opened of which a part is missing. They begin with what is there.
func AcceptLoss(path string) error {
	before, err := look(path)
	switch {
	case err != nil:
		return err
	case !before.records && before.wal: // it is of no use alone
		return os.Rename(walOf(path), walOf(path)+".lost")
	case !before.records || before.wal:
		return nil
	}
	s, err := openFile(path, "rw")
	if err != nil {
		return err
	}
	defer s.close()
	used, err := s.isInUse(context.Background())
	if err == nil && used {
		err = s.layDown()
	}
	return err
}
