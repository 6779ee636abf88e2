package people

import (
	"context"
	"errors"
	"sync"
	"sync/atomic"
	"time"

	"ostiarius/core/account"
	"ostiarius/core/policy"
	"ostiarius/core/secret"
	"ostiarius/core/session"
	"ostiarius/store"
)

// ErrWrong says that name and password do not belong together. Whether there is such an
// account is not said.
var ErrWrong = errors.New("name or password is wrong")

// ErrDisabled says that the password was right, but the account is disabled.
var ErrDisabled = errors.New("the account is disabled")

// An Origin is from where somebody signs in.
type Origin struct {
	Network string // the client's address
	Agent   string // the User-Agent header
	Before  string // the token that the browser brought, if any; its session ends
}

// SignIn makes a session for whoever has this name and password, and returns its token.
// The error is ErrWrong or ErrDisabled, or says that the service failed.
//
// It takes the same time whether or not there is such an account.
func (r *Register) SignIn(ctx context.Context, name, password string, from Origin, remember bool) (token string, visitor policy.Visitor, err error) {
	hash := r.stranger
	var a *account.Account
	if key, err := account.Key(name); err == nil {
		found, h, err := r.store.AccountByKey(ctx, key)
		switch {
		case err == nil:
			a, hash = found, h
		case !errors.Is(err, store.ErrNone):
			return "", visitor, err
		}
	}
	right, err := r.verify(ctx, hash, password)
	if err != nil {
		return "", visitor, err
	}
	now := r.now()
	fail := func(reason string, answer error) (string, policy.Visitor, error) {
		err := r.store.Record(ctx, store.Event{At: now, Kind: "sign-in failed", Account: nameOf(a), Network: from.Network, Detail: reason})
		return "", visitor, errors.Join(answer, err)
	}
	switch {
	case a == nil:
		return fail("unknown account", ErrWrong)
	case !right:
		return fail("wrong password", ErrWrong)
	case a.Disabled:
		return fail("account disabled", ErrDisabled)
	}
	token, tokenHash := secret.NewToken()
	s := &session.Session{
		Hash: tokenHash, Account: a.ID, MadeAt: now, SeenAt: now, ProvedAt: now,
		Remembered: remember, Network: from.Network, Agent: cut(from.Agent, 300),
	}
	var before *secret.TokenHash
	if h, ok := secret.HashToken(from.Before); ok {
		before = &h
	}
	err = r.store.AddSession(ctx, s, hash, before, store.Event{At: now, Kind: "sign-in", Account: a.Name, Actor: a.Name, Network: from.Network})
	if errors.Is(err, store.ErrNone) {
		return fail("account changed meanwhile", ErrWrong)
	}
	if err != nil {
		return "", visitor, err
	}
	if before != nil {
		r.sessions.drop(*before)
	}
	return token, visitorOf(a, s, now), nil
}

// ProveAgain takes the password of somebody who is signed in, and notes in the session that
// it was typed. The error is ErrWrong if it is not theirs or the session has ended.
func (r *Register) ProveAgain(ctx context.Context, token, password, network string) error {
	hash, ok := secret.HashToken(token)
	if !ok {
		return ErrWrong
	}
	s, a, err := r.load(ctx, hash)
	if errors.Is(err, store.ErrNone) {
		return ErrWrong
	}
	if err != nil {
		return err
	}
	_, kept, err := r.find(ctx, a.Name)
	if err != nil {
		return err
	}
	right, err := r.verify(ctx, kept, password)
	if err != nil {
		return err
	}
	e := store.Event{At: r.now(), Kind: "proven again", Account: a.Name, Actor: a.Name, Network: network}
	if !right {
		e.Kind = "proof failed"
		return errors.Join(ErrWrong, r.store.Record(ctx, e))
	}
	err = r.store.SetProved(ctx, s.Hash, e.At, e)
	r.sessions.drop(hash)
	if errors.Is(err, store.ErrNone) {
		return ErrWrong
	}
	return err
}

