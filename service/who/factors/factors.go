// Package factors is what people can show of who they are beside a password: one-time codes, codes that they keep, passkeys; and the
// browsers that are not asked for them again for a while.
package factors

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"

	"ostiarius/core/account"
	kind "ostiarius/core/activity"
	"ostiarius/core/factor"
	"ostiarius/core/message"
	"ostiarius/core/policy"
	"ostiarius/core/throttle"
	"ostiarius/core/words"
	"ostiarius/service/base/chores"
	"ostiarius/service/base/mistake"
	"ostiarius/service/keep/activity"
	"ostiarius/service/keep/letters"
	"ostiarius/service/who/people"
	"ostiarius/service/who/sessions"
	"ostiarius/store"
)

// ErrWrong says that a code or a passkey is not the account's, or was used before.
var ErrWrong = errors.New("this passkey or code belongs to another account, or was used before")

// Options are what Factors need.
type Options struct {
	Store    *store.Store
	Book     func() *policy.Book // the policy now in force
	Now      func() time.Time
	Limiter  *throttle.Limiter
	Activity *activity.Log
	People   *people.Register
	Letters  *letters.Letters
}

// Factors is what people set up and show besides a password.
type Factors struct {
	o     Options
	key   []byte // seals what comes back from browsers
	mu    sync.Mutex
	spent map[string]time.Time // challenges that were answered, and until when they could be
}

// New returns the Factors over the records in o.Store. The error says that they cannot be read.
func New(o Options) (*Factors, error) {
	key, err := o.Store.Secret(context.Background(), "factors")
	return &Factors{o: o, key: key, spent: map[string]time.Time{}}, err
}

// Held is what an account has set up.
type Held struct {
	Code     *store.Code // nil for none
	Kept     int         // codes that are kept and were not used
	Passkeys []store.Passkey
	Browsers []store.Browser
	Reset    *store.Reset // that waits; nil for none
}

// Of returns what an account has set up.
func (o *Factors) Of(ctx context.Context, a *account.Account) (h Held, err error) {
	c, err := o.o.Store.Code(ctx, a.ID)
	switch {
	case err == nil:
		h.Code = &c
	case !errors.Is(err, store.ErrNone):
		return h, err
	}
	if h.Kept, err = o.o.Store.KeptLeft(ctx, a.ID); err != nil {
		return h, err
	}
	if h.Passkeys, err = o.o.Store.Passkeys(ctx, a.ID); err != nil {
		return h, err
	}
	if h.Browsers, err = o.o.Store.Browsers(ctx, a.ID, o.o.Now()); err != nil {
		return h, err
	}
	r, err := o.o.Store.ResetOf(ctx, a.ID)
	switch {
	case err == nil:
		h.Reset = &r
	case !errors.Is(err, store.ErrNone):
		return h, err
	}
	return h, nil
}

// Asks reports whether somebody who signs in with a password, or an account elsewhere, is asked for more.
func (o *Factors) Asks(a *account.Account) bool {
	return !o.o.Book().Factors.AtDoors && a.Enrolled&factor.Of(factor.Code, factor.Passkey) != 0
}

func (o *Factors) event(what kind.Kind, a *account.Account, actor string, from sessions.Origin, detail string) store.Activity {
	return store.Activity{At: o.o.Now(), Kind: what, Account: a.Name, AccountID: a.ID, Actor: actor, Network: from.Network, Detail: detail}
}

