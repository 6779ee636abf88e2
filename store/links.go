package store

import (
	"context"
	"errors"
	"time"

	"ostiarius/core/account"
	"ostiarius/core/message"
	"ostiarius/core/secret"
	"ostiarius/core/session"
)

// AddLink notes a link with which somebody may set an account's password once, with the messages that have it.
func (s *Store) AddLink(ctx context.Context, l NewLink, mails []message.Message, e Activity) error {
	return s.change(ctx, mails, e, func(tx speaker) error {
		return addLink(ctx, tx, l, e)
	})
}

func addLink(ctx context.Context, tx speaker, l NewLink, e Activity) error {
	_, err := tx.exec(ctx, `INSERT INTO links (token_hash, account_id, made_at, until_at, made_by, mailed) VALUES (?, ?, ?, ?, ?, ?)`,
		hexOf(l.Hash), l.Account, millis(e.At), millis(l.Until), e.Actor, bit(l.Mailed))
	return err
}

// AccountByLink returns the account that a link is for. The error is ErrNone if the link
// was used, has ended, never was, or was made in the future, since the clock went back.
func (s *Store) AccountByLink(ctx context.Context, token secret.TokenHash, now time.Time) (*account.Account, error) {
	a, _, err := s.account(ctx, `id = (SELECT account_id FROM links WHERE token_hash = ? AND until_at > ? AND made_at <= ?)`,
		hexOf(token), millis(now), millis(now.Add(session.Slack)))
	return a, err
}

// UseLink sets the password of the account that a link is for, and with that ends the link
// and the account's sessions. The error is ErrNone if the link has ended meanwhile.
func (s *Store) UseLink(ctx context.Context, token secret.TokenHash, id int64, hash string, mails []message.Message, e Activity) error {
	return s.change(ctx, mails, e, func(tx speaker) error {
		var mailed bit
		if err := tx.get(ctx, &mailed, `SELECT mailed FROM links WHERE token_hash = ?`, hexOf(token)); err != nil {
			return none(err)
		}
		if err := one(tx.exec(ctx, `DELETE FROM links WHERE token_hash = ? AND account_id = ? AND until_at > ?`, hexOf(token), id,
			millis(e.At))); err != nil {
			return err
		}
		if mailed {
			if err := proveAddress(ctx, tx, id, e.At); err != nil {
				return err
			}
		}
		return setPassword(ctx, tx, id, hash, e.At)
	})
}

// SweepLinks removes the links that have ended.
func (s *Store) SweepLinks(ctx context.Context, now time.Time) error {
	return errors.Join(s.sweep(ctx, "links", "until_at", `until_at <= ?`, millis(now)),
		s.sweep(ctx, "address_links", "until_at", `until_at <= ?`, millis(now)))
}
