package elsewhere

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"net/url"
	"time"

	"ostiarius/core/openid"
	"ostiarius/core/policy"
	"ostiarius/core/secret"
	"ostiarius/service/base/mistake"
	"ostiarius/service/who/sessions"
	"ostiarius/store"
)

// A Session is what a session here is at a provider; zero for nothing.
type Session = store.ElsewhereSession

// SessionOf returns what the session of a token is at a provider.
func (o *Providers) SessionOf(ctx context.Context, token string) Session {
	hash, ok := secret.HashToken(token)
	if !ok {
		return Session{}
	}
	s, err := o.o.Store.ElsewhereSession(ctx, hash)
	if err != nil {
		return Session{}
	}
	return s
}

// SignOut returns the address at a provider where somebody signs out there too, whose session here has ended; "" if there is none
// (RP-Initiated Logout 1.0).
func (o *Providers) SignOut(ctx context.Context, s Session, back string) string {
	d := policy.ElsewhereNamed(o.o.Book(), s.Provider)
	if d == nil || d.Issuer != s.Issuer || d.Here {
		return ""
	}
	is, _, err := o.provider(d.Name).described(ctx, d.Issuer)
	if err != nil || is.EndSession == "" {
		return ""
	}
	u, err := url.Parse(is.EndSession)
	if err != nil {
		return ""
	}
	q := u.Query()
	q.Set("client_id", d.Client)
	q.Set("post_logout_redirect_uri", back+d.Name+"/signed-out")
	u.RawQuery = q.Encode()
	return u.String()
}

// LoggedOut ends the sessions here of somebody who has signed out at a provider, which says so itself (Back-Channel Logout 1.0).
// The error is ErrUnknown or ErrUntrue.
func (o *Providers) LoggedOut(ctx context.Context, name, raw string, from sessions.Origin) error {
	d := policy.ElsewhereNamed(o.o.Book(), name)
	if d == nil {
		return ErrUnknown
	}
	p := o.provider(name)
	_, keys, err := p.described(ctx, d.Issuer)
	if err != nil {
		return o.failed(ctx, d, nil, from, err)
	}
	now := o.o.Now()
	l, err := openid.ReadLogoutToken(raw, keys, d.Issuer, d.Client, now)
	if errors.Is(err, openid.ErrKey) {
		if keys, err = p.freshKeys(ctx); err == nil {
			l, err = openid.ReadLogoutToken(raw, keys, d.Issuer, d.Client, now)
		}
	}
	if err == nil && !o.first(d.Issuer+" "+l.ID, l.Until.Add(openid.Skew)) {
		err = errors.New("it came before")
	}
	if err != nil {
		return o.failed(ctx, d, ErrUntrue, from, fmt.Errorf("a logout token: %w", err))
	}
	ctx = context.WithoutCancel(ctx)
	err = o.end(ctx, d.Name, Session{Issuer: d.Issuer, Subject: l.Subject, SID: l.Session}, "")
	if err != nil { // the provider says it again
		o.mu.Lock()
		delete(o.told, d.Issuer+" "+l.ID)
		o.mu.Unlock()
	}
	return err
}

// end ends the sessions here that are one at a provider, or all of a subject, but for the one of the token keep.
func (o *Providers) end(ctx context.Context, actor string, s Session, keep string) error {
	o.left.note(s, o.o.Now()) // first, so that a session that is about to be written down is found here or there
	found, err := o.o.Store.ElsewhereSessions(ctx, s.Issuer, s.Subject, s.SID)
	kept, _ := secret.HashToken(keep)
	for _, hash := range found {
		var gone *mistake.Error
		if hash == kept {
			continue
		}
		if ended := o.o.Sessions.EndOne(ctx, actor, fmt.Sprintf("%x", hash[:10]), nil); ended != nil && !errors.As(ended, &gone) {
			err = errors.Join(err, ended)
		}
	}
	return err
}

// first reports whether a logout token was not taken before.
func (o *Providers) first(id string, until time.Time) bool {
	o.mu.Lock()
	defer o.mu.Unlock()
	now := o.o.Now()
	maps.DeleteFunc(o.told, func(_ string, until time.Time) bool { return !now.Before(until) })
	_, again := o.told[id]
	o.told[id] = until
	return !again
}
