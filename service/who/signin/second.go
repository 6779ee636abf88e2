package signin

import (
	"context"
	"errors"
	"maps"
	"sync"
	"time"

	"ostiarius/core/account"
	kind "ostiarius/core/activity"
	"ostiarius/core/factor"
	"ostiarius/core/secret"
	"ostiarius/core/session"
	"ostiarius/service/who/factors"
	"ostiarius/service/who/sessions"
	"ostiarius/store"
)

// Between the password and the second factor nobody is signed in. What was right is kept here under a token, for a few minutes and
// in memory alone; who brings it may show the second factor, and nothing else.

// A Second is the error for somebody whose password was right, and who is asked for a second factor.
type Second struct {
	Token string     // with which they come back
	Can   factor.Set // what they have set up
}

func (s *Second) Error() string { return "a second factor is needed: " + s.Can.String() }

// ErrSecond says that a second factor is needed where none can be shown, such as HTTP Basic.
var ErrSecond = errors.New("a second factor is needed, which cannot be shown here")

// ErrOver says that what was begun took too long, or that the account has changed meanwhile.
var ErrOver = errors.New("that took too long; please sign in anew")

// half is a sign-in of which the first half was right.
type half struct {
	account  int64
	proofs   int64 // of the account, when it was right
	by       factor.Set
	remember bool
	until    time.Time
	begun    func(context.Context, SignedIn) error // what else there is to do when it has come to a session; nil for nothing
}

const (
	halfLasts  = 10 * time.Minute
	mostHalves = 10_000
)

type halves struct {
	mu   sync.Mutex
	kept map[secret.TokenHash]half
}

// begin keeps the first half of a sign-in, and returns its token.
func (h *halves) begin(one half, now time.Time) string {
	token, hash := secret.NewToken()
	h.mu.Lock()
	defer h.mu.Unlock()
	maps.DeleteFunc(h.kept, func(_ secret.TokenHash, old half) bool { return !now.Before(old.until) })
	if h.kept == nil || len(h.kept) >= mostHalves {
		h.kept = map[secret.TokenHash]half{}
	}
	h.kept[hash] = one
	return token
}

func (h *halves) get(token string, now time.Time) (half, bool) {
	hash, ok := secret.HashToken(token)
	if !ok {
		return half{}, false
	}
	h.mu.Lock()
	defer h.mu.Unlock()
	one, ok := h.kept[hash]
	return one, ok && now.Before(one.until)
}

// take is get for who has shown the other half: nobody else gets it.
func (h *halves) take(token string, now time.Time) bool {
	hash, ok := secret.HashToken(token)
	if !ok {
		return false
	}
	h.mu.Lock()
	defer h.mu.Unlock()
	one, ok := h.kept[hash]
	delete(h.kept, hash)
	return ok && now.Before(one.until)
}

// secondFor returns the error for somebody who has shown something, and is asked for a second factor; nil for who is not. A browser
// that is remembered, by a token, is not asked.
func (d *Entrance) secondFor(ctx context.Context, a *account.Account, by factor.Set, from sessions.Origin, remember bool,
	begun func(context.Context, SignedIn) error) error {
	if !d.o.Factors.Asks(a) {
		return nil
	}
	if known, err := d.o.Factors.Knows(ctx, a, from.Known); known || err != nil {
		return err
	}
	now := d.o.Now()
	return &Second{d.half.begin(half{
		account: a.ID, proofs: a.Proofs, by: by, remember: remember, until: now.Add(halfLasts), begun: begun,
	}, now), a.Enrolled}
}

// Half returns the account of somebody who has shown the first half of a sign-in. The error is ErrOver.
func (d *Entrance) Half(ctx context.Context, token string) (*account.Account, error) {
	_, a, err := d.halfOf(ctx, token)
	return a, err
}

func (d *Entrance) halfOf(ctx context.Context, token string) (half, *account.Account, error) {
	one, ok := d.half.get(token, d.o.Now())
	if !ok {
		return one, nil, ErrOver
	}
	look := d.o.Endings.Look()
	a, err := d.o.Store.AccountByID(ctx, one.account)
	if errors.Is(err, store.ErrNone) || err == nil && (a.Disabled || look.Bars(a.ID) || a.Proofs != one.proofs) {
		err = ErrOver
	}
	return one, a, err
}

// A Shown is what somebody shows beside the password: a code, or the answer of a browser about a passkey.
type Shown struct {
	Code    string
	Passkey string
	Page    factors.Page // where the passkey was used
}

// Finish signs somebody in who has shown the first half, and now the second. With rememberBrowser, their browser is not asked for a
// while. The error is ErrOver, factors.ErrWrong or *throttle.Slow.
func (d *Entrance) Finish(ctx context.Context, token string, shown Shown, from sessions.Origin, rememberBrowser bool) (SignedIn, error) {
	one, a, err := d.halfOf(ctx, token)
	if err != nil {
		return SignedIn{}, err
	}
	by, err := d.show(ctx, a, shown, from)
	if err != nil {
		return SignedIn{}, err
	}
	if !d.half.take(token, d.o.Now()) {
		return SignedIn{}, ErrOver
	}
	in, err := d.begin(ctx, a, one.by|factor.Of(by), from, one.remember, "with the "+firstOf(one.by)+" and a "+by.String())
	if errors.Is(err, store.ErrNone) {
		return in, ErrOver
	}
	if err == nil && one.begun != nil {
		if err := one.begun(ctx, in); err != nil {
			return SignedIn{}, err
		}
	}
	if err == nil && rememberBrowser {
		in.Known, in.KnownFor, err = d.o.Factors.Remember(ctx, a, from)
	}
	return in, err
}

