package store

import (
	"context"
	"crypto/rand"
	"database/sql"
	"encoding/hex"
	"errors"
)

// Secret returns a random key of 32 bytes that belongs to the service itself, always the
// same for the same name. It is made when it is first asked for.
func (s *Store) Secret(ctx context.Context, name string) (key []byte, err error) {
	var kept string
	if err = s.get(ctx, &kept, `SELECT value FROM secrets WHERE name = ?`, name); err == nil {
		return hex.DecodeString(kept)
	} else if !errors.Is(err, sql.ErrNoRows) {
		return nil, err
	}
	fresh := make([]byte, 32)
	rand.Read(fresh)
	err = s.inTransaction(ctx, func(tx speaker) error {
		if _, err := tx.exec(ctx, `INSERT INTO secrets (name, value) VALUES (?, ?) ON CONFLICT (name) DO NOTHING`, name,
			hex.EncodeToString(fresh)); err != nil {
			return err
		}
		return tx.get(ctx, &kept, `SELECT value FROM secrets WHERE name = ?`, name)
	})
	if err != nil {
		return nil, err
	}
	return hex.DecodeString(kept)
}
