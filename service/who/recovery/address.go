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
	"ostiarius/service/base/mistake"
	"ostiarius/service/who/people"
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
func (o *Recovery) AskChange(ctx context.Context, name, address, network string, in words.Language) error {
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
	undo, told := o.undo(a, a.Email, o.o.Letters.To(a, message.AddressAsked, in), address, now)
	err = o.o.Store.AskAddress(ctx, l, undo, append(told, mails...),
		store.Activity{At: now, Kind: kind.AddressAsked, Account: a.Name, AccountID: a.ID, Actor: a.Name, Network: network})
	return err
}

// undo gives a message to the owner of an address a link that brings the address back, whatever was changed since; nil
// if nobody is told. The message says which address the account has now, or is to have.
func (o *Recovery) undo(
	a *account.Account, to string, mails []message.Message, address string, now time.Time,
) (*store.AddressLink, []message.Message) {
	if len(mails) == 0 {
		return nil, nil
	}
	token, hash := secret.NewToken()
	undo := &store.AddressLink{Hash: hash, Account: a.ID, Undo: true, Address: to, MadeAt: now, Until: now.Add(undoLasts)}
	mails[0] = mails[0].With(o.addressPath(token), undo.Until)
	mails[0].Gaps["address"] = address
	return undo, mails
}

var errNoAddress = func() error { _, _, err := account.SplitEmail(""); return err }()

func (o *Recovery) addressPath(token string) string {
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
func (o *Recovery) Change(ctx context.Context, token string) (Change, error) {
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
	if a.Disabled || o.o.Endings.Look().Bars(a.ID) {
		return Change{}, people.ErrLink
	}
	return Change{a.Name, l.Address, l.Undo, l, a}, nil
}

// ErrOwner says that a link changes an address only for the owner of the account, who is not signed in.
var ErrOwner = errors.New("the owner of the account signs in to change its address")

// IsOf reports whether the change is of an account, by its number.
func (c Change) IsOf(account int64) bool { return c.account != nil && c.account.ID == account }

// MakeChange gives an account the address of a link. A new address is taken only from the owner of the account, by its
// number in owner, 0 if nobody is signed in: whoever reads the mail of an address could otherwise prove it for somebody
// else's account. The address before is told, with a link to take that back. That works for whoever reads its mail, and
// ends the sessions of the account and all that was begun by its proofs. The errors are those of Change, ErrOwner, and
// people.ErrLink too if somebody else has the address by now.
func (o *Recovery) MakeChange(ctx context.Context, token string, owner int64, network string, in words.Language) (Change, error) {
	c, err := o.Change(ctx, token)
	if err == nil && !c.Undo && !c.IsOf(owner) {
		err = ErrOwner
	}
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
	e := store.Activity{
		At: now, Kind: kind.AddressProven, Account: after.Name, AccountID: after.ID, Actor: after.Name, Network: network,
		Detail: "e-mail, by a link sent there",
	}
	var undo *store.AddressLink
	var mails []message.Message
	if c.Undo {
		e.Kind, e.Detail = kind.AddressUndone, "e-mail, by a link sent to the address before"
	} else {
		undo, mails = o.undo(&before, before.Email, o.o.Letters.Notice(&before, message.AddressChanged, in), after.Email, now)
	}
	err = o.o.Store.UseAddressLink(ctx, c.link, &after, keys, undo, mails, e)
	if errors.Is(err, store.ErrNone) || errors.Is(err, store.ErrTaken) {
		err = people.ErrLink
	}
	return c, err
}