func firstOf(by factor.Set) string {
	if by.Has(factor.Elsewhere) {
		return "account elsewhere"
	}
	return "password"
}

// show takes what an account shows beside the password.
func (d *Entrance) show(ctx context.Context, a *account.Account, shown Shown, from sessions.Origin) (factor.Kind, error) {
	if shown.Passkey != "" {
		return factor.Passkey, d.o.Factors.Show(ctx, a, shown.Page, shown.Passkey, from)
	}
	return factor.Code, d.o.Factors.Code(ctx, a, shown.Code, d.knowsSecond(from.Device, a), from)
}

// SignInByPasskey makes a session for whoever shows a passkey; they need no name. The error is factors.ErrWrong, ErrDisabled or
// *throttle.Slow.
func (d *Entrance) SignInByPasskey(ctx context.Context, shown Shown, from sessions.Origin, remember bool) (SignedIn, error) {
	look := d.o.Endings.Look()
	a, err := d.o.Factors.SignIn(ctx, shown.Page, shown.Passkey, from)
	if err != nil {
		d.wrong.Add(1)
		return SignedIn{}, err
	}
	if a.Disabled || look.Bars(a.ID) {
		return SignedIn{}, errors.Join(ErrDisabled,
			d.o.Store.Record(ctx, store.Activity{
				At: d.o.Now(), Kind: kind.SignInFailed, Account: a.Name, AccountID: a.ID, Network: from.Network, Detail: "account disabled",
			}))
	}
	d.right.Add(1)
	in, err := d.begin(ctx, a, factor.Of(factor.Passkey), from, remember, "with a passkey")
	if errors.Is(err, store.ErrNone) {
		err = factors.ErrWrong
	}
	return in, err
}

// ByElsewhere makes a session for the owner of an account that is held elsewhere, who has just signed in there; begun does what
// else there is to do with it. The error is ErrDisabled, *Second or ErrOver.
func (d *Entrance) ByElsewhere(ctx context.Context, a *account.Account, provider string, from sessions.Origin,
	begun func(context.Context, SignedIn) error) (SignedIn, error) {
	if a.Disabled || d.o.Endings.Look().Bars(a.ID) {
		return SignedIn{}, errors.Join(ErrDisabled,
			d.o.Store.Record(ctx, store.Activity{
				At: d.o.Now(), Kind: kind.SignInFailed, Account: a.Name, AccountID: a.ID, Network: from.Network, Detail: "account disabled",
			}))
	}
	by := factor.Of(factor.Elsewhere)
	if err := d.secondFor(ctx, a, by, from, false, begun); err != nil {
		return SignedIn{}, err
	}
	d.right.Add(1)
	in, err := d.begin(ctx, a, by, from, false, "with the account at "+provider)
	if errors.Is(err, store.ErrNone) {
		err = ErrOver
	}
	if err == nil {
		err = begun(ctx, in)
	}
	return in, err
}

// ProvenElsewhere notes that the owner of a session has just proven anew elsewhere who they are. The errors are those of ShowMore.
func (d *Entrance) ProvenElsewhere(ctx context.Context, token string, id int64, provider string,
	from sessions.Origin) (*sessions.Renewal, error) {
	s, a, err := d.owner(ctx, token)
	if err == nil && a.ID != id {
		err = ErrOver
	}
	if err != nil {
		return nil, err
	}
	fresh, err := d.o.Sessions.Proved(ctx, token, factor.Elsewhere, s, a, d.event(kind.ProvenAgain, a, from, "with the account at "+provider))
	if errors.Is(err, store.ErrNone) {
		err = ErrOver
	}
	return fresh, err
}

// ShowMore takes a code or a passkey of somebody who is signed in, notes in the session that it was shown, and gives it another
// token; nil if it has just got one. The error is factors.ErrWrong, ErrOver if the session has ended, or *throttle.Slow.
func (d *Entrance) ShowMore(ctx context.Context, token string, shown Shown, from sessions.Origin) (*sessions.Renewal, error) {
	s, a, err := d.owner(ctx, token)
	if err != nil {
		return nil, err
	}
	by, err := d.show(ctx, a, shown, from)
	if err != nil {
		return nil, err
	}
	return d.proved(ctx, token, by, s, a, from)
}

// HasShown notes that the owner of a session has just shown a factor, as ShowMore does, where that was looked at already.
func (d *Entrance) HasShown(ctx context.Context, token string, by factor.Kind, from sessions.Origin) (*sessions.Renewal, error) {
	s, a, err := d.owner(ctx, token)
	if err != nil {
		return nil, err
	}
	return d.proved(ctx, token, by, s, a, from)
}

func (d *Entrance) proved(ctx context.Context, token string, by factor.Kind, s *session.Session, a *account.Account,
	from sessions.Origin) (*sessions.Renewal, error) {
	fresh, err := d.o.Sessions.Proved(ctx, token, by, s, a, d.event(kind.ProvenAgain, a, from, "with a "+by.String()))
	if errors.Is(err, store.ErrNone) {
		err = ErrOver
	}
	return fresh, err
}

// owner returns a session and its account as the records have them.
func (d *Entrance) owner(ctx context.Context, token string) (*session.Session, *account.Account, error) {
	s, a, _, err := d.o.Sessions.Of(ctx, token)
	if errors.Is(err, store.ErrNone) {
		err = ErrOver
	}
	return s, a, err
}
