package recovery

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"ostiarius/core/account"
	kind "ostiarius/core/activity"
	"ostiarius/core/message"
	"ostiarius/core/secret"
	"ostiarius/core/throttle"
	"ostiarius/core/words"
	"ostiarius/service/mistake"
	"ostiarius/service/people"
	"ostiarius/store"
)

// How long the link lasts that proves an address, and the one that takes back its change.
const (
	addressLasts = 24 * time.Hour
	undoLasts    = 7 * 24 * time.Hour
)

// ErrSameAddress says that an account has the address already that it is to get.
var ErrSameAddress = errors.New("the account has that address already")

// AskChange sends a link to an address that the owner of an account wants it to have; it counts when the link is
// followed. The answer is the same if somebody else has it, who is told so instead. The error is a *mistake.Error if it
// is no address, or ErrSameAddress.
func (o *Office) AskChange(ctx context.Context, name, address, network string, in words.Language) error {
	a, err := o.o.People.Find(ctx, name)
	if err != nil {
		return err
	}
	address = strings.TrimSpace(address)
	keys, err := people.KeysOf(a.Name, address)
	if err != nil {
		return err
	}
	before, err := account.EmailKey(a.Email)
	if err != nil {
		before = "" // it was written down before addresses were read as they are now
	}
	switch {
	case keys.Email == "":
		return mistake.Of(errNoAddress)
	case keys.Email == before:
		return ErrSameAddress
	}
	if wait := o.o.Limiter.Try(o.o.Now(), throttle.Key{Name: fmt.Sprintf("addresses of %d", a.ID), Rule: throttle.Joining}); wait > 0 {
		return &throttle.Slow{Wait: wait}
	}
	now := o.o.Now()
	token, hash := secret.NewToken()
	l := store.AddressLink{Hash: hash, Account: a.ID, Address: address, Before: before, MadeAt: now, Until: now.Add(addressLasts)}
	var mails []message.Message
	others, err := o.o.Store.AccountsByKeys(ctx, []string{keys.Email})
	if err != nil {
		return err
	}
	to := *a
	to.Email = address
	if len(others) > 0 {
		mails = o.o.Letters.To(others[0].Account, message.AddressTaken, in)
	} else {
		mails = o.o.Letters.To(&to, message.AddressProve, in)
		mails[0] = mails[0].With(o.addressPath(token), l.Until)
	}
	err = o.o.Store.AskAddress(ctx, l, mails, store.Event{At: now, Kind: kind.AddressAsked, Account: a.Name, AccountID: a.ID, Actor: a.Name, Network: network})
	o.o.Posted()
	return err
}

var errNoAddress = func() error { _, _, err := account.SplitEmail(""); return err }()

func (o *Office) addressPath(token string) string {
	return o.o.Book().Prefix + "/address?link=" + token
}

// A Change is what a link about an address does.
type Change struct {
	Name    string // of the account
	Address string // that it gets
	Undo    bool   // it had it before
	link    store.AddressLink
	account *account.Account
}

// Change returns what a link about an address does. The error is people.ErrLink if it was used, has ended or never
// was.
func (o *Office) Change(ctx context.Context, token string) (Change, error) {
	hash, ok := secret.HashToken(token)
	if !ok {
		return Change{}, people.ErrLink
	}
	l, a, err := o.o.Store.AddressLink(ctx, hash, o.o.Now())
	if errors.Is(err, store.ErrNone) {
		err = people.ErrLink
	}
	if err != nil {
		return Change{}, err
	}
	return Change{a.Name, l.Address, l.Undo, l, a}, nil
}

// MakeChange gives an account the address of a link. The address before is told, with a link to take that back; who
// takes it back ends the sessions of the account. The errors are those of Change, and people.ErrLink too if
// somebody else has the address by now.
func (o *Office) MakeChange(ctx context.Context, token, network string, in words.Language) (Change, error) {
	c, err := o.Change(ctx, token)
	if err != nil {
		return c, err
	}
	now, before := o.o.Now(), *c.account
	after := before
	after.Email = c.Address
	keys, err := people.KeysOf(after.Name, after.Email)
	if err != nil {
		return c, err
	}
	e := store.Event{At: now, Kind: kind.AddressProven, Account: after.Name, AccountID: after.ID, Actor: after.Name, Network: network, Detail: "e-mail, by a link sent there"}
	var undo *store.AddressLink
	var mails []message.Message
	if c.Undo {
		e.Kind, e.Detail = kind.AddressUndone, "e-mail, by a link sent to the address before"
	} else if mails = o.o.Letters.Notice(&before, message.AddressChanged, in); len(mails) > 0 {
		undoToken, hash := secret.NewToken()
		undo = &store.AddressLink{Hash: hash, Account: after.ID, Undo: true, Address: before.Email, Before: keys.Email, MadeAt: now, Until: now.Add(undoLasts)}
		mails[0] = mails[0].With(o.addressPath(undoToken), undo.Until)
		mails[0].Gaps["address"] = after.Email
	}
	err = o.o.Store.UseAddressLink(ctx, c.link, &after, keys, undo, mails, e)
	o.o.Changed(after.ID)
	o.o.Posted()
	if errors.Is(err, store.ErrNone) || errors.Is(err, store.ErrTaken) {
		err = people.ErrLink
	}
	return c, err
}
