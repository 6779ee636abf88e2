// Package joining is how people get an account by themselves: with an invitation, with the approval of a steward, or simply
// because they want one, as the policy says.
package joining

import (
	"context"
	"crypto/hmac"
	"crypto/sha256"
	"encoding/base64"
	"encoding/binary"
	"errors"
	"strings"
	"time"

	"ostiarius/core/account"
	kind "ostiarius/core/activity"
	"ostiarius/core/joining"
	"ostiarius/core/message"
	"ostiarius/core/policy"
	"ostiarius/core/secret"
	"ostiarius/core/throttle"
	"ostiarius/service/base/chores"
	"ostiarius/service/base/hashing"
	"ostiarius/service/base/mistake"
	"ostiarius/service/who/people"
	"ostiarius/service/who/sessions"
	"ostiarius/store"
)

// Options are what Joining need.
type Options struct {
	Store   *store.Store
	Book    func() *policy.Book // the policy now in force
	Now     func() time.Time
	Hashing *hashing.Pool
	Limiter *throttle.Limiter
	People  *people.Register
}

// Joining is where people join.
type Joining struct {
	o    Options
	form []byte // the key of the marks of forms
}

// New returns the Joining over the records in o.Store. The error says that they cannot be read.
func New(o Options) (*Joining, error) {
	key, err := o.Store.Secret(context.Background(), "join form")
	return &Joining{o, key}, err
}

// Errors that tell somebody why they cannot join.
var (
	ErrClosed = errors.New("nobody joins here by themselves")                // the policy says so
	ErrRobot  = errors.New("the form was not filled in by a person")         // or so it looks
	ErrStale  = errors.New("the form is from before; load it again")         // or its mark is none of ours
	ErrAgree  = errors.New("the terms were not agreed to")                   // and the policy has some
	ErrWrong  = errors.New("that is not the password that was chosen")       // with the link that proves an address
	ErrLink   = errors.New("the link has ended, was used or was never made") // of an invitation, or one that proves an address
)

// The most applications at once, and the most that have one address of which it is told: nobody's mailbox is filled.
const mostApplications = 20_000

// An Applicant is somebody who wants to join, and what they bring.
type Applicant struct {
	Name, Email, Password string
	Agreed                bool   // to the terms
	Next                  string // the page on this site that they asked for; "" for none
	Invitation            string // the token of one; "" for none
}

// An Outcome is what has become of somebody who wants to join: an account, or what is still missing.
type Outcome struct {
	Account *account.Account // nil for none yet
	State   joining.State    // where there is no account: what is waited for
	Next    string
}

// Mark makes the mark of a form that is shown now, by which it is known how long it was open.
func (f *Joining) Mark() string {
	raw := binary.BigEndian.AppendUint64(nil, uint64(f.o.Now().UnixMilli()))
	return base64.RawURLEncoding.EncodeToString(append(raw, f.seal(raw)...))
}

func (f *Joining) seal(raw []byte) []byte {
	h := hmac.New(sha256.New, f.form)
	h.Write(raw)
	return h.Sum(nil)[:16]
}

// CheckForm says what is wrong with how a form came back: with its mark, and what was typed into the field that people
// do not see. The error is ErrRobot or ErrStale.
func (f *Joining) CheckForm(mark, trap string) error {
	if trap != "" {
		return ErrRobot
	}
	raw, err := base64.RawURLEncoding.Strict().DecodeString(mark)
	if err != nil || len(raw) != 24 || !hmac.Equal(raw[8:], f.seal(raw[:8])) {
		return ErrStale
	}
	open := f.o.Now().Sub(time.UnixMilli(int64(binary.BigEndian.Uint64(raw))))
	switch {
	case open > joining.Longest || open < -time.Minute:
		return ErrStale
	case open < joining.Shortest:
		return ErrRobot
	}
	return nil
}

