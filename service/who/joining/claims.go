package joining

import (
	"context"
	"errors"

	"ostiarius/core/account"
	kind "ostiarius/core/activity"
	"ostiarius/core/joining"
	"ostiarius/core/purchase"
	"ostiarius/core/secret"
	"ostiarius/service/who/sessions"
	"ostiarius/store"
)

// A Claim is what somebody has bought who has no account for it yet, by a link that was sent to them.
type Claim struct {
	Address string
	Titles  []string // of what waits; none if it was taken back meanwhile
	Known   bool     // an account has the address
	store.Claim
}

// Claim returns what a link is for. The error is ErrLink if it was used, has ended or never was.
func (f *Joining) Claim(ctx context.Context, link string) (Claim, error) {
	token, ok := secret.HashToken(link)
	if !ok {
		return Claim{}, ErrLink
	}
	found, err := f.o.Store.ClaimByToken(ctx, token, f.o.Now())
	if errors.Is(err, store.ErrNone) {
		err = ErrLink
	}
	c := Claim{Address: found.Address, Claim: found}
	if err != nil {
		return c, err
	}
	bought, err := f.o.Store.BoughtBy(ctx, 0, found.Key)
	if err != nil {
		return c, err
	}
	for _, terms := range purchase.OfRoles(bought.Payments, bought.Marks) {
		if span, has := purchase.Latest(terms); has && (span.Until.IsZero() || span.Until.After(f.o.Now())) {
			c.Titles = append(c.Titles, span.Last.Payment.Title)
		}
	}
	owners, err := f.o.Store.AccountsByKeys(ctx, []string{found.Key})
	c.Known = len(owners) > 0
	return c, err
}

// TakeAlong gives the owner of an account, who is signed in, what they bought, by the link that was sent to them. The error is
// ErrLink if it has ended.
func (f *Joining) TakeAlong(ctx context.Context, link, name, network string) (*account.Account, error) {
	c, err := f.Claim(ctx, link)
	if err != nil {
		return nil, err
	}
	a, err := f.o.People.Find(ctx, name)
	if err != nil {
		return nil, err
	}
	err = f.o.Store.UseClaim(ctx, c.Claim, a.ID,
		store.Activity{
			At: f.o.Now(), Kind: kind.Claimed, Account: a.Name, AccountID: a.ID, Actor: a.Name, Network: network,
			Detail: "with a link that was sent to the buyer",
		})
	if errors.Is(err, store.ErrNone) {
		err = ErrLink
	}
	return a, err
}

// JoinByClaim makes the account of somebody who brings the link to what they bought, whoever may join else. The errors are those of Ask.
func (f *Joining) JoinByClaim(ctx context.Context, link string, who Applicant, from sessions.Origin) (Outcome, error) {
	c, err := f.Claim(ctx, link)
	if err != nil {
		return Outcome{}, err
	}
	if f.o.Book().Joining.Asks() && !who.Agreed {
		return Outcome{}, ErrAgree
	}
	who.Email = c.Address
	keys, err := f.check(who)
	if err != nil {
		return Outcome{}, err
	}
	if err := f.TryName(ctx, who.Name, keys, from); err != nil {
		return Outcome{}, err
	}
	ctx = context.WithoutCancel(ctx)
	hash, err := f.o.Hashing.Hash(ctx, who.Password)
	if err != nil {
		return Outcome{}, err
	}
	now := f.o.Now()
	a := store.Application{Application: joining.Application{
		Name: who.Name, Email: who.Email, Language: from.Language, Network: from.Network, Next: who.Next, MadeAt: now, ProvenAt: now,
	}, Keys: keys, Hash: hash}
	if who.Agreed && f.o.Book().Joining.Asks() {
		a.AgreedAt = now
	}
	out, err := f.joined(a, nil, func(n store.Joined) (int64, error) {
		n.Account.MadeBy, n.Event.Detail = "payment", "by payment"
		return f.o.Store.JoinByClaim(ctx, c.Claim, n)
	})
	if err != nil {
		return out, err
	}
	out.Account, err = f.o.People.Find(ctx, out.Account.Name) // with what was bought
	return out, err
}
