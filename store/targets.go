package store

import (
	"context"
	"encoding/json"
	"strings"

	"github.com/jmoiron/sqlx"

	"ostiarius/core/activity"
	"ostiarius/core/message"
	"ostiarius/core/signature"
	"ostiarius/core/telling"
)

type targetRow struct {
	ID     int64  `db:"id"`
	URL    string `db:"url"`
	Kinds  string `db:"kinds"`
	Secret string `db:"secret"`
	MadeAt int64  `db:"made_at"`
	MadeBy string `db:"made_by"`
}

func (r targetRow) target() telling.Target {
	t := telling.Target{ID: r.ID, URL: r.URL, MadeAt: moment(r.MadeAt), MadeBy: r.MadeBy}
	for kind := range strings.FieldsSeq(r.Kinds) {
		t.Kinds = append(t.Kinds, telling.Kind(kind))
	}
	return t
}

// Targets returns the programs that are told what happens, the oldest first.
func (s *Store) Targets(ctx context.Context) ([]telling.Target, error) {
	var rows []targetRow
	err := s.all(ctx, &rows, `SELECT id, url, kinds, '' AS secret, made_at, made_by FROM targets ORDER BY id`)
	all := make([]telling.Target, len(rows))
	for i, r := range rows {
		all[i] = r.target()
	}
	return all, err
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
	var kinds []string
	for _, k := range t.Kinds {
		kinds = append(kinds, string(k))
	}
	err = s.inTransaction(ctx, func(tx speaker) error {
		if _, err := tx.named(ctx,
			`INSERT INTO targets (url, kinds, secret, made_at, made_by) VALUES (:url, :kinds, :secret, :made_at, :made_by)`,
			targetRow{0, t.URL, strings.Join(kinds, " "), secret.Text(), millis(t.MadeAt), t.MadeBy}); err != nil {
			return err
		}
		if err := tx.get(ctx, &id, `SELECT MAX(id) FROM targets`); err != nil {
			return err
		}
		return record(ctx, tx, e)
	})
	return id, err
}

// RemoveTarget removes a target, with what waits to be told to it. The error is ErrNone if there is none of that number.
func (s *Store) RemoveTarget(ctx context.Context, id int64, e Activity) error {
	return s.inTransaction(ctx, func(tx speaker) error {
		if err := one(tx.exec(ctx, `DELETE FROM targets WHERE id = ?`, id)); err != nil {
			return err
		}
		return record(ctx, tx, e)
	})
}

// Untold returns records of kinds that are told to other programs and have not been, the oldest first, each with what more is told of it.
func (s *Store) Untold(ctx context.Context, most int) ([]Activity, error) {
	var rows []struct {
		ID      int64         `db:"id"`
		At      int64         `db:"at"`
		Kind    activity.Kind `db:"kind"`
		Account string        `db:"account"`
		Actor   string        `db:"actor"`
		Detail  string        `db:"detail"`
		Data    string        `db:"data"`
	}
	if err := s.all(ctx, &rows, `SELECT id, at, kind, account, actor, detail, data FROM activity WHERE told = 0 ORDER BY id LIMIT ?`,
		most); err != nil {
		return nil, err
	}
	all := make([]Activity, len(rows))
	for i, r := range rows {
		all[i] = Activity{ID: r.ID, At: moment(r.At), Kind: r.Kind, Account: r.Account, Actor: r.Actor, Detail: r.Detail}
		if r.Data != "" {
			if err := json.Unmarshal([]byte(r.Data), &all[i].Data); err != nil {
				return nil, err
			}
		}
	}
	return all, nil
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