// Ask takes what somebody brings who wants to join. Who has the name is told; who has the address is not: then the answer is
// the same and takes the same time, and its owner gets a mail. The errors are those above, a *mistake.Error
// about what was typed, *throttle.Slow, hashing.ErrBusy, or say that the service failed.
func (f *Joining) Ask(ctx context.Context, who Applicant, from sessions.Origin) (Outcome, error) {
	book := f.o.Book()
	j := &book.Joining
	var invited *joining.Invitation
	var token secret.TokenHash
	if who.Invitation != "" && j.By != policy.ByNobody {
		var err error
		if invited, token, err = f.invitation(ctx, who.Invitation); err != nil {
			return Outcome{}, err
		}
		who.Email = invited.Email
	}
	switch {
	case j.By == policy.ByNobody, j.By == policy.ByInvitation && invited == nil:
		return Outcome{}, ErrClosed
	case j.Asks() && !who.Agreed:
		return Outcome{}, ErrAgree
	}
	keys, err := f.check(who)
	if err != nil {
		return Outcome{}, err
	}
	if err := f.TryName(ctx, who.Name, keys, from); err != nil {
		return Outcome{}, err
	}
	ctx = context.WithoutCancel(ctx) // from here on it counts, whether or not they wait for the answer
	hash, err := f.o.Hashing.Hash(ctx, who.Password)
	if err != nil {
		return Outcome{}, err
	}
	now := f.o.Now()
	a := store.Application{Application: joining.Application{
		Name: who.Name, Email: who.Email, Language: from.Language, Network: from.Network, Next: who.Next, MadeAt: now,
	}.In(joining.Unproven, now), Keys: keys, Hash: hash}
	if who.Agreed && j.Asks() {
		a.AgreedAt = now
	}
	switch {
	case invited != nil:
		if invited.Mailed { // a link that a steward has printed shows nothing of the address
			a.ProvenAt = now
		}
		return f.joined(a, invited, func(n store.Joined) (int64, error) { return f.o.Store.UseInvitation(ctx, token, n) })
	case j.By == policy.ByAnybody && j.Unproven:
		return f.atOnce(ctx, a)
	}
	return f.apply(ctx, a)
}

// check says what is wrong with what somebody typed, and returns the forms in which their names are compared.
func (f *Joining) check(who Applicant) (keys store.Keys, err error) {
	if strings.Contains(who.Name, "@") { // whether an address is taken is told to nobody
		return keys, mistake.Of(account.NoName(who.Name))
	}
	if keys, err = people.KeysOf(who.Name, who.Email); err != nil {
		return keys, err
	}
	if keys.Email == "" {
		_, _, err := account.SplitEmail("")
		return keys, mistake.Of(err)
	}
	return keys, f.o.People.CheckPassword(who.Password, &account.Account{Name: who.Name, Email: who.Email})
}

// TryName takes a try at a name of somebody who makes an account for themselves, in whatever way. It tells which names
// are taken, so it is slowed. A name that the policy names is nobody's to choose. The error is a *mistake.Error, or
// *throttle.Slow.
func (f *Joining) TryName(ctx context.Context, name string, keys store.Keys, from sessions.Origin) error {
	network := throttle.NetworkNamed(from.Network)
	if wait := f.o.Limiter.Try(f.o.Now(), throttle.Key{Name: "joining " + network, Rule: throttle.Joining}); wait > 0 {
		return &throttle.Slow{Wait: wait}
	}
	if policy.NamesAccount(f.o.Book(), keys.Name) {
		return taken(name)
	}
	err := f.o.Store.NameFree(ctx, keys.Name, f.o.Now())
	if errors.Is(err, store.ErrTaken) {
		err = taken(name)
	}
	return err
}

func taken(name string) error { return mistake.Taken("the name %q is taken", name) }

