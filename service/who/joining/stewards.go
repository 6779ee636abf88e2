package joining

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"ostiarius/core/account"
	kind "ostiarius/core/activity"
	"ostiarius/core/joining"
	"ostiarius/core/message"
	"ostiarius/core/policy"
	"ostiarius/core/secret"
	"ostiarius/core/words"
	"ostiarius/service/base/mistake"
	"ostiarius/store"
)

// Applications returns who has asked to join and is not in, the oldest first.
func (f *Joining) Applications(ctx context.Context) ([]joining.Application, error) {
	return f.o.Store.Applications(ctx, f.o.Now())
}

// find returns the application of a name, if a steward can do something about it.
func (f *Joining) find(ctx context.Context, name string) (a store.Application, err error) {
	key, err := account.Key(strings.TrimSpace(name))
	if err != nil {
		return a, mistake.Of(err)
	}
	a, err = f.o.Store.ApplicationByKey(ctx, key, f.o.Now())
	if errors.Is(err, store.ErrNone) || err == nil && a.State == joining.Declined {
		err = mistake.Unknown("no registration with the name %q is waiting; `ostiarius people list --state waiting` shows all", name)
	}
	return a, err
}

// Approve lets somebody in who has asked to join, and tells them by mail. The errors are *mistake.Errors, or say that the
// service failed.
func (f *Joining) Approve(ctx context.Context, actor, name string) error {
	a, err := f.find(ctx, name)
	if err != nil {
		return err
	}
	if a.State != joining.Waiting {
		return mistake.Invalid("%s has not confirmed the address %s yet; you can approve them after that", a.Name, a.Email)
	}
	_, err = f.joined(a, nil, func(n store.Joined) (int64, error) {
		n.Account.MadeBy, n.Event.Actor, n.Event.Detail = actor, actor, "approved"
		m := message.New(message.Approved, a.Email, a.Name, a.Language, f.o.Now())
		m.Link = f.o.Book().SignInAt()
		n.Mails = []message.Message{m}
		return f.o.Store.Admit(ctx, a.ID, joining.Waiting, n)
	})
	if errors.Is(err, ErrLink) {
		err = mistake.Taken("the registration of %s has changed; try again", a.Name)
	}
	return err
}

// The longest text that goes with a refusal, in bytes.
const longestText = 2000

// Decline refuses somebody who has asked to join, and tells them by mail, with a text of the steward's own or none.
func (f *Joining) Decline(ctx context.Context, actor, name, text string) error {
	a, err := f.find(ctx, name)
	if err != nil {
		return err
	}
	if text = strings.TrimSpace(text); len(text) > longestText {
		return mistake.Invalid("the text has more than %d bytes", longestText)
	}
	now, before := f.o.Now(), a.State
	var mails []message.Message
	if before == joining.Waiting { // an address that is not proven is perhaps somebody else's
		m := message.New(message.Declined, a.Email, a.Name, a.Language, now)
		if m.Gaps["text"] = text; text == "" {
			m.Gaps["text"] = f.o.Book().Words.Say(a.Language, "joining.declined-text", nil)
		}
		mails = append(mails, m)
	}
	e := f.event(kind.JoinDeclined, a.Name, 0, "", "")
	e.Actor = actor
	err = f.o.Store.SetApplication(ctx, a.In(joining.Declined, now), before, mails, e)
	if errors.Is(err, store.ErrNone) {
		err = mistake.Taken("the registration of %s has changed; try again", a.Name)
	}
	return err
}

// An Invite is an invitation as a steward wants it.
type Invite struct {
	Email    string
	Roles    []string
	Ends     time.Time     // of the roles; zero for never
	Lasts    time.Duration // of the invitation; 0 for as long as is usual
	Language words.Language
	Mail     bool // send it; else the link is returned
}

