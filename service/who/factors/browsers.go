package factors

import (
	"context"
	"errors"
	"time"

	"ostiarius/core/account"
	kind "ostiarius/core/activity"
	"ostiarius/core/secret"
	"ostiarius/service/base/mistake"
	"ostiarius/service/who/sessions"
	"ostiarius/store"
)

// Remember remembers the browser of somebody who has just shown a second factor, if the policy has that, and returns the token that
// it is to be given and for how long; "" for none.
func (o *Factors) Remember(ctx context.Context, a *account.Account, from sessions.Origin) (token string, lasts time.Duration, err error) {
	if lasts = o.o.Book().Factors.Remember; lasts == 0 {
		return "", 0, nil
	}
	token, hash := secret.NewToken()
	now := o.o.Now()
	agent := from.Agent
	if len(agent) > 300 {
		agent = agent[:300]
	}
	err = o.o.Store.AddBrowser(ctx,
		store.Browser{
			Hash: hash, Account: a.ID, Proofs: a.Proofs, MadeAt: now, UsedAt: now, Until: now.Add(lasts), Network: from.Network, Agent: agent,
		},
		o.event(kind.BrowserRemembered, a, a.Name, from, "it is not asked for a second factor for "+lasts.String()))
	return token, lasts, err
}

// Knows reports whether a browser that brings a token is remembered for an account.
func (o *Factors) Knows(ctx context.Context, a *account.Account, token string) (bool, error) {
	hash, ok := secret.HashToken(token)
	if !ok || o.o.Book().Factors.Remember == 0 {
		return false, nil
	}
	err := o.o.Store.UseBrowser(ctx, hash, a.ID, a.Proofs, o.o.Now())
	if errors.Is(err, store.ErrNone) {
		return false, nil
	}
	return err == nil, err
}

// Forget forgets a browser that is remembered for an account, by its handle; all of them if that is "".
func (o *Factors) Forget(ctx context.Context, a *account.Account, handle string, from sessions.Origin) error {
	detail := "browser " + handle
	if handle == "" {
		detail = "all"
	}
	err := o.o.Store.ForgetBrowser(ctx, a.ID, handle, o.event(kind.BrowserForgotten, a, a.Name, from, detail))
	if errors.Is(err, store.ErrNone) {
		return mistake.Unknown("no such browser is remembered; perhaps its time is over")
	}
	return err
}
