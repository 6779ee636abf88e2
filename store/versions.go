package store

import (
	"context"
	"time"
)

// A Version is one text of the policy that has been in force.
type Version struct {
	ID      int64 // counted from 1
	At      time.Time
	Actor   string
	Comment string
	Text    string // "" in lists
}

const versionColumns = `id, at, actor, comment`

var (
	versions       = tableOf[Version]("versions", versionColumns+`, text`)
	listedVersions = tableOf[Version]("versions", versionColumns)
)

// AddVersion records a text that comes into force and returns its version.
func (s *Store) AddVersion(ctx context.Context, v Version, e Activity) (Version, error) {
	err := s.inTransaction(ctx, func(tx speaker) error {
		err := tx.get(ctx, &v.ID, `INSERT INTO versions (at, actor, comment, text) VALUES (?, ?, ?, ?) RETURNING id`, millis(v.At),
			v.Actor, v.Comment, v.Text)
		if err != nil {
			return err
		}
		return record(ctx, tx, e)
	})
	return v, err
}

// LatestVersion returns the version that came into force last. The error is ErrNone if
// there is none.
func (s *Store) LatestVersion(ctx context.Context) (Version, error) {
	return s.version(ctx, `ORDER BY id DESC LIMIT 1`)
}

// Version returns one version. The error is ErrNone if there is none of that number.
func (s *Store) Version(ctx context.Context, id int64) (Version, error) {
	return s.version(ctx, `WHERE id = ?`, id)
}

func (s *Store) version(ctx context.Context, which string, args ...any) (Version, error) {
	return versions.one(ctx, s.speaker, which, args...)
}

// Versions returns all versions without their texts, newest first.
func (s *Store) Versions(ctx context.Context) ([]Version, error) {
	return listedVersions.all(ctx, s.long, `ORDER BY id DESC`)
}

// TrimVersions forgets the oldest versions, so that no more than most are left and their texts
// have no more bytes together than size; 0 is as many as there are. The newest of them, so many as
// always says, are kept whatever their size.
func (s *Store) TrimVersions(ctx context.Context, most int, size int64, always int) error {
	var kept []struct{ ID, Size int64 }
	err := s.all(ctx, &kept, `SELECT id, length(CAST(text AS BLOB)) AS size FROM versions ORDER BY id DESC`)
	if err != nil {
		return err
	}
	total := int64(0)
	for i, v := range kept {
		total += v.Size
		if i >= always && (most > 0 && i >= most || size > 0 && total > size) {
			_, err := s.exec(ctx, `DELETE FROM versions WHERE id <= ?`, v.ID)
			return err
		}
	}
	return nil
}
