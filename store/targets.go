package store

import (
	"context"

	"github.com/jmoiron/sqlx"

	"ostiarius/core/message"
	"ostiarius/core/signature"
	"ostiarius/core/telling"
)

const targetColumns = `id, url, kinds Kinds words, made_at, made_by`

// A newTarget is one as it is written down first, with what is signed with for it.
type newTarget struct {
	telling.Target
	Secret signature.Secret
}

var (
	targets    = tableOf[telling.Target]("targets", targetColumns)
	newTargets = tableOf[newTarget]("targets", targetColumns+`, secret`)
)

// Targets returns the programs that are told what happens, the oldest first.
func (s *Store) Targets(ctx context.Context) ([]telling.Target, error) {
	return targets.all(ctx, s.speaker, `ORDER BY id`)
}

// TargetSecret returns with what is signed what a target is told. The error is ErrNone if it is gone.
func (s *Store) TargetSecret(ctx context.Context, id int64) (signature.Secret, error) {
	var text string
	if err := s.get(ctx, &text, `SELECT secret FROM targets WHERE id = ?`, id); err != nil {
		return signature.Secret{}, none(err)
	}
	return signature.ReadSecret(text)
}

// AddTarget adds a program that is told what happens, and returns its number.
func (s *Store) AddTarget(ctx context.Context, t telling.Target, secret signature.Secret, e Activity) (id int64, err error) {
	t.ID = 0
	err = s.change(ctx, nil, e, func(tx speaker) error {
		if err := newTargets.addOne(ctx, tx, newTarget{t, secret}); err != nil {
			return err
		}
		return tx.get(ctx, &id, `SELECT MAX(id) FROM targets`)
	})
	return id, err
}

// RemoveTarget removes a target, with what waits to be told to it. The error is ErrNone if there is none of that number.
func (s *Store) RemoveTarget(ctx context.Context, id int64, e Activity) error {
	return s.change(ctx, nil, e, func(tx speaker) error {
		return one(tx.exec(ctx, `DELETE FROM targets WHERE id = ?`, id))
	})
}

var untold = tableOf[Activity]("activity", `id, at, kind, account, actor, detail, data Data json`)

// Untold returns records of kinds that are told to other programs and have not been, the oldest first, each with what more is told of it.
func (s *Store) Untold(ctx context.Context, most int) ([]Activity, error) {
	return untold.all(ctx, s.speaker, `WHERE told = 0 ORDER BY id LIMIT ?`, most)
}

// Told notes that records are told, with the messages that tell them.
func (s *Store) Told(ctx context.Context, ids []int64, all []message.Message) error {
	query, args, err := sqlx.In(`UPDATE activity SET told = 1 WHERE id IN (?)`, ids)
	if err != nil {
		return err
	}
	return s.inTransaction(ctx, func(tx speaker) error {
		if _, err := tx.exec(ctx, query, args...); err != nil {
			return err
		}
		return post(ctx, tx, all)
	})
}
