package store

import (
	"context"
	"strings"
	"time"

	"ostiarius/core/joining"
	"ostiarius/core/message"
	"ostiarius/core/secret"
	"ostiarius/core/session"
)

type invitationRow struct {
	ID     int64  `db:"id"`
	Email  string `db:"email"`
	Roles  string `db:"roles"`
	Ends   int64  `db:"ends_at"`
	MadeAt int64  `db:"made_at"`
	MadeBy string `db:"made_by"`
	Until  int64  `db:"until_at"`
	Mailed bit    `db:"mailed"`
}

const invitationColumns = `id, email, roles, ends_at, made_at, made_by, until_at, mailed`

func (r invitationRow) invitation() joining.Invitation {
	return joining.Invitation{ID: r.ID, Email: r.Email, Roles: strings.Fields(r.Roles), Ends: moment(r.Ends), MadeAt: moment(r.MadeAt),
		MadeBy: r.MadeBy, Until: moment(r.Until), Mailed: bool(r.Mailed)}
}

// Invite writes down an invitation with the token of its link, in the place of one to the same address, and the
// messages that have it. The error is ErrTaken if an account has the address.
func (s *Store) Invite(ctx context.Context, i joining.Invitation, emailKey string, token secret.TokenHash, mails []message.Message,
	e Activity) error {
	return s.inTransaction(ctx, func(tx speaker) error {
		if err := free(ctx, tx, Keys{Name: emailKey, Email: emailKey, Anyway: true}, 0); err != nil {
			return err
		}
		if _, err := tx.exec(ctx, `DELETE FROM invitations WHERE email_key = ?`, emailKey); err != nil {
			return err
		}
		_, err := tx.exec(ctx, `INSERT INTO invitations (token_hash, email, email_key, roles, ends_at, made_at, made_by, until_at, mailed) `+
			`VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?)`,
			hexOf(token), i.Email, emailKey, strings.Join(i.Roles, " "), millis(i.Ends), millis(i.MadeAt), i.MadeBy, millis(i.Until), bit(i.Mailed))
		if err != nil {
			return err
		}
		if err := post(ctx, tx, mails); err != nil {
			return err
		}
		return record(ctx, tx, e)
	})
}

// Invitations returns the invitations that hold, the oldest first.
func (s *Store) Invitations(ctx context.Context, now time.Time) ([]joining.Invitation, error) {
	var rows []invitationRow
	err := s.all(ctx, &rows, `SELECT `+invitationColumns+` FROM invitations WHERE until_at > ? ORDER BY made_at, id`, millis(now))
	all := make([]joining.Invitation, len(rows))
	for i, r := range rows {
		all[i] = r.invitation()
	}
	return all, err
}

// InvitationByToken returns the invitation of a link. The error is ErrNone if it was used, revoked, has ended or never was.
func (s *Store) InvitationByToken(ctx context.Context, token secret.TokenHash, now time.Time) (joining.Invitation, error) {
	var r invitationRow
	err := s.get(ctx, &r, `SELECT `+invitationColumns+` FROM invitations WHERE token_hash = ? AND until_at > ? AND made_at <= ?`,
		hexOf(token), millis(now), millis(now.Add(session.Slack)))
	return r.invitation(), none(err)
}

// UseInvitation makes the account of somebody who brings the link of an invitation, which has then ended. The errors are
// those of InvitationByToken and of Join.
func (s *Store) UseInvitation(ctx context.Context, token secret.TokenHash, j Joined) (id int64, err error) {
	err = s.inTransaction(ctx, func(tx speaker) error {
		if err := one(tx.exec(ctx, `DELETE FROM invitations WHERE token_hash = ? AND until_at > ?`, hexOf(token),
			millis(j.Event.At))); err != nil {
			return err
		}
		if err := nameFree(ctx, tx, j.Keys.Name, j.Event.At); err != nil {
			return err
		}
		id, err = join(ctx, tx, j)
		return err
	})
	return id, err
}

// RevokeInvitation ends the invitation to an address. The error is ErrNone if there is none.
func (s *Store) RevokeInvitation(ctx context.Context, emailKey string, e Activity) error {
	return s.inTransaction(ctx, func(tx speaker) error {
		if err := one(tx.exec(ctx, `DELETE FROM invitations WHERE email_key = ? AND until_at > ?`, emailKey, millis(e.At))); err != nil {
			return err
		}
		return record(ctx, tx, e)
	})
}
