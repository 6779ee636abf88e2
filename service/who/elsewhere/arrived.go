package elsewhere

import (
	"context"
	"errors"
	"maps"
	"strings"

	"ostiarius/core/account"
	kind "ostiarius/core/activity"
	"ostiarius/core/policy"
	"ostiarius/core/secret"
	"ostiarius/service/base/mistake"
	"ostiarius/service/who/people"
	"ostiarius/service/who/sessions"
	"ostiarius/service/who/signin"
	"ostiarius/store"
)

// arrived does what somebody went for.
func (o *Providers) arrived(ctx context.Context, d *policy.DeclaredElsewhere, w way, i *Identity, session string,
	from sessions.Origin, came Came) (Came, error) {
	ctx = context.WithoutCancel(ctx)
	link, err := o.o.Store.ElsewhereLink(ctx, i.Issuer, i.Subject)
	if err != nil && !errors.Is(err, store.ErrNone) {
		return came, err
	}
	linked := err == nil
	switch w.Purpose {
	case ToLink:
		if linked && link.Account != w.Account {
			return came, o.failed(ctx, d, ErrOther, from, errors.New("the account there is linked with another one here"))
		}
		i.Account = w.Account
		if !linked {
			came.First = o.keep(*i)
		}
		return came, nil
	case ToProve:
		if !linked || link.Account != w.Account {
			return came, o.failed(ctx, d, ErrOther, from, errors.New("somebody proved to be another one than who is signed in"))
		}
		came.Renewal, err = o.o.SignIn.ProvenElsewhere(ctx, session, link.Account, d.Title, from)
		return came, err
	}
	if !linked && i.Verified {
		if linked, err = o.sameAddress(ctx, d, i, from); err != nil {
			return came, err
		}
	}
	if !linked {
		came.First = o.keep(*i)
		return came, nil
	}
	came.SignedIn, err = o.signIn(ctx, d, i, from)
	return came, err
}

// sameAddress links an account here by its address: both sides have seen that its owner reads the mail of it, and the policy says
// that it trusts the provider's word for that.
func (o *Providers) sameAddress(ctx context.Context, d *policy.DeclaredElsewhere, i *Identity, from sessions.Origin) (bool, error) {
	key, err := account.EmailKey(i.Email)
	if err != nil || key == "" {
		return false, nil
	}
	a, err := o.o.Store.ProvenBy(ctx, key)
	if errors.Is(err, store.ErrNone) {
		return false, nil
	}
	if err != nil {
		return false, err
	}
	err = o.link(ctx, d, i, a, from, "by the address, which is proven here and there")
	var cannot *mistake.Error
	if errors.As(err, &cannot) {
		return false, nil
	}
	return err == nil, err
}

// link links an account here with one elsewhere.
func (o *Providers) link(ctx context.Context, d *policy.DeclaredElsewhere, i *Identity, a *account.Account, from sessions.Origin,
	how string) error {
	now := o.o.Now()
	err := o.o.Store.AddElsewhereLink(ctx,
		store.ElsewhereLink{Issuer: i.Issuer, Subject: i.Subject, Provider: i.Provider, Account: a.ID, KnownAs: i.KnownAs(), MadeAt: now},
		a.Proofs,
		o.o.Letters.FactorsChanged(a, from.Language, "elsewhere.told-linked", "title", d.Title, "as", i.KnownAs()),
		o.event(kind.ElsewhereAdded, a, from, d.Name+", "+how))
	switch {
	case errors.Is(err, store.ErrTaken):
		return mistake.Taken("this account, or the one at %s, is linked with another", d.Title)
	case errors.Is(err, store.ErrNone):
		return mistake.Invalid("the account has changed meanwhile; please try again")
	}
	return err
}

// signIn makes a session for the owner of a link, with the roles that the provider's word brings.
func (o *Providers) signIn(ctx context.Context, d *policy.DeclaredElsewhere, i *Identity, from sessions.Origin) (SignedIn, error) {
	link, err := o.o.Store.ElsewhereLink(ctx, i.Issuer, i.Subject)
	if err != nil {
		return SignedIn{}, err
	}
	link.KnownAs = i.KnownAs()
	a, err := o.o.Store.AccountByID(ctx, link.Account)
	if err != nil {
		return SignedIn{}, err
	}
	changed, err := o.o.Store.ElsewhereCame(ctx, link, i.Roles,
		store.Activity{At: o.o.Now(), Account: a.Name, AccountID: a.ID, Actor: d.Name, Network: from.Network})
	if err != nil {
		return SignedIn{}, err
	}
	if changed {
		if a, err = o.o.Store.AccountByID(ctx, link.Account); err != nil {
			return SignedIn{}, err
		}
	}
	return o.o.SignIn.ByElsewhere(ctx, a, d.Title, from, func(ctx context.Context, in SignedIn) error {
		hash, _ := secret.HashToken(in.Token)
		err := o.o.Store.SetElsewhereSession(ctx, hash,
			store.ElsewhereSession{Issuer: i.Issuer, Provider: i.Provider, Subject: i.Subject, SID: i.Session})
		if err == nil && o.left.over(i) {
			err = signin.ErrOver
		}
		if err != nil { // it could not be ended from there, or has been
			err = errors.Join(err, o.o.Sessions.End(ctx, in.Token, from.Network))
		}
		return err
	})
}

