package store

import (
	"context"
	"time"

	"ostiarius/core/joining"
	"ostiarius/core/message"
	"ostiarius/core/secret"
	"ostiarius/core/session"
)

// A newInvitation is one as it is written down first.
type newInvitation struct {
	joining.Invitation
	Token    secret.TokenHash
	EmailKey string
}

const invitationColumns = `id, email, roles Roles words, ends_at Ends, made_at, made_by, until_at Until, mailed`

var (
	invitations    = tableOf[joining.Invitation]("invitations", invitationColumns)
	newInvitations = tableOf[newInvitation]("invitations", invitationColumns+`, token_hash Token, email_key`)
)

// Invite writes down an invitation with the token of its link, in the place of one to the same address, and the
// messages that have it. The error is ErrTaken if an account has the address.
func (s *Store) Invite(ctx context.Context, i joining.Invitation, emailKey string, token secret.TokenHash, mails []message.Message,
	e Activity) error {
	return s.change(ctx, mails, e, func(tx speaker) error {
		if err := free(ctx, tx, Keys{Name: emailKey, Email: emailKey, Anyway: true}, 0); err != nil {
			return err
		}
		if _, err := tx.exec(ctx, `DELETE FROM invitations WHERE email_key = ?`, emailKey); err != nil {
			return err
		}
		i.ID = 0
		return newInvitations.addOne(ctx, tx, newInvitation{i, token, emailKey})
	})
}

// Invitations returns the invitations that hold, the oldest first.
func (s *Store) Invitations(ctx context.Context, now time.Time) ([]joining.Invitation, error) {
	return invitations.all(ctx, s.speaker, `WHERE until_at > ? ORDER BY made_at, id`, millis(now))
}

// InvitationByToken returns the invitation of a link. The error is ErrNone if it was used, revoked, has ended or never was.
func (s *Store) InvitationByToken(ctx context.Context, token secret.TokenHash, now time.Time) (joining.Invitation, error) {
	return invitations.one(ctx, s.speaker, `WHERE token_hash = ? AND until_at > ? AND made_at <= ?`, hexOf(token), millis(now),
		millis(now.Add(session.Slack)))
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
	return s.change(ctx, nil, e, func(tx speaker) error {
		return one(tx.exec(ctx, `DELETE FROM invitations WHERE email_key = ? AND until_at > ?`, emailKey, millis(e.At)))
	})
}
