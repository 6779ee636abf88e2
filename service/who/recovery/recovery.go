// Package recovery is how people get back in by themselves, and how the address is kept right by which they do: links to set
// a password that was forgotten, and links that prove another address or take it back.
package recovery

import (
	"context"
	"errors"
	"sync/atomic"
	"time"

	kind "ostiarius/core/activity"
	"ostiarius/core/message"
	"ostiarius/core/policy"
	"ostiarius/core/secret"
	"ostiarius/core/throttle"
	"ostiarius/core/words"
	"ostiarius/service/base/chores"
	"ostiarius/service/base/ending"
	"ostiarius/service/keep/letters"
	"ostiarius/service/who/people"
	"ostiarius/store"
)

// Options are what Recovery need.
type Options struct {
	Store   *store.Store
	Book    func() *policy.Book // the policy now in force
	Now     func() time.Time
	Limiter *throttle.Limiter
	Endings *ending.List
	People  *people.Register
	Letters *letters.Letters
}

// Recovery is where people go who cannot get in, or whose address has changed.
type Recovery struct {
	o     Options
	asked atomic.Bool // there may be recoveries to answer
}

// New returns the Recovery over the records in o.Store.
func New(o Options) *Recovery {
	f := &Recovery{o: o}
	f.asked.Store(true) // before the process ended
	return f
}

// How long a link lasts that somebody asked for who forgot the password, and how many an account gets in that time.
const (
	recoveryLasts = time.Hour
	mostRecovered = 3
)

// Ask writes down that somebody from a network asked for a link to set the password of an account, by its name or its
// address; Answer answers it. What is done here is the same whoever exists, and takes the same time. The error is
// *throttle.Slow, or says that the service failed.
func (o *Recovery) Ask(ctx context.Context, keys store.Keys, network string, in words.Language) error {
	wide := throttle.NetworkNamed(network)
	limits := []throttle.Key{{Name: "recovery " + keys.Name + " " + wide, Rule: throttle.Pair},
		{Name: "recoveries " + wide, Rule: throttle.Network}}
	if wait := o.o.Limiter.Try(o.o.Now(), limits...); wait > 0 {
		return &throttle.Slow{Wait: wait}
	}
	o.o.Limiter.Over(limits...) // each counts
	err := o.o.Store.AskRecovery(context.WithoutCancel(ctx), store.Recovery{Keys: keys, Language: in, Network: network, At: o.o.Now()})
	o.asked.Store(true)
	return err
}

// Answer sends links to those who asked for them and have an account with an address.
func (o *Recovery) Answer(ctx context.Context) error {
	if o.asked.Swap(false) { // one part at a time: others are tended beside
		all, err := o.o.Store.Recoveries(ctx, 200)
		if err == nil && len(all) > 0 {
			o.asked.Store(true) // there may be more
		}
		for _, one := range all {
			if err == nil {
				err = o.answer(ctx, one)
			}
		}
		if err != nil {
			o.asked.Store(true)
			return err
		}
	}
	return nil
}

func (o *Recovery) answer(ctx context.Context, asked store.Recovery) error {
	look := o.o.Endings.Look()
	a, _, err := o.o.Store.AccountBySignIn(ctx, asked.Keys)
	if err != nil && !errors.Is(err, store.ErrNone) {
		return err
	}
	now := o.o.Now()
	e := store.Activity{At: now, Kind: kind.RecoveryAsked, Network: asked.Network, AccountID: store.NoAccount}
	var link *store.NewLink
	var mails []message.Message
	switch {
	case a == nil:
		e.Detail = "unknown account"
	case a.Email == "":
		e.Detail = "the account has no address"
	default:
		sent, err := o.o.Store.CountMessagesTo(ctx, a.ID, message.Recover, now.Add(-recoveryLasts))
		switch {
		case err != nil:
			return err
		case a.Disabled || look.Bars(a.ID):
			e.Detail = "the account is disabled"
			if sent, err = o.o.Store.CountMessagesTo(ctx, a.ID, message.RecoverDisabled, now.Add(-recoveryLasts)); err != nil {
				return err
			}
			if sent < mostRecovered {
				mails = o.o.Letters.To(a, message.RecoverDisabled, asked.Language)
			}
		case sent >= mostRecovered:
			e.Detail = "the account has got links enough in this hour"
		default:
			token, hash := secret.NewToken()
			link = &store.NewLink{Hash: hash, Account: a.ID, Until: now.Add(recoveryLasts), Mailed: true}
			mails = o.o.Letters.To(a, message.Recover, asked.Language)
			mails[0] = mails[0].With(o.o.People.LinkPath(token), link.Until)
			e.Detail = "a link is sent"
		}
	}
	if a != nil {
		e.Account, e.AccountID, e.Actor = a.Name, a.ID, ""
	}
	err = o.o.Store.AnswerRecovery(ctx, asked.ID, link, mails, e)
	if errors.Is(err, store.ErrNone) {
		return nil
	}
	return err
}

// Chores is for chores.Room.
func (o *Recovery) Chores() []chores.Chore {
	return []chores.Chore{chores.Each(time.Second, o.Answer)}
}
