// Package leaving is how people take what is known of them along, and how they go: an account is deleted some time after its
// owner asked for it, and what is recorded of it then tells nobody who it was.
package leaving

import (
	"context"
	"crypto/rand"
	"errors"
	"strings"
	"time"

	"ostiarius/core/account"
	kind "ostiarius/core/activity"
	"ostiarius/core/message"
	"ostiarius/core/policy"
	"ostiarius/core/words"
	"ostiarius/service/base/chores"
	"ostiarius/service/keep/letters"
	"ostiarius/service/who/sessions"
	"ostiarius/store"
)

// Options are what Leaving need.
type Options struct {
	Store    *store.Store
	Book     func() *policy.Book // the policy now in force
	Now      func() time.Time
	Letters  *letters.Letters
	Sessions *sessions.Records
}

// Leaving is where people go who leave.
type Leaving struct{ o Options }

// New returns the Leaving over the records in o.Store.
func New(o Options) *Leaving { return &Leaving{o} }

// ErrNever says that people do not delete their accounts here by themselves.
var ErrNever = errors.New("accounts are not deleted by their owners here")

// Leave notes that the owner of an account wants it to be deleted, and returns when that is. The error is ErrNever if the
// policy says so.
func (f *Leaving) Leave(ctx context.Context, a *account.Account, network string, in words.Language) (time.Time, error) {
	j := &f.o.Book().Joining
	if j.NeverLeave {
		return time.Time{}, ErrNever
	}
	now := f.o.Now()
	at := now.Add(j.Leave)
	mails := f.o.Letters.To(a, message.Leaving, in)
	for i := range mails {
		mails[i] = mails[i].With(f.o.Book().Prefix+"/account", at)
	}
	err := f.set(ctx, a, at, mails, kind.LeaveAsked, network)
	if err == nil && j.Leave == 0 {
		err = f.forget(ctx, a.ID)
	}
	return at, err
}

// Stay takes that back.
func (f *Leaving) Stay(ctx context.Context, a *account.Account, network string) error {
	return f.set(ctx, a, time.Time{}, nil, kind.LeaveWithdrawn, network)
}

func (f *Leaving) set(ctx context.Context, a *account.Account, at time.Time, mails []message.Message, what kind.Kind,
	network string) error {
	err := f.o.Store.SetLeaving(ctx, a.ID, at, mails,
		store.Activity{At: f.o.Now(), Kind: what, Account: a.Name, AccountID: a.ID, Actor: a.Name, Network: network})
	return err
}

// Sweep deletes the accounts whose time has come.
func (f *Leaving) Sweep(ctx context.Context) error {
	ids, err := f.o.Store.Leaving(ctx, f.o.Now())
	for _, id := range ids {
		err = errors.Join(err, f.forget(ctx, id))
	}
	return err
}

// forget deletes one account, if its time has come.
func (f *Leaving) forget(ctx context.Context, id int64) error {
	now, pseudonym := f.o.Now(), "former-"+strings.ToLower(rand.Text()[:12])
	err := f.o.Store.Forget(ctx, id, pseudonym, now, now.Add(f.o.Book().Joining.NamesRest),
		store.Activity{At: now, Kind: kind.AccountRemoved, Account: pseudonym, AccountID: id, Actor: pseudonym, Detail: "as its owner wanted"})
	if errors.Is(err, store.ErrNone) { // its owner has changed their mind
		return nil
	}
	return err
}

// The most events and messages that are taken along.
const most = 20_000

// Data is what is known of somebody, as they take it along.
type Data struct {
	Name     string     `json:"name"`
	Email    string     `json:"email,omitempty"`
	Notes    string     `json:"notes,omitempty"` // of those who run the site
	Language string     `json:"language,omitempty"`
	MadeAt   time.Time  `json:"madeAt"`
	MadeBy   string     `json:"madeBy"`
	AgreedAt *time.Time `json:"agreedAt,omitempty"` // to the terms
	LeavesAt *time.Time `json:"leavesAt,omitempty"`
	Roles    []Role     `json:"roles"`
	Sessions []Session  `json:"sessions"`
	Proofs   Held       `json:"proofs"`
	Orders   []Order    `json:"orders"`
	Activity []Event    `json:"activity"` // the newest first
}

// Role is one that somebody has, had or will have.
type Role struct {
	Role  string     `json:"role"`
	From  time.Time  `json:"from"`
	Until *time.Time `json:"until,omitempty"`
	By    string     `json:"by"`
}

// Order is something that somebody has paid for.
type Order struct {
	Order string    `json:"order"`
	What  string    `json:"what"`
	Role  string    `json:"role,omitempty"`
	Pass  string    `json:"pass,omitempty"`
	At    time.Time `json:"at"`
}

// Session is one that somebody has open.
type Session struct {
	Since   time.Time `json:"since"`
	Seen    time.Time `json:"lastUsed"`
	Network string    `json:"from,omitempty"`
	Agent   string    `json:"browser,omitempty"`
}

// Event is what happened about somebody, or what they did.
type Event struct {
	At      time.Time `json:"at"`
	Kind    string    `json:"kind"`
	Account string    `json:"account,omitempty"`
	Actor   string    `json:"actor,omitempty"`
	Network string    `json:"from,omitempty"`
	Place   string    `json:"place,omitempty"`
	Detail  string    `json:"detail,omitempty"`
}

// Data returns what is known of the owner of an account.
func (f *Leaving) Data(ctx context.Context, a *account.Account) (Data, error) {
	moment := func(t time.Time) *time.Time {
		if t.IsZero() {
			return nil
		}
		return &t
	}
	d := Data{
		Name: a.Name, Email: a.Email, Notes: a.Notes, Language: string(a.Language), MadeAt: a.MadeAt, MadeBy: a.MadeBy,
		LeavesAt: moment(a.LeavesAt), Roles: []Role{}, Sessions: []Session{}, Orders: []Order{}, Activity: []Event{},
	}
	for _, g := range a.Grants {
		d.Roles = append(d.Roles, Role{g.Role, g.From, moment(g.Until), g.By})
	}
	agreed, err := f.o.Store.AgreedAt(ctx, a.ID)
	if err != nil {
		return d, err
	}
	d.AgreedAt = moment(agreed)
	bought, err := f.o.Store.BoughtBy(ctx, a.ID, "")
	if err != nil {
		return d, err
	}
	for _, p := range bought.Payments {
		d.Orders = append(d.Orders, Order{p.Order, p.Title, p.Role, p.Pass, p.At})
	}
	held, _, err := f.o.Sessions.List(ctx, a, "", 0, most)
	if err != nil {
		return d, err
	}
	for _, s := range held {
		d.Sessions = append(d.Sessions, Session{s.MadeAt, s.SeenAt, s.Network, s.Agent})
	}
	if d.Proofs, err = f.held(ctx, a); err != nil {
		return d, err
	}
	events, err := f.o.Store.AllEvents(ctx, store.ActivityQuery{Of: a.ID, Limit: most})
	for _, e := range events {
		d.Activity = append(d.Activity, Event{e.At, string(e.Kind), e.Account, e.Actor, e.Network, e.Place, e.Detail})
	}
	return d, err
}

// Chores is for chores.Room.
func (f *Leaving) Chores() []chores.Chore {
	return []chores.Chore{chores.Sweep(f.Sweep)}
}