// apply writes down an application. The link that proves the address goes to it, unless an account has it: then its
// owner is told, and the link is known to nobody.
func (f *Joining) apply(ctx context.Context, a store.Application) (Outcome, error) {
	token, hash := secret.NewToken()
	all, err := f.o.Store.CountApplications(ctx)
	if err != nil {
		return Outcome{}, err
	}
	if all >= mostApplications {
		return Outcome{}, hashing.ErrBusy
	}
	m, err := f.toAddress(ctx, a, message.JoinProve)
	if err != nil {
		return Outcome{}, err
	}
	if m.Kind == message.JoinProve {
		m = m.With(f.o.Book().Prefix+"/join?link="+token, a.Until)
	}
	err = f.o.Store.Apply(ctx, a, hash, []message.Message{m}, f.event(kind.JoinAsked, a.Name, 0, a.Network, ""))
	if errors.Is(err, store.ErrTaken) {
		err = taken(a.Name)
	}
	return Outcome{State: a.State}, err
}

// toAddress is a message to the address of an application; if an account has that address, one to its owner instead.
func (f *Joining) toAddress(ctx context.Context, a store.Application, what message.Kind) (message.Message, error) {
	owners, err := f.o.Store.AccountsByKeys(ctx, []string{a.Keys.Email})
	if err != nil {
		return message.Message{}, err
	}
	if len(owners) == 0 {
		return message.New(what, a.Email, a.Name, a.Language, f.o.Now()), nil
	}
	to := owners[0].Email
	if to == "" { // it is the name of that account
		to = a.Email
	}
	m := message.New(message.JoinTaken, to, owners[0].Name, a.Language, f.o.Now())
	m.AccountID = owners[0].ID
	m.Link = f.o.Book().Prefix + "/recover"
	return m, nil
}

// atOnce makes an account that has no address yet: it gets that when the link is followed that is sent there.
func (f *Joining) atOnce(ctx context.Context, a store.Application) (Outcome, error) {
	token, hash := secret.NewToken()
	m, err := f.toAddress(ctx, a, message.AddressProve)
	if err != nil {
		return Outcome{}, err
	}
	var l *store.AddressLink
	if m.Kind == message.AddressProve {
		l = &store.AddressLink{Hash: hash, Address: a.Email, MadeAt: a.MadeAt, Until: a.Until}
		m = m.With(f.o.Book().Prefix+"/address?link="+token, a.Until)
	}
	a.Email, a.Keys.Email = "", ""
	return f.joined(a, nil, func(n store.Joined) (int64, error) {
		n.Link, n.Mails = l, []message.Message{m}
		return f.o.Store.Join(ctx, n)
	})
}

// joined makes an application into an account, as write does it.
func (f *Joining) joined(a store.Application, invited *joining.Invitation, write func(store.Joined) (int64, error)) (Outcome, error) {
	now, j := f.o.Now(), &f.o.Book().Joining
	n := &account.Account{Name: a.Name, Email: a.Email, MadeAt: now, MadeBy: "joining", Language: a.Language}
	how := "by joining"
	if invited != nil {
		n.MadeBy, how = invited.MadeBy, "by invitation of "+invited.MadeBy
		for _, role := range invited.Roles {
			if f.o.Book().KnownRole(role) {
				n.Grants = append(n.Grants, account.Grant{Role: role, From: now, Until: invited.Ends, By: invited.MadeBy})
			}
		}
	}
	for _, g := range j.Grants {
		if !hasGrant(n.Grants, g.Role) {
			n.Grants = append(n.Grants, account.Grant{Role: g.Role, From: now, Until: g.Until(now), By: "joining"})
		}
	}
	id, err := write(store.Joined{
		Account: n, Keys: a.Keys, Hash: a.Hash, AgreedAt: a.AgreedAt, Proven: a.Keys.Email != "" && !a.ProvenAt.IsZero(),
		Event: f.event(kind.Joined, a.Name, 0, a.Network, how),
	})
	switch {
	case errors.Is(err, store.ErrTaken):
		return Outcome{}, taken(a.Name)
	case errors.Is(err, store.ErrNone):
		return Outcome{}, ErrLink
	case err != nil:
		return Outcome{}, err
	}
	n.ID = id
	return Outcome{Account: n, Next: a.Next}, nil
}

