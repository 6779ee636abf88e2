package store

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"net/url"
	"os"
	"time"

	"github.com/jmoiron/sqlx"
	"modernc.org/sqlite"
	lib "modernc.org/sqlite/lib"
)

// ErrBusy says that the records did not answer in time: they are slow, locked by another program, or many want to write. What was asked for
// is not known, and what was to be changed is as it was.
var ErrBusy = errors.New("the records do not answer in time")

// How long something may take, by who asks. A page waits for what is read first of all, so that is short.
const (
	readWithin  = 2 * time.Second
	writeWithin = 10 * time.Second // in the queue, and once more for another program that has the records locked
	longWithin  = 30 * time.Second // questions of stewards, who see that it takes time
)

// How many read at once. One writes.
const (
	readersAtOnce = 8
	longAtOnce    = 3
)

// Pools are the connections to the records. There is one that writes, with a queue; whoever reads does not wait for it, nor for the long
// questions, which have some of their own.
type pools struct {
	subscribers             subscribers
	writer, readers, longer *sqlx.DB
	turn                    chan struct{} // holds one while somebody writes; the queue is in the order of coming
}

// openPools opens them by a driver; mode is that of the database, "rw" or "ro".
func openPools(driver, path, mode string, pragmas ...string) (*pools, error) {
	if _, err := os.Stat(path); err != nil {
		return nil, fmt.Errorf("records: %w", err)
	}
	p := &pools{turn: make(chan struct{}, 1)}
	for _, kind := range []struct {
		db      **sqlx.DB
		most    int
		wait    time.Duration // in the database itself, which does not end with a context
		pragmas []string
	}{
		{&p.writer, 1, 0, append([]string{"foreign_keys(1)"}, pragmas...)},
		{&p.readers, readersAtOnce, readWithin, []string{"query_only(1)"}},
		{&p.longer, longAtOnce, readWithin, []string{"query_only(1)"}},
	} {
		options := url.Values{
			"_pragma": append([]string{fmt.Sprintf("busy_timeout(%d)", kind.wait.Milliseconds())}, kind.pragmas...),
			"_txlock": {"immediate"}, "mode": {mode},
		}
		db, err := sqlx.Open(driver, "file:"+(&url.URL{Path: path}).EscapedPath()+"?"+options.Encode())
		if err != nil {
			p.close()
			return nil, fmt.Errorf("records in %s: %w", path, err)
		}
		db.SetMaxOpenConns(kind.most)
		db.SetMaxIdleConns(kind.most) // opening one reads the tables anew
		*kind.db = db
	}
	return p, nil
}

// UsualDriver is the name of the driver of the database.
const UsualDriver = "sqlite"

// keepSecond has the second file stay when the records are closed, though all of it is worked in: the database would remove it.
func (p *pools) keepSecond() {
	ctx, cancel := context.WithTimeout(context.Background(), readWithin)
	defer cancel()
	conn, err := p.writer.Conn(ctx)
	if err != nil {
		return
	}
	defer conn.Close()
	conn.Raw(func(driver any) error {
		if file, ok := driver.(sqlite.FileControl); ok {
			_, err := file.FileControlPersistWAL("main", 1)
			return err
		}
		return nil
	})
}

func (p *pools) close() error {
	var errs []error
	for _, db := range []*sqlx.DB{p.readers, p.longer, p.writer} { // the last to close works in what was written
		if db != nil {
			errs = append(errs, db.Close())
		}
	}
	return errors.Join(errs...)
}

// take waits for the turn to write, and returns what gives it back.
func (p *pools) take(ctx context.Context) (give func(), err error) {
	wait := time.NewTimer(writeWithin)
	defer wait.Stop()
	select {
	case p.turn <- struct{}{}:
		return func() { <-p.turn }, nil
	case <-ctx.Done():
		return nil, ctx.Err()
	case <-wait.C:
		return nil, fmt.Errorf("%w: others write", ErrBusy)
	}
}