// verify compares a password with the hash of the right one, when it is its turn.
func (r *Register) verify(ctx context.Context, hash, password string) (bool, error) {
	if err := r.takeTurn(ctx); err != nil {
		return false, err
	}
	defer func() { <-r.hashing }()
	return len(password) <= secret.MaxPassword && secret.Verify(hash, password), nil
}

func nameOf(a *account.Account) string {
	if a == nil {
		return "" // what was typed may be a password
	}
	return a.Name
}

func cut(s string, n int) string {
	if len(s) > n {
		return s[:n]
	}
	return s
}

// SignOut ends the session of a token. A token without a session is no error.
func (r *Register) SignOut(ctx context.Context, token, network string) error {
	hash, ok := secret.HashToken(token)
	if !ok {
		return nil
	}
	s, a, err := r.load(ctx, hash)
	if err == nil {
		err = r.store.EndSession(ctx, s.Hash, store.Event{At: r.now(), Kind: "sign-out", Account: a.Name, Actor: a.Name, Network: network})
	}
	r.sessions.drop(hash)
	if errors.Is(err, store.ErrNone) {
		return nil
	}
	return err
}

// Visitor returns who brings the token, as far as it proves anything: the zero Visitor if
// it is forged, has ended or is empty. The error says that the records could not be
// read; the visitor is then nobody.
func (r *Register) Visitor(ctx context.Context, token string) (policy.Visitor, error) {
	hash, ok := secret.HashToken(token)
	if !ok {
		return policy.Visitor{}, nil
	}
	now := r.now()
	e := r.sessions.get(hash, now)
	if e == nil {
		seen := r.sessions.version()
		s, a, err := r.load(ctx, hash)
		if errors.Is(err, store.ErrNone) {
			return policy.Visitor{}, nil
		}
		if err != nil {
			return policy.Visitor{}, err
		}
		e = r.sessions.put(seen, s, a, now)
	}
	s := e.session
	s.SeenAt = time.UnixMilli(e.seen.Load())
	limits := r.book().Sessions
	if !s.Alive(now, session.Limits(limits)) {
		return policy.Visitor{}, nil
	}
	r.sessions.touch(e, now)
	v := e.visitor
	v.ProofAge = s.ProofAge(now)
	return v, nil
}

// load reads a session and its account from the records. The error is ErrNone if either
// is gone or the account is disabled.
func (r *Register) load(ctx context.Context, hash secret.TokenHash) (*session.Session, *account.Account, error) {
	s, err := r.store.Session(ctx, hash)
	if err != nil {
		return nil, nil, err
	}
	a, err := r.store.AccountByID(ctx, s.Account)
	if err != nil {
		return nil, nil, err
	}
	if a.Disabled {
		return nil, nil, store.ErrNone
	}
	return s, a, nil
}

func visitorOf(a *account.Account, s *session.Session, now time.Time) policy.Visitor {
	key, err := account.Key(a.Name)
	if err != nil {
		key = a.Name
	}
	return policy.Visitor{SignedIn: true, Account: key, Roles: a.Roles(now), ProofAge: s.ProofAge(now)}
}

// Tend writes down now and then when sessions were last used, and sweeps those that have
// ended, until ctx ends. It calls report with what went wrong.
func (r *Register) Tend(ctx context.Context, report func(error)) {
	ticker := time.NewTicker(20 * time.Second)
	defer ticker.Stop()
	for i := 0; ; i++ {
		select {
		case <-ticker.C:
		case <-ctx.Done():
			if err := r.Flush(context.WithoutCancel(ctx)); err != nil {
				report(err)
			}
			return
		}
		if err := r.Flush(ctx); err != nil {
			report(err)
		}
		if i%30 == 0 {
			limits := r.book().Sessions
			before := func(d time.Duration) time.Time {
				if d == 0 {
					return time.Time{}
				}
				return r.now().Add(-d)
			}
			if err := r.store.SweepSessions(ctx, before(limits.Lifetime), before(limits.Idle), before(limits.Remembered)); err != nil {
				report(err)
			}
			r.sessions.prune(func(s *session.Session) bool { return s.Alive(r.now(), session.Limits(limits)) })
		}
	}
}