func hasGrant(all []account.Grant, role string) bool {
	for _, g := range all {
		if g.Role == role {
			return true
		}
	}
	return false
}

// Applied returns the name of whoever applied with the address that a link proves. The error is ErrLink if it was used,
// has ended or never was.
func (f *Joining) Applied(ctx context.Context, link string) (string, error) {
	a, _, err := f.applied(ctx, link)
	return a.Name, err
}

func (f *Joining) applied(ctx context.Context, link string) (a store.Application, token secret.TokenHash, err error) {
	token, ok := secret.HashToken(link)
	if !ok {
		return a, token, ErrLink
	}
	a, err = f.o.Store.ApplicationByToken(ctx, token, f.o.Now())
	if errors.Is(err, store.ErrNone) {
		err = ErrLink
	}
	return a, token, err
}

// Prove takes the link that was sent to the address of an application, with the password that was chosen: whoever reads
// the mail of an address that somebody else has typed makes no account for them. The errors are ErrLink, ErrWrong,
// *throttle.Slow, hashing.ErrBusy, a *mistake.Error if somebody else has the name by now, or say that the service
// failed.
func (f *Joining) Prove(ctx context.Context, link, password string, from sessions.Origin) (Outcome, error) {
	a, _, err := f.applied(ctx, link)
	if err != nil {
		return Outcome{}, err
	}
	limit := throttle.Key{Name: "join link " + link, Rule: throttle.Pair}
	if wait := f.o.Limiter.Try(f.o.Now(), limit); wait > 0 {
		return Outcome{}, &throttle.Slow{Wait: wait}
	}
	right, err := f.o.Hashing.Compare(ctx, []string{a.Hash}, 1, password)
	switch {
	case errors.Is(err, hashing.ErrBusy):
		f.o.Limiter.TakeBack(limit)
		return Outcome{}, err
	case err != nil:
		return Outcome{}, err
	case right == "":
		return Outcome{}, ErrWrong
	}
	f.o.Limiter.Succeeded(limit)
	ctx = context.WithoutCancel(ctx)
	now := f.o.Now()
	a.ProvenAt, a.Network = now, from.Network
	switch by := f.o.Book().Joining.By; by {
	case policy.ByNobody, policy.ByInvitation: // the policy has changed meanwhile
		return Outcome{}, ErrClosed
	case policy.ByApproval:
		a.Application = a.In(joining.Waiting, now)
		err := f.o.Store.SetApplication(ctx, a.Application, joining.Unproven, nil,
			f.event(kind.JoinAsked, a.Name, 0, from.Network, "the address is proven; waits for approval"))
		if errors.Is(err, store.ErrNone) {
			err = ErrLink
		}
		return Outcome{State: joining.Waiting}, err
	}
	return f.joined(a, nil, func(n store.Joined) (int64, error) { return f.o.Store.Admit(ctx, a.ID, joining.Unproven, n) })
}

func (f *Joining) event(what kind.Kind, name string, id int64, network, detail string) store.Activity {
	e := store.Activity{At: f.o.Now(), Kind: what, Account: name, AccountID: id, Actor: name, Network: network, Detail: detail}
	if id == 0 && what != kind.Joined { // the name is nobody's yet
		e.AccountID = store.NoAccount
	}
	return e
}

// Sweep removes what has ended.
func (f *Joining) Sweep(ctx context.Context) error {
	return f.o.Store.SweepApplications(ctx, f.o.Now())
}

// Chores is for chores.Room.
func (f *Joining) Chores() []chores.Chore {
	return []chores.Chore{chores.Sweep(f.Sweep)}
}
