package store

import (
	"context"
	"time"

	"ostiarius/core/account"
	"ostiarius/core/message"
	"ostiarius/core/secret"
	"ostiarius/core/session"
)

// An AddressLink is a link with which an account gets another address.
type AddressLink struct {
	Hash    secret.TokenHash
	Account int64
	Undo    bool   // it takes back all changes since it was made; else it makes one, and shows that the address is read by its owner
	Address string // that the account gets
	Before  string // the key of the one that it must have until then; of no importance with Undo
	MadeAt  time.Time
	Until   time.Time
}

var addressLinks = tableOf[AddressLink]("address_links",
	`token_hash Hash, account_id Account, undo, address, before, made_at, until_at Until`)

// AskAddress writes down a link that gives an account another address, in the place of those before, with the message
// that has it.
func (s *Store) AskAddress(ctx context.Context, l AddressLink, undo *AddressLink, mails []message.Message, e Activity) error {
	return s.change(ctx, mails, e, func(tx speaker) error {
		if _, err := tx.exec(ctx, `DELETE FROM address_links WHERE account_id = ? AND undo = 0`, l.Account); err != nil {
			return err
		}
		if err := addressLinks.addOne(ctx, tx, l); err != nil {
			return err
		}
		if undo != nil {
			if err := addressLinks.addOne(ctx, tx, *undo); err != nil {
				return err
			}
		}
		return nil
	})
}

// AddressLink returns what a link about an address does, and for which account. The error is ErrNone if it was used,
// has ended, never was, or if the account has got yet another address.
func (s *Store) AddressLink(ctx context.Context, token secret.TokenHash, now time.Time) (AddressLink, *account.Account, error) {
	l, err := addressLinks.one(ctx, s.speaker, `WHERE token_hash = ? AND until_at > ? AND made_at <= ? AND (undo = 1
		OR before = (SELECT email_key FROM accounts
			WHERE id = account_id))`, hexOf(token), millis(now), millis(now.Add(session.Slack)))
	if err != nil {
		return AddressLink{}, nil, err
	}
	a, err := s.AccountByID(ctx, l.Account)
	return l, a, err
}

// UseAddressLink gives an account the address of a link, which has then ended; the keys are those of the account with it. With
// undo, another link, for it to be taken back. The error is ErrNone if the link has ended meanwhile, and ErrTaken
// if somebody else has the address.
func (s *Store) UseAddressLink(ctx context.Context, l AddressLink, a *account.Account, keys Keys, undo *AddressLink,
	mails []message.Message, e Activity) error {
	return s.change(ctx, mails, e, func(tx speaker) error {
		if err := one(tx.exec(ctx, `DELETE FROM address_links WHERE token_hash = ? AND until_at > ? AND (undo = 1 OR before = (SELECT `+
			`email_key FROM accounts WHERE id = ?))`, hexOf(l.Hash), millis(e.At), a.ID)); err != nil {
			return err
		}
		if err := free(ctx, tx, keys, a.ID); err != nil {
			return err
		}
		if err := editAccount(ctx, tx, a, keys); err != nil {
			return err
		}
		if err := proveAddress(ctx, tx, a.ID, e.At); err != nil {
			return err
		}
		if l.Undo {
			// Whoever made the changes since has got links to take them back, which would take this back.
			if _, err := tx.exec(ctx, `DELETE FROM address_links WHERE account_id = ? AND made_at >= ?`, a.ID, millis(l.MadeAt)); err != nil {
				return err
			}
			if err := endProofs(ctx, tx, a.ID); err != nil {
				return err
			}
			if err := endSessions(ctx, tx, a.ID); err != nil {
				return err
			}
		}
		if undo != nil {
			if err := addressLinks.addOne(ctx, tx, *undo); err != nil {
				return err
			}
		}
		return nil
	})
}

// dropAddressLinks removes all links about the address of an account that gets another one from a steward: that isn't
// taken back by the one before.
func dropAddressLinks(ctx context.Context, tx speaker, id int64, keys Keys) error {
	_, err := tx.exec(ctx, `DELETE FROM address_links WHERE account_id = (SELECT id FROM accounts WHERE id = ? AND email_key <> ?)`, id,
		keys.Email)
	return err
}