// Flush writes down when the sessions in memory were last used.
func (r *Register) Flush(ctx context.Context) error {
	return r.store.Seen(ctx, r.sessions.used())
}

// sessions are the sessions in use, in memory. What the records say wins: whoever changes
// them calls drop or forget afterwards, and what was read before that is not kept.
type sessions struct {
	mu       sync.RWMutex
	byHash   map[secret.TokenHash]*entry
	accounts map[int64]*state
	changes  uint64

	usedMu sync.Mutex
	inUse  []*entry // touched since they were last written down
}

type entry struct {
	session session.Session // as it was read; see seen
	visitor policy.Visitor
	state   *state
	until   time.Time    // when a grant begins or ends; zero for never
	seen    atomic.Int64 // milliseconds
	dirty   atomic.Bool
}

// state is shared by the sessions of one account.
type state struct {
	stale atomic.Bool // the account has changed since it was read
}

func newSessions() *sessions {
	return &sessions{byHash: map[secret.TokenHash]*entry{}, accounts: map[int64]*state{}}
}

func (c *sessions) version() uint64 {
	c.mu.RLock()
	defer c.mu.RUnlock()
	return c.changes
}

func (c *sessions) get(hash secret.TokenHash, now time.Time) *entry {
	c.mu.RLock()
	e := c.byHash[hash]
	c.mu.RUnlock()
	if e == nil || e.state.stale.Load() || !e.until.IsZero() && !now.Before(e.until) {
		return nil
	}
	return e
}

// put keeps what was read from the records, unless something changed since version.
func (c *sessions) put(version uint64, s *session.Session, a *account.Account, now time.Time) *entry {
	e := &entry{session: *s, visitor: visitorOf(a, s, now)}
	e.seen.Store(s.SeenAt.UnixMilli())
	for _, g := range a.Grants {
		for _, t := range []time.Time{g.From, g.Until} {
			if t.After(now) && (e.until.IsZero() || t.Before(e.until)) {
				e.until = t
			}
		}
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	if e.state = c.accounts[s.Account]; e.state == nil {
		e.state = &state{}
	}
	if version == c.changes {
		if old := c.byHash[s.Hash]; old != nil {
			e.seen.Store(max(e.seen.Load(), old.seen.Load()))
		}
		c.accounts[s.Account] = e.state
		c.byHash[s.Hash] = e
	}
	return e
}

func (c *sessions) drop(hash secret.TokenHash) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.changes++
	delete(c.byHash, hash)
}

func (c *sessions) forget(id int64) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.changes++
	if state := c.accounts[id]; state != nil {
		state.stale.Store(true)
		delete(c.accounts, id)
	}
}

// prune drops the sessions that are not to be kept.
func (c *sessions) prune(keep func(*session.Session) bool) {
	c.mu.Lock()
	defer c.mu.Unlock()
	for hash, e := range c.byHash {
		s := e.session
		s.SeenAt = time.UnixMilli(e.seen.Load())
		if e.state.stale.Load() || !keep(&s) {
			delete(c.byHash, hash)
		}
	}
}

func (c *sessions) touch(e *entry, now time.Time) {
	e.seen.Store(now.UnixMilli())
	if e.dirty.CompareAndSwap(false, true) {
		c.usedMu.Lock()
		c.inUse = append(c.inUse, e)
		c.usedMu.Unlock()
	}
}

// used returns what was touched since the last call, and when.
func (c *sessions) used() map[secret.TokenHash]time.Time {
	c.usedMu.Lock()
	entries := c.inUse
	c.inUse = nil
	c.usedMu.Unlock()
	at := make(map[secret.TokenHash]time.Time, len(entries))
	for _, e := range entries {
		e.dirty.Store(false)
		at[e.session.Hash] = time.UnixMilli(e.seen.Load())
	}
	return at
}
