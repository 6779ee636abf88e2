package store

import (
	"context"
	"database/sql"
	"database/sql/driver"
	"fmt"

	"github.com/jmoiron/sqlx"
)

// A speaker speaks to the database, in a transaction or not. Here, and nowhere else, the "?" of our
// texts becomes what the database takes for a value.
type speaker struct {
	news *News // of the transaction; nil outside of one
	to   interface {
		ExecContext(ctx context.Context, query string, args ...any) (sql.Result, error)
		GetContext(ctx context.Context, dest any, query string, args ...any) error
		SelectContext(ctx context.Context, dest any, query string, args ...any) error
		NamedExecContext(ctx context.Context, query string, arg any) (sql.Result, error)
		QueryxContext(ctx context.Context, query string, args ...any) (*sqlx.Rows, error)
		Rebind(query string) string
	}
}

// exec carries out a change.
func (s speaker) exec(ctx context.Context, query string, args ...any) (sql.Result, error) {
	return s.to.ExecContext(ctx, s.to.Rebind(query), args...)
}

// named carries out a change with the fields of arg, or of each of its elements, by their names.
func (s speaker) named(ctx context.Context, query string, arg any) (sql.Result, error) {
	return s.to.NamedExecContext(ctx, query, arg)
}

// get reads one row; the error is sql.ErrNoRows if there is none.
func (s speaker) get(ctx context.Context, dest any, query string, args ...any) error {
	return s.to.GetContext(ctx, dest, s.to.Rebind(query), args...)
}

// all reads all rows.
func (s speaker) all(ctx context.Context, dest any, query string, args ...any) error {
	return s.to.SelectContext(ctx, dest, s.to.Rebind(query), args...)
}

// rows reads rows one by one.
func (s speaker) rows(ctx context.Context, query string, args ...any) (*sqlx.Rows, error) {
	return s.to.QueryxContext(ctx, s.to.Rebind(query), args...)
}

// scan reads rows, each by a function, within the time that there is for that.
func (s speaker) scan(ctx context.Context, query string, args []any, each func(*sqlx.Rows) error) error {
	read := func(ctx context.Context) error {
		rows, err := s.rows(ctx, query, args...)
		if err != nil {
			return err
		}
		defer rows.Close()
		for rows.Next() {
			if err := each(rows); err != nil {
				return err
			}
		}
		return rows.Err()
	}
	if outside, ok := s.to.(asker); ok {
		return outside.ask(ctx, read)
	}
	return read(ctx)
}

// A bit is a bool as it is written, in any database: the number 0 or 1.
type bit bool

// Value is for package sql.
func (b bit) Value() (driver.Value, error) {
	if b {
		return int64(1), nil
	}
	return int64(0), nil
}

// Scan is for package sql.
func (b *bit) Scan(value any) error {
	n, ok := value.(int64)
	if !ok || n != 0 && n != 1 {
		return fmt.Errorf("%v is neither 0 nor 1", value)
	}
	*b = n == 1
	return nil
}
