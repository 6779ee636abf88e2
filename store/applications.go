package store

import (
	"context"
	"errors"
	"time"

	"ostiarius/core/account"
	"ostiarius/core/joining"
	"ostiarius/core/message"
	"ostiarius/core/secret"
	"ostiarius/core/session"
)

// An Application is one as it is kept: with its names as they are compared, and the hash of its password.
type Application struct {
	joining.Application
	Keys Keys
	Hash string
}

const applicationColumns = `id, name, name_key Keys.Name, email, email_key Keys.Email, hash, language, network, next, state, made_at, ` +
	`agreed_at, proven_at, until_at Until`

// A newApplication is one as it is written down first.
type newApplication struct {
	Application
	Token    secret.TokenHash // of the link that proves its address
	Skeleton string           // what looks like the name has the same
}

var (
	applications    = tableOf[Application]("applications", applicationColumns)
	newApplications = tableOf[newApplication]("applications", applicationColumns+`, token_hash Token, skeleton`)
)

// CountApplications returns how many applications there are.
func (s *Store) CountApplications(ctx context.Context) (all int, err error) {
	return all, s.get(ctx, &all, `SELECT COUNT(*) FROM applications`)
}

// Apply writes down an application, with the token of the link that proves its address and the messages that have it. One
// of that name that was declined makes room. The error is ErrTaken if an account or another application has the
// name; the address may be anybody's.
func (s *Store) Apply(ctx context.Context, a Application, token secret.TokenHash, mails []message.Message, e Activity) error {
	return s.change(ctx, mails, e, func(tx speaker) error {
		if _, err := tx.exec(ctx, `DELETE FROM applications WHERE name_key = ? AND (state = ? OR until_at <= ?)`, a.Keys.Name,
			joining.Declined, millis(a.MadeAt)); err != nil {
			return err
		}
		if err := nameFree(ctx, tx, a.Keys.Name, a.MadeAt); err != nil {
			return err
		}
		// Whoever reads the mail of the address follows the latest link. Older ones, perhaps of somebody else, make room.
		if _, err := tx.exec(ctx, `DELETE FROM applications WHERE email_key = ? AND state = ? AND id NOT IN
			(SELECT id FROM (SELECT id FROM applications WHERE email_key = ? AND state = ? ORDER BY id DESC LIMIT ?) AS latest)`,
			a.Keys.Email, joining.Unproven, a.Keys.Email, joining.Unproven, joining.MostUnproven-1); err != nil {
			return err
		}
		a.ID = 0
		return newApplications.addOne(ctx, tx, newApplication{a, token, account.Skeleton(a.Keys.Name)})
	})
}

// nameFree returns ErrTaken if an account has a name, or an application that was not declined, or if it looks like theirs or rests.
func nameFree(ctx context.Context, tx speaker, key string, now time.Time) error {
	if err := free(ctx, tx, Keys{Name: key}, 0); err != nil {
		return err
	}
	var taken int
	if err := tx.get(ctx, &taken, `SELECT COUNT(*) FROM applications WHERE (name_key = ? OR skeleton = ? AND skeleton <> '') AND state `+
		`<> ? AND until_at > ?`,
		key, account.Skeleton(key), joining.Declined, millis(now)); err != nil {
		return err
	}
	if taken > 0 {
		return ErrTaken
	}
	return nil
}

// NameFree returns ErrTaken if an account or an application has a name, given as account.Key gives it.
func (s *Store) NameFree(ctx context.Context, key string, now time.Time) error {
	return nameFree(ctx, s.speaker, key, now)
}

// ApplicationByToken returns the application whose address a link proves. The error is ErrNone if there is none, if it
// was proven or has ended.
func (s *Store) ApplicationByToken(ctx context.Context, token secret.TokenHash, now time.Time) (Application, error) {
	return s.application(ctx, `token_hash = ? AND state = ? AND until_at > ? AND made_at <= ?`, hexOf(token), joining.Unproven,
		millis(now), millis(now.Add(session.Slack)))
}

