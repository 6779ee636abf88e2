// Package elsewhere is how people sign in with an account that is held elsewhere: by OpenID Connect (Core 1.0), with codes and PKCE
// (RFC 7636), as OAuth 2.0 is done by now (RFC 9700).
package elsewhere

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"net/http"
	"net/url"
	"strings"
	"sync"
	"time"

	"ostiarius/core/account"
	kind "ostiarius/core/activity"
	"ostiarius/core/brief"
	"ostiarius/core/policy"
	"ostiarius/core/secret"
	"ostiarius/core/throttle"
	"ostiarius/service/base/chores"
	"ostiarius/service/base/mistake"
	"ostiarius/service/keep/activity"
	"ostiarius/service/keep/letters"
	"ostiarius/service/who/joining"
	"ostiarius/service/who/sessions"
	"ostiarius/service/who/signin"
	"ostiarius/store"
)

// Options are what Providers need.
type Options struct {
	Store    *store.Store
	Book     func() *policy.Book // the policy now in force
	Now      func() time.Time
	Limiter  *throttle.Limiter
	Activity *activity.Log
	Letters  *letters.Letters
	Sessions *sessions.Records
	SignIn   *signin.Entrance
	Joining  *joining.Joining
	// Secrets are this site's at providers, and At is where one describes itself if that is not at its issuer; both by the names that
	// the policy has.
	Secrets, At map[string]string
	Log         *slog.Logger

	client *http.Client
}

// Providers is where people come back from a provider.
type Providers struct {
	o Options

	mu        sync.Mutex
	providers map[string]*provider
	spent     map[string]time.Time // the states of ways that have come to an end, and when these began
	known     map[secret.TokenHash]Identity
	told      map[string]time.Time // logout tokens that were taken, and until when they could be
	left      left
	settled   *policy.Book
	key       []byte // marks ways
}

// New returns the Providers over the records in o.Store. The error says that they cannot be read.
func New(o Options) (*Providers, error) {
	o.client = newClient()
	key, err := o.Store.Secret(context.Background(), "elsewhere")
	return &Providers{
		key: key, o: o, providers: map[string]*provider{}, spent: map[string]time.Time{}, known: map[secret.TokenHash]Identity{},
		told: map[string]time.Time{},
	}, err
}

// The errors that people can do something about.
var (
	ErrUnknown = errors.New("there is no such account elsewhere")
	ErrDown    = errors.New("the provider does not answer at the moment")
	ErrRefused = errors.New("the sign-in was refused there, or broken off")
	ErrLate    = errors.New("nobody is on their way, or it took too long")
	ErrUntrue  = errors.New("what the provider says cannot be trusted")
	ErrOther   = errors.New("it is linked with another account")
)

func (o *Providers) provider(name string) *provider {
	o.mu.Lock()
	defer o.mu.Unlock()
	p := o.providers[name]
	if p == nil {
		p = &provider{o: &o.o, name: name, at: o.o.At[name]}
		o.providers[name] = p
	}
	return p
}

// Links returns the accounts elsewhere that are linked with one here.
func (o *Providers) Links(ctx context.Context, a *account.Account) ([]store.ElsewhereLink, error) {
	return o.o.Store.ElsewhereLinks(ctx, a.ID)
}

// Unlink takes the link with a provider from an account, if it can be signed in to without, and ends the sessions that began by it,
// but for the one that asks. The error is a
// *mistake.Error.
func (o *Providers) Unlink(ctx context.Context, a *account.Account, name, session string, from sessions.Origin) error {
	links, err := o.o.Store.ElsewhereLinks(ctx, a.ID)
	if err != nil {
		return err
	}
	keys, err := o.o.Store.Passkeys(ctx, a.ID)
	if err != nil {
		return err
	}
	if a.Unset && len(keys) == 0 && len(links) <= 1 {
		return mistake.Invalid("this is the only way into the account; set a password or add a passkey first")
	}
	title := name
	if d := policy.ElsewhereNamed(o.o.Book(), name); d != nil {
		title = d.Title
	}
	ctx = context.WithoutCancel(ctx)
	err = o.o.Store.RemoveElsewhereLink(ctx, a.ID, name,
		o.o.Letters.FactorsChanged(a, from.Language, "elsewhere.told-unlinked", "title", title), o.event(kind.ElsewhereRemoved, a, from, name))
	if errors.Is(err, store.ErrNone) {
		return mistake.Unknown("%s is not linked with %s", a.Name, title)
	}
	if err != nil {
		return err
	}
	for _, l := range links {
		if l.Provider == name {
			err = o.end(ctx, a.Name, Session{Issuer: l.Issuer, Subject: l.Subject}, session)
		}
	}
	return err
}

// Tend takes the roles that the policy gives no longer by what a provider said.
func (o *Providers) Tend(ctx context.Context) error {
	book := o.o.Book()
	o.mu.Lock()
	same := o.settled == book
	o.mu.Unlock()
	if same {
		return nil
	}
	mapped := map[string][]string{}
	for i := range book.Elsewhere {
		mapped[book.Elsewhere[i].Name] = book.Elsewhere[i].Mapped()
	}
	err := o.o.Store.SettleElsewhere(ctx, mapped, o.o.Now())
	if err == nil {
		o.mu.Lock()
		o.settled = book
		o.mu.Unlock()
	}
	return err
}

// Sweep forgets what sessions were that have ended.
func (o *Providers) Sweep(ctx context.Context) error { return o.o.Store.SweepElsewhere(ctx) }

// failed records why something did not come to an end, for stewards, and returns what the person is told.
func (o *Providers) failed(ctx context.Context, d *policy.DeclaredElsewhere, told error, from sessions.Origin, why error) error {
	var down errUnreachable
	if errors.As(why, &down) || told == nil && errors.Is(why, context.DeadlineExceeded) {
		told = ErrDown
	}
	if told == nil {
		told = ErrUntrue
	}
	limit := throttle.Key{Name: "elsewhere " + throttle.NetworkNamed(from.Network), Rule: throttle.Network}
	if o.o.Limiter.Try(o.o.Now(), limit) > 0 { // strangers fill no records with what they make up
		return fmt.Errorf("%w (%w)", told, why)
	}
	o.o.Limiter.Over(limit)
	o.o.Log.Warn("an account elsewhere", "provider", d.Name, "error", why)
	o.o.Activity.Add(store.Activity{
		At: o.o.Now(), Kind: kind.ElsewhereFailed, Actor: "", Network: from.Network, Detail: d.Name + ": " + brief.Cut(why.Error(), 400),
	})
	return fmt.Errorf("%w (%w)", told, why)
}

// safe is a word that a stranger may have written, as far as it is one.
func safe(word string) string {
	if len(word) > 60 || strings.Trim(word, "abcdefghijklmnopqrstuvwxyz_") != "" {
		return "something else"
	}
	return word
}

// withoutAddress is an error of the network without the address that was asked, which may have a code in it.
func withoutAddress(err error) error {
	var at *url.Error
	if errors.As(err, &at) {
		return at.Err
	}
	return err
}

func (o *Providers) event(what kind.Kind, a *account.Account, from sessions.Origin, detail string) store.Activity {
	return store.Activity{At: o.o.Now(), Kind: what, Account: a.Name, AccountID: a.ID, Actor: a.Name, Network: from.Network, Detail: detail}
}

// Chores is for chores.Room.
func (o *Providers) Chores() []chores.Chore {
	return []chores.Chore{chores.Each(time.Second, o.Tend), chores.Sweep(o.Sweep)}
}