// asker is what reads and writes outside of transactions: it reads from a pool that is for reading, within a time.
type asker struct {
	*pools
	db     *sqlx.DB
	within time.Duration
}

func (p *pools) read() speaker { return speaker{to: asker{p, p.readers, readWithin}} }
func (p *pools) long() speaker { return speaker{to: asker{p, p.longer, longWithin}} }

func (a asker) ask(ctx context.Context, do func(context.Context) error) error {
	limited, cancel := context.WithTimeout(ctx, a.within)
	defer cancel()
	err := do(limited)
	if err != nil && ctx.Err() == nil && limited.Err() != nil {
		return fmt.Errorf("%w: %w", ErrBusy, err)
	}
	return busy(err)
}

// busy marks the errors of a database that another program has locked.
func busy(err error) error {
	var locked *sqlite.Error
	if errors.As(err, &locked) && (locked.Code()&0xff == lib.SQLITE_BUSY || locked.Code()&0xff == lib.SQLITE_LOCKED) {
		return fmt.Errorf("%w: %w", ErrBusy, err)
	}
	return err
}

// GetContext is for speaker.
func (a asker) GetContext(ctx context.Context, dest any, query string, args ...any) error {
	return a.ask(ctx, func(ctx context.Context) error { return a.db.GetContext(ctx, dest, query, args...) })
}

// SelectContext is for speaker.
func (a asker) SelectContext(ctx context.Context, dest any, query string, args ...any) error {
	return a.ask(ctx, func(ctx context.Context) error { return a.db.SelectContext(ctx, dest, query, args...) })
}

// QueryxContext is for speaker. It has no limit but the context, since its rows are read later.
func (a asker) QueryxContext(ctx context.Context, query string, args ...any) (*sqlx.Rows, error) {
	return a.db.QueryxContext(ctx, query, args...)
}

// ExecContext is for speaker.
func (a asker) ExecContext(ctx context.Context, query string, args ...any) (result sql.Result, err error) {
	err = a.write(ctx, func() error {
		result, err = a.writer.ExecContext(ctx, query, args...)
		return err
	})
	return result, err
}

// NamedExecContext is for speaker.
func (a asker) NamedExecContext(ctx context.Context, query string, arg any) (result sql.Result, err error) {
	err = a.write(ctx, func() error {
		result, err = a.writer.NamedExecContext(ctx, query, arg)
		return err
	})
	return result, err
}

// Rebind is for speaker.
func (a asker) Rebind(query string) string { return a.db.Rebind(query) }

// write writes when it is its turn, and again while another program has the records locked.
func (p *pools) write(ctx context.Context, do func() error) error {
	give, err := p.take(ctx)
	if err != nil {
		return err
	}
	defer give()
	for began, pause := time.Now(), time.Millisecond; ; pause = min(2*pause, 50*time.Millisecond) {
		if err = busy(do()); !errors.Is(err, ErrBusy) || time.Since(began) > writeWithin {
			return err
		}
		select {
		case <-time.After(pause):
		case <-ctx.Done():
			return err
		}
	}
}

func (p *pools) inTransaction(ctx context.Context, do func(speaker) error) error {
	var news *News
	err := p.write(ctx, func() error {
		tx, err := p.writer.BeginTxx(ctx, nil)
		if err != nil { // here it is locked, or never
			return err
		}
		told := &News{}
		if err := do(speaker{told, tx}); err != nil {
			tx.Rollback()
			return err
		}
		news = told
		return tx.Commit()
	})
	p.subscribers.publish(news)
	return err
}

// vacuum gives so many free pages back to the file system.
func (p *pools) vacuum(ctx context.Context, pages int) error {
	return p.write(ctx, func() error {
		rows, err := p.writer.QueryContext(ctx, fmt.Sprintf(`PRAGMA incremental_vacuum(%d)`, pages))
		if err != nil {
			return err
		}
		defer rows.Close()
		for rows.Next() { // each step frees one
		}
		return rows.Err()
	})
}