// keep keeps who somebody is elsewhere, until they have said what is to become of it, and returns the token for it.
func (o *Providers) keep(i Identity) string {
	token, hash := secret.NewToken()
	o.mu.Lock()
	defer o.mu.Unlock()
	maps.DeleteFunc(o.known, func(_ secret.TokenHash, i Identity) bool { return !o.lasts(i.since) })
	if len(o.known) >= mostKept {
		clear(o.known)
	}
	o.known[hash] = i
	return token
}

// Kept returns who somebody is elsewhere, by a token of Back, at a provider of that name. The error is ErrLate.
func (o *Providers) Kept(name, token string) (Identity, error) { return o.kept(name, token, false) }

func (o *Providers) kept(name, token string, take bool) (Identity, error) {
	hash, ok := secret.HashToken(token)
	if !ok {
		return Identity{}, ErrLate
	}
	o.mu.Lock()
	defer o.mu.Unlock()
	i, ok := o.known[hash]
	if !ok || i.Provider != name || !o.lasts(i.since) || o.left.over(&i) {
		return Identity{}, ErrLate
	}
	if take {
		delete(o.known, hash)
	}
	return i, nil
}

// Link links the account of somebody who is signed in with the one elsewhere that is kept under a token. The error is ErrLate,
// ErrOther or a *mistake.Error.
func (o *Providers) Link(ctx context.Context, name, token string, a *account.Account, from sessions.Origin) error {
	d := policy.ElsewhereNamed(o.o.Book(), name)
	i, err := o.kept(name, token, true)
	if err != nil || d == nil || d.Issuer != i.Issuer {
		return ErrLate
	}
	if i.Account != 0 && i.Account != a.ID {
		return ErrOther // somebody else has signed in here meanwhile
	}
	if err := o.link(context.WithoutCancel(ctx), d, &i, a, from, "by its owner"); err != nil {
		return err
	}
	link := store.ElsewhereLink{Issuer: i.Issuer, Subject: i.Subject, Provider: i.Provider, Account: a.ID, KnownAs: i.KnownAs()}
	_, err = o.o.Store.ElsewhereCame(ctx, link, i.Roles, store.Activity{
		At: o.o.Now(), Account: a.Name, AccountID: a.ID, Actor: d.Name, Network: from.Network,
	})
	return err
}

// Join makes an account with that name for who is kept under a token, if the policy has that, and signs them in. The error is
// ErrLate, a *mistake.Error about the name, or as of Back.
func (o *Providers) Join(ctx context.Context, name, token, as string, agreed bool, from sessions.Origin) (SignedIn, error) {
	book := o.o.Book()
	d := policy.ElsewhereNamed(book, name)
	i, err := o.kept(name, token, false)
	switch {
	case err != nil || d == nil || d.Issuer != i.Issuer:
		return SignedIn{}, ErrLate
	case !d.Joins || i.Account != 0:
		return SignedIn{}, mistake.Invalid("nobody makes an account with one at %s here", d.Title)
	case book.Joining.Asks() && !agreed:
		return SignedIn{}, ErrAgree
	}
	ctx = context.WithoutCancel(ctx)
	now := o.o.Now()
	as = strings.TrimSpace(as)
	if strings.Contains(as, "@") { // whether an address is taken is told to nobody
		return SignedIn{}, mistake.Invalid("a name that looks like an address cannot be chosen")
	}
	a := &account.Account{Name: as, MadeAt: now, MadeBy: "elsewhere: " + d.Name, Language: from.Language, Unset: true}
	if i.Verified { // an address that is perhaps another's would lead its owner into this account, and would tell whether they have one
		a.Email = i.Email
	}
	keys, err := people.KeysOf(as, a.Email)
	if err != nil && a.Email != "" { // an address that is none
		a.Email = ""
		keys, err = people.KeysOf(as, "")
	}
	if err != nil {
		return SignedIn{}, err
	}
	if err := o.o.Joining.TryName(ctx, as, keys, from); err != nil {
		return SignedIn{}, err
	}
	for _, g := range book.Joining.Grants {
		a.Grants = append(a.Grants, account.Grant{Role: g.Role, From: now, Until: g.Until(now), By: "joining"})
	}
	link := store.ElsewhereLink{Issuer: i.Issuer, Subject: i.Subject, Provider: i.Provider, KnownAs: i.KnownAs(), MadeAt: now}
	add := func() (int64, error) {
		return o.o.Store.JoinElsewhere(ctx, a, keys, a.Email != "", link,
			store.Activity{At: now, Kind: kind.Joined, Account: as, Actor: as, Network: from.Network, Detail: "with an account at " + d.Name})
	}
	_, err = add()
	// somebody has the address; who does not prove it to both sides gets none of theirs
	if errors.Is(err, store.ErrTaken) && a.Email != "" && !o.nameTaken(ctx, keys.Name) {
		a.Email, keys.Email = "", ""
		_, err = add()
	}
	if errors.Is(err, store.ErrTaken) {
		return SignedIn{}, mistake.Taken("somebody has the name %q already", as)
	}
	if err != nil {
		return SignedIn{}, err
	}
	if _, err := o.kept(name, token, true); err != nil {
		return SignedIn{}, err
	}
	return o.signIn(ctx, d, &i, from)
}

// ErrAgree says that who joins has not agreed to the terms.
var ErrAgree = errors.New("the terms are to be agreed to first")

func (o *Providers) nameTaken(ctx context.Context, key string) bool {
	_, _, err := o.o.Store.AccountByKey(ctx, key)
	return !errors.Is(err, store.ErrNone)
}