// Invite invites somebody, in the place of an invitation before. It returns the path of the link, below the address of the
// site, unless that is sent by mail, and when it ends.
func (f *Joining) Invite(ctx context.Context, actor string, i Invite) (path string, until time.Time, err error) {
	book, now := f.o.Book(), f.o.Now()
	email := strings.TrimSpace(i.Email)
	if _, _, err := account.SplitEmail(email); err != nil {
		return "", until, mistake.Of(err)
	}
	key, err := account.EmailKey(email)
	if err != nil {
		return "", until, mistake.Of(err)
	}
	switch {
	case book.Joining.By == policy.ByNobody:
		return "", until, mistake.Invalid("registration is off; add joining: { by: invitation } to the policy first")
	case !i.Ends.IsZero() && !i.Ends.After(now):
		return "", until, mistake.Invalid("the end of the roles must be in the future")
	case i.Lasts < 0 || i.Lasts > 366*24*time.Hour:
		return "", until, mistake.Invalid("an invitation can be valid for a year at most")
	}
	for _, role := range i.Roles {
		if !book.KnownRole(role) {
			return "", until, mistake.Invalid("unknown role %q; the policy has %s", role, strings.Join(book.RoleNames(), ", "))
		}
	}
	if i.Lasts == 0 {
		i.Lasts = joining.InvitationLasts
	}
	slices.Sort(i.Roles)
	invitation := joining.Invitation{Email: email, Roles: slices.Compact(i.Roles), Ends: i.Ends, MadeAt: now, MadeBy: actor,
		Until: now.Add(i.Lasts), Mailed: i.Mail}
	token, hash := secret.NewToken()
	path = book.Prefix + "/join?invitation=" + token
	var mails []message.Message
	if i.Mail {
		m := message.New(message.Invited, email, "", words.Choose("", string(i.Language)), now).With(path, invitation.Until)
		mails, path = append(mails, m), ""
	}
	detail := email
	if len(i.Roles) > 0 {
		detail += ", as " + strings.Join(invitation.Roles, ", ")
	}
	err = f.o.Store.Invite(ctx, invitation, key, hash, mails,
		store.Activity{At: now, Kind: kind.Invited, Actor: actor, Detail: detail, AccountID: store.NoAccount})
	if errors.Is(err, store.ErrTaken) {
		err = mistake.Taken("an account already has the address %s", email)
	}
	return path, invitation.Until, err
}

// Invitations returns the invitations that hold, the oldest first.
func (f *Joining) Invitations(ctx context.Context) ([]joining.Invitation, error) {
	return f.o.Store.Invitations(ctx, f.o.Now())
}

// Revoke ends the invitation to an address.
func (f *Joining) Revoke(ctx context.Context, actor, email string) error {
	key, err := account.EmailKey(strings.TrimSpace(email))
	if err != nil {
		return mistake.Of(err)
	}
	err = f.o.Store.RevokeInvitation(ctx, key,
		store.Activity{At: f.o.Now(), Kind: kind.InvitationRevoked, Actor: actor, Detail: email, AccountID: store.NoAccount})
	if errors.Is(err, store.ErrNone) {
		err = mistake.Unknown("there is no invitation to %s", email)
	}
	return err
}

// Invitation returns the invitation of a link. The error is ErrLink if it was used, revoked, has ended or never was.
func (f *Joining) Invitation(ctx context.Context, link string) (*joining.Invitation, error) {
	i, _, err := f.invitation(ctx, link)
	return i, err
}

func (f *Joining) invitation(ctx context.Context, link string) (*joining.Invitation, secret.TokenHash, error) {
	token, ok := secret.HashToken(link)
	if !ok {
		return nil, token, ErrLink
	}
	i, err := f.o.Store.InvitationByToken(ctx, token, f.o.Now())
	if errors.Is(err, store.ErrNone) {
		err = ErrLink
	}
	return &i, token, err
}

// Remarks says how many people wait for a steward.
func (f *Joining) Remarks(ctx context.Context) (all []string, err error) {
	applications, err := f.Applications(ctx)
	waiting := 0
	for _, a := range applications {
		if a.State == joining.Waiting {
			waiting++
		}
	}
	switch {
	case waiting == 1:
		all = append(all, "1 registration is waiting for approval. The People page shows it.")
	case waiting > 1:
		all = append(all, fmt.Sprintf("%d registrations are waiting for approval. The People page shows them.", waiting))
	}
	return all, err
}