// Reset takes from an account all that its owner can show beside the password, for a steward: they have lost it. If the policy has
// it wait, the owner is told, and can object until then; due is when it is made, zero if that was at once. The error is a
// *mistake.Error if there is nothing to reset, or one waits.
func (o *Factors) Reset(ctx context.Context, actor string, a *account.Account) (due time.Time, err error) {
	if a.Enrolled == 0 {
		return due, mistake.Invalid("%s has no second factor", a.Name)
	}
	wait := o.o.Book().Factors.Reset
	if wait == 0 {
		mails := o.o.Letters.FactorsChanged(a, "", "factors.told-reset")
		return due, o.o.Store.ResetFactors(ctx, a.ID, mails, o.event(kind.FactorsReset, a, actor, sessions.Origin{}, "by a steward"))
	}
	now := o.o.Now()
	due = now.Add(wait)
	mails := o.o.Letters.To(a, message.FactorsReset, "")
	for i := range mails {
		mails[i].Gaps["when"] = words.Moment(mails[i].Language, due.Local())
		mails[i].Link = o.o.Book().Prefix + "/account"
	}
	err = o.o.Store.AskReset(ctx, store.Reset{Account: a.ID, By: actor, Asked: now, Due: due}, mails,
		o.event(kind.ResetAsked, a, actor, sessions.Origin{}, "it is made at "+due.UTC().Format(time.RFC3339)))
	if errors.Is(err, store.ErrTaken) {
		return due, mistake.Taken("a reset for %s is already pending", a.Name)
	}
	return due, err
}

// DropReset has a reset that waits not be made. The error is a *mistake.Error if none waits.
func (o *Factors) DropReset(ctx context.Context, actor string, a *account.Account, from sessions.Origin) error {
	err := o.o.Store.DropReset(ctx, a.ID, o.event(kind.ResetDropped, a, actor, from, ""))
	if errors.Is(err, store.ErrNone) {
		return mistake.Unknown("no reset for %s is pending", a.Name)
	}
	return err
}

// The most people of a role that are looked at, and that are named.
const (
	mostLooked = 1000
	mostNamed  = 5
)

// Remarks says who should have set something up, by their role, and has not.
func (o *Factors) Remarks(ctx context.Context) (all []string, err error) {
	book := o.o.Book()
	for _, w := range book.Factors.Wanted {
		var lacking []string
		seen := map[int64]bool{}
		for _, role := range book.RoleNames() {
			if !book.Satisfies(role, w.Role) {
				continue
			}
			some, _, err := o.o.People.List(ctx, people.Query{Role: role, State: "enabled", Limit: mostLooked})
			if err != nil {
				return nil, err
			}
			for _, a := range some {
				if !seen[a.ID] && !(a.Enrolled | factor.Of(factor.Password)).Meets(w.Factor) {
					lacking = append(lacking, a.Name)
				}
				seen[a.ID] = true
			}
		}
		if len(lacking) == 0 {
			continue
		}
		slices.Sort(lacking)
		named := strings.Join(lacking[:min(mostNamed, len(lacking))], ", ")
		if more := len(lacking) - mostNamed; more > 0 {
			named += fmt.Sprintf(" and %d more", more)
		}
		what := map[string]string{factor.AskPasskey: "a passkey", factor.AskCode: "codes", factor.AskTwo: "a second factor"}[w.Factor]
		have := "have"
		if len(lacking) == 1 {
			have = "has"
		}
		all = append(all, fmt.Sprintf("People with the role %s should have set up %s, and %s %s not.", w.Role, what, named, have))
	}
	return all, nil
}

// Tend makes the resets whose time has come.
func (o *Factors) Tend(ctx context.Context) error {
	due, err := o.o.Store.DueResets(ctx, o.o.Now())
	if err != nil {
		return err
	}
	for _, r := range due {
		a, err := o.o.Store.AccountByID(ctx, r.Account)
		if err != nil {
			return err
		}
		if err := o.o.Store.ResetFactors(ctx, a.ID, o.o.Letters.FactorsChanged(a, "", "factors.told-reset"),
			o.event(kind.FactorsReset, a, r.By, sessions.Origin{}, "asked for at "+r.Asked.UTC().Format(time.RFC3339))); err != nil {
			return err
		}
	}
	return nil
}

// Sweep forgets the browsers whose time is over.
func (o *Factors) Sweep(ctx context.Context) error { return o.o.Store.SweepBrowsers(ctx, o.o.Now()) }

// Chores is for chores.Room.
func (o *Factors) Chores() []chores.Chore {
	return []chores.Chore{chores.Each(time.Second, o.Tend), chores.Sweep(o.Sweep)}
}