// ApplicationByKey returns the application of a name. The error is ErrNone if there is none.
func (s *Store) ApplicationByKey(ctx context.Context, key string, now time.Time) (Application, error) {
	return s.application(ctx, `name_key = ? AND until_at > ?`, key, millis(now))
}

func (s *Store) application(ctx context.Context, where string, args ...any) (Application, error) {
	return applications.one(ctx, s.speaker, `WHERE `+where, args...)
}

// Applications returns the applications, the oldest first.
func (s *Store) Applications(ctx context.Context, now time.Time) ([]joining.Application, error) {
	kept, err := applications.all(ctx, s.long, `WHERE until_at > ? ORDER BY made_at, id`, millis(now))
	all := make([]joining.Application, len(kept))
	for i, k := range kept {
		all[i] = k.Application
	}
	return all, err
}

// SetApplication moves an application from a state to the one it has now. The error is ErrNone if it was in another.
func (s *Store) SetApplication(ctx context.Context, a joining.Application, before joining.State, mails []message.Message,
	e Activity) error {
	return s.change(ctx, mails, e, func(tx speaker) error {
		return one(tx.exec(ctx, `UPDATE applications SET state = ?, proven_at = ?, until_at = ? WHERE id = ? AND state = ?`, a.State,
			millis(a.ProvenAt), millis(a.Until), a.ID, before))
	})
}

// A Joined is an account that somebody has got by themselves.
type Joined struct {
	Account  *account.Account
	Keys     Keys
	Hash     string
	AgreedAt time.Time
	Proven   bool         // its owner reads the mail of its address
	Link     *AddressLink // that gives it an address, when it is followed; or nil. Account is filled in.
	Mails    []message.Message
	Event    Activity
}

// Admit makes an account of an application that was in a state until then, and returns its number. The error is ErrNone if
// it was in another, and ErrTaken if somebody else has the name or the address by now.
func (s *Store) Admit(ctx context.Context, application int64, before joining.State, j Joined) (id int64, err error) {
	err = s.inTransaction(ctx, func(tx speaker) error {
		if err := one(tx.exec(ctx, `DELETE FROM applications WHERE id = ? AND state = ?`, application, before)); err != nil {
			return err
		}
		id, err = join(ctx, tx, j)
		return err
	})
	return id, err
}

// Join makes an account of somebody who joins without an application. The error is ErrTaken as with Admit, and also if
// an application has the name.
func (s *Store) Join(ctx context.Context, j Joined) (id int64, err error) {
	err = s.inTransaction(ctx, func(tx speaker) error {
		if err := nameFree(ctx, tx, j.Keys.Name, j.Event.At); err != nil {
			return err
		}
		id, err = join(ctx, tx, j)
		return err
	})
	return id, err
}

func join(ctx context.Context, tx speaker, j Joined) (int64, error) {
	id, err := addAccount(ctx, tx, j.Account, j.Keys, j.Hash, j.Event)
	if err != nil {
		return 0, err
	}
	if !j.AgreedAt.IsZero() {
		if _, err := tx.exec(ctx, `UPDATE accounts SET agreed_at = ? WHERE id = ?`, millis(j.AgreedAt), id); err != nil {
			return 0, err
		}
	}
	if j.Proven {
		if err := proveAddress(ctx, tx, id, j.Event.At); err != nil {
			return 0, err
		}
	}
	if j.Link != nil {
		l := *j.Link
		l.Account = id
		if err := addressLinks.addOne(ctx, tx, l); err != nil {
			return 0, err
		}
	}
	for i := range j.Mails {
		if j.Mails[i].AccountID == 0 { // else it is about another account
			j.Mails[i].AccountID = id
		}
	}
	return id, post(ctx, tx, j.Mails)
}

// SweepApplications removes the applications and invitations that have ended.
func (s *Store) SweepApplications(ctx context.Context, now time.Time) error {
	return errors.Join(s.sweep(ctx, "applications", "id", `until_at <= ?`, millis(now)),
		s.sweep(ctx, "invitations", "email_key", `until_at <= ?`, millis(now)))
}
