package people

import (
	"context"
	"crypto/subtle"
	"errors"
	"hash/maphash"
	"math"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"ostiarius/core/account"
	"ostiarius/core/policy"
	"ostiarius/core/secret"
	"ostiarius/core/session"
	"ostiarius/store"
)

// SignOut ends the session of a token. A token without a session is no error. The error is
// *Unwritten if it has ended but that could not be written down yet.
func (r *Register) SignOut(ctx context.Context, token, network string) error {
	hash, _, ok := r.sessions.current(token, r.now())
	if !ok {
		return nil
	}
	s, a, err := r.load(ctx, hash)
	if errors.Is(err, store.ErrNone) {
		return nil
	}
	if err != nil && r.sessions.seen(hash).IsZero() {
		return err // perhaps no session at all: nothing is kept for whatever strangers bring
	}
	if err != nil {
		// The records cannot be read; the session must not come back when they can.
		return r.end(ctx, ending{token: &hash, what: "that somebody has signed out"}, func(ctx context.Context) error {
			return r.store.EndSession(ctx, hash, store.Event{At: r.now(), Kind: "sign-out", Network: network})
		})
	}
	return r.end(ctx, ending{token: &s.Hash, what: "that " + a.Name + " has signed out"}, func(ctx context.Context) error {
		return r.store.EndSession(ctx, s.Hash, store.Event{At: r.now(), Kind: "sign-out", Account: a.Name, Actor: a.Name, Network: network})
	})
}

// Visitor returns who brings the token, as far as it proves anything: the zero Visitor if
// it is forged, has ended or is empty. When the rights of the account have changed since
// the token was made, the session gets a fresh token, which the browser must be given. The
// error says that the records could not be read; the visitor is then nobody.
//
// The token before still counts for a minute, for the requests that a browser had sent already:
// with the rights and the age of the proof that it had, and no others. It gets no fresh token, so
// whoever has an old one cannot follow. One that is brought later than that, while the fresh one is
// in use, has been stolen, or the fresh one has: the session ends. From says from which address it
// came, and is only asked for then.
func (r *Register) Visitor(ctx context.Context, token string, from func() string) (v policy.Visitor, fresh *Renewal, err error) {
	now, book := r.now(), r.book()
	if e := r.sessions.recognise(token, book, now); e != nil {
		return r.enter(e, now), nil, nil
	}
	hash, ok := secret.HashToken(token)
	if !ok {
		return v, nil, nil
	}
	e, renewed := r.sessions.get(hash, book, now), ""
	if e == nil {
		if current, old := r.sessions.follow(hash, now); old != nil {
			v, err := r.asBefore(ctx, current, old, book, now)
			return v, nil, err
		}
		seen := r.sessions.version()
		s, a, err := r.load(ctx, hash)
		if errors.Is(err, store.ErrNone) {
			if r.sessions.settled(hash, now) {
				return r.Visitor(ctx, token, from) // which stands for another since a moment
			}
			return v, nil, r.stray(ctx, hash, now, from)
		}
		if err != nil {
			return v, nil, err
		}
		if rights := session.Rights(a.Roles(now)); rights != s.Rights {
			next, nextHash := secret.NewToken()
			used, err := r.sessions.renew(s, nextHash, now, func() error { return r.store.RenewSession(ctx, hash, nextHash, rights, now) })
			switch {
			case errors.Is(err, store.ErrNone): // another request was first, or it has just ended
				if !r.sessions.settled(hash, now) {
					return v, nil, nil
				}
				return r.Visitor(ctx, token, from)
			case err != nil:
				return v, nil, err
			}
			if used.After(s.SeenAt) {
				s.SeenAt = used
			}
			s.Hash, s.Rights, renewed = nextHash, rights, next
			seen = r.sessions.version()
		}
		e = r.sessions.put(seen, s, a, book, now)
	}
	if v = r.enter(e, now); !v.SignedIn {
		return v, nil, nil
	}
	if renewed != "" {
		fresh, token = &Renewal{Token: renewed, Remembered: e.session.Remembered, Lasts: e.limits.Remembered}, renewed
	}
	r.sessions.learn(token, e)
	return v, fresh, nil
}

// asBefore returns who brings a token that another has replaced a moment ago: what it proved
// before, as far as it would still hold. The session does not count as used.
func (r *Register) asBefore(ctx context.Context, current secret.TokenHash, old *renewal, book *policy.Book, now time.Time) (v policy.Visitor, err error) {
	e := r.sessions.get(current, book, now)
	if e == nil {
		s, a, err := r.load(ctx, current)
		if errors.Is(err, store.ErrNone) {
			return v, nil
		}
		if err != nil {
			return v, err
		}
		e = newEntry(s, a, book, now)
	}
	if !e.alive(now.UnixMilli()) {
		return v, nil
	}
	v = e.visitor
	v.Roles = slices.DeleteFunc(slices.Clone(v.Roles), func(role string) bool { return !slices.Contains(old.roles, role) })
	v.ProofAge = (&session.Session{ProvedAt: old.provedAt}).ProofAge(now)
	return v, nil
}

// stray looks at a token that stands for no session: if it once did, and the one that took its
// place is in use, one of the two is in the wrong hands, and nobody can say which.
func (r *Register) stray(ctx context.Context, hash secret.TokenHash, now time.Time, from func() string) error {
	s, at, err := r.store.Replaced(ctx, hash)
	if errors.Is(err, store.ErrNone) {
		return nil
	}
	if err != nil {
		return err
	}
	if used := r.sessions.seen(s.Hash); used.After(s.SeenAt) {
		s.SeenAt = used
	}
	if now.Sub(at) < renewalLasts && !at.After(now) || !s.SeenAt.After(at) {
		return nil // the minute, of a process before this one; or nobody has got the fresh one
	}
	a, err := r.store.AccountByID(ctx, s.Account)
	if err != nil {
		return err
	}
	network := ""
	if from != nil {
		network = from()
	}
	err = r.end(ctx, ending{token: &s.Hash, what: "that a session of " + a.Name + " has ended"}, func(ctx context.Context) error {
		return r.store.EndSession(ctx, s.Hash, store.Event{
			At: now, Kind: "session ended", Account: a.Name, Network: network, Detail: "session " + s.Handle() + ": a token that had been replaced was used again; it may have been stolen",
		})
	})
	var unwritten *Unwritten
	if errors.As(err, &unwritten) {
		err = nil // it has ended
	}
	return err
}

// Look returns who brings the token of a request that is under way, whose answer can
// carry no fresh token any more. The session counts as in use only if used.
func (r *Register) Look(ctx context.Context, token string, used bool) (policy.Visitor, error) {
	now, book := r.now(), r.book()
	e := r.sessions.recognise(token, book, now)
	if e == nil {
		hash, old, ok := r.sessions.current(token, now)
		switch {
		case !ok:
			return policy.Visitor{}, nil
		case old != nil:
			return r.asBefore(ctx, hash, old, book, now)
		}
		if e = r.sessions.get(hash, book, now); e == nil {
			seen := r.sessions.version()
			s, a, err := r.load(ctx, hash)
			switch {
			case errors.Is(err, store.ErrNone):
				return policy.Visitor{}, nil
			case err != nil:
				return policy.Visitor{}, err
			case session.Rights(a.Roles(now)) == s.Rights:
				e = r.sessions.put(seen, s, a, book, now)
			default:
				e = newEntry(s, a, book, now) // not kept: the next request is to renew its token
			}
		}
	}
	if used {
		return r.enter(e, now), nil
	}
	if !e.alive(now.UnixMilli()) {
		return policy.Visitor{}, nil
	}
	return e.visitor, nil
}

// enter returns who uses a session, if it is still alive, and notes that it is used.
func (r *Register) enter(e *entry, now time.Time) policy.Visitor {
	at := now.UnixMilli()
	if !e.alive(at) {
		return policy.Visitor{}
	}
	r.sessions.touch(e, at)
	v := e.visitor
	v.ProofAge = e.session.ProofAge(now)
	return v
}

// A Renewal is the fresh token of a session.
type Renewal struct {
	Token      string
	Remembered bool          // the session outlasts the browser
	Lasts      time.Duration // how long a remembered session lasts; 0 for no end
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
	if a.Disabled || r.unwritten.has(s.Hash, s.MadeAt, a.ID) {
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

// A HeldSession is a session that somebody has, and the name of the account.
type HeldSession = store.HeldSession

// Sessions returns the sessions that hold now, the latest used first: those of an account,
// or of all if the name is "", that have the words in name, network or browser; and how
// many there are in all.
func (r *Register) Sessions(ctx context.Context, name, words string, offset, limit int) ([]HeldSession, int, error) {
	q := store.SessionQuery{Words: words, Now: r.now(), Alive: session.Limits(r.book().LongestSessions()), Offset: offset, Limit: limit}
	if name != "" {
		a, _, err := r.find(ctx, name)
		if err != nil {
			return nil, 0, err
		}
		q.Account = a.ID
	}
	if err := r.Flush(ctx); err != nil { // so that the list says when they were last used
		return nil, 0, err
	}
	return r.store.Sessions(ctx, q)
}

// forget makes what is kept in memory of an account count no longer, after its records have
// changed.
func (r *Register) forget(id int64) {
	r.sessions.forget(id)
	r.basic.changed()
}

// EndSession ends the session with that handle. With a name, it must be one of that
// account.
func (r *Register) EndSession(ctx context.Context, actor, handle, name string) error {
	none := &Mistake{"unknown", "there is no session \"" + cut(handle, 40) + "\"; perhaps it has ended already"}
	if len(handle) != 20 || strings.Trim(handle, "0123456789abcdef") != "" {
		return none
	}
	q := store.SessionQuery{Handle: handle, Now: r.now(), Limit: 1}
	if name != "" {
		a, _, err := r.find(ctx, name)
		if err != nil {
			return err
		}
		q.Account = a.ID
	}
	found, _, err := r.store.Sessions(ctx, q)
	if err != nil {
		return err
	}
	if len(found) == 0 {
		return none
	}
	s := found[0]
	err = r.end(ctx, ending{token: &s.Hash, what: "that a session of " + s.Name + " has ended"}, func(ctx context.Context) error {
		return r.store.EndSession(ctx, s.Hash, store.Event{At: r.now(), Kind: "session ended", Account: s.Name, Actor: actor, Detail: "session " + handle})
	})
	if errors.Is(err, store.ErrNone) {
		return none
	}
	return err
}

// EndSessions ends all sessions of an account, but for the one of the token keep, if that
// is not "". It returns how many ended.
func (r *Register) EndSessions(ctx context.Context, actor, name, keep string) (ended int64, err error) {
	var but *secret.TokenHash
	if hash, _, ok := r.sessions.current(keep, r.now()); ok {
		but = &hash
	}
	a, _, err := r.find(ctx, name)
	if err != nil {
		return 0, err
	}
	var number atomic.Int64
	err = r.end(ctx, ending{sessionsOf: a.ID, but: but, before: r.now(), what: "that the sessions of " + a.Name + " have ended"}, func(ctx context.Context) error {
		n, err := r.store.EndSessions(ctx, a.ID, but, r.event("sessions ended", a, actor, ""))
		number.Store(n)
		return err
	})
	return number.Load(), err
}

// EndAllSessions signs everybody out. It returns how many sessions ended.
func (r *Register) EndAllSessions(ctx context.Context, actor string) (ended int64, err error) {
	var number atomic.Int64
	err = r.end(ctx, ending{all: true, before: r.now(), what: "that all sessions have ended"}, func(ctx context.Context) error {
		n, err := r.store.EndAllSessions(ctx, store.Event{At: r.now(), Kind: "sessions ended", Actor: actor, Detail: "all of everybody"})
		number.Store(n)
		return err
	})
	return number.Load(), err
}

// Handle returns the handle of the session that a token stands for, "" for none.
func (r *Register) Handle(token string) string {
	hash, _, ok := r.sessions.current(token, r.now())
	if !ok {
		return ""
	}
	return (&session.Session{Hash: hash}).Handle()
}

// Tend writes down now and then what happened at the doors and when sessions were last
// used, and sweeps what has ended, until ctx ends. It calls report with what went wrong.
func (r *Register) Tend(ctx context.Context, report func(error)) {
	ticker := time.NewTicker(time.Second)
	defer ticker.Stop()
	began, wall := time.Now(), r.now()
	sweepFrom := 30 * time.Second // since began; later if the clock is not to be trusted
	try := func(err error) {
		if err != nil && ctx.Err() == nil {
			report(err)
		}
	}
	for i := 1; ; i++ {
		select {
		case <-ticker.C:
		case <-ctx.Done():
			last := context.WithoutCancel(ctx)
			if err := errors.Join(r.Flush(last), r.flushNotes(last, true)); err != nil {
				report(err)
			}
			return
		}
		try(r.FlushNotes(ctx))
		r.unwritten.tryAgain(ctx)
		if i%20 == 0 {
			try(r.Flush(ctx))
			try(r.store.BoundActivity(ctx, r.keepEvents))
		}
		if i%600 != 60 {
			continue
		}
		// A clock that has jumped ahead would make everything look ended. What looks so stays
		// shut, but is kept for a day, in case the clock is put right.
		elapsed := time.Since(began)
		if drift := r.now().Sub(wall) - elapsed; drift > 10*time.Minute || drift < -10*time.Minute {
			report(errors.New("the clock has jumped; what has ended is not swept for a day"))
			wall, began, elapsed = r.now(), time.Now(), 0
			sweepFrom = 24 * time.Hour
		}
		if elapsed >= sweepFrom {
			try(r.Sweep(ctx))
		}
	}
}

// Sweep removes the records of what has ended: sessions, links, and activity that is older
// than it is to be kept.
func (r *Register) Sweep(ctx context.Context) error {
	now := r.now()
	before := func(d time.Duration) time.Time {
		if d == 0 {
			return time.Time{}
		}
		return now.Add(-d)
	}
	longest := r.book().LongestSessions()
	r.sessions.prune(now)
	return errors.Join(
		r.store.SweepSessions(ctx, before(longest.Lifetime), before(longest.Idle), before(longest.Remembered)),
		r.store.SweepLinks(ctx, now),
		r.store.SweepActivity(ctx, before(r.keep)),
		r.store.BoundActivity(ctx, r.keepEvents),
	)
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
	byToken  map[uint64]*entry // by a hash that is quick, of tokens that were there before
	seed     maphash.Seed
	accounts map[int64]*state
	renewed  map[secret.TokenHash]renewal
	renewing sync.Mutex // held while a token is replaced
	changes  uint64

	usedMu sync.Mutex
	inUse  []*entry // touched since they were last written down
}

type entry struct {
	session session.Session // as it was read; see seen
	visitor policy.Visitor
	limits  policy.Sessions
	of      *policy.Book // the policy that gave the limits
	state   *state
	until   time.Time   // when a grant begins or ends; zero for never
	token   string      // as it was brought last; "" if it was not
	gone    atomic.Bool // it has ended, or has another token
	ends    int64       // milliseconds, as all below; the largest for no end
	from    int64       // before that, it is not alive: the clock went back
	idle    int64       // 0 for no limit
	seen    atomic.Int64
	dirty   atomic.Bool
}

// alive is session.Alive, of what was worked out when the entry was made.
func (e *entry) alive(at int64) bool {
	if at >= e.ends || at < e.from {
		return false
	}
	if e.idle == 0 {
		return true
	}
	unused := at - e.seen.Load()
	return unused < e.idle && unused >= -session.Slack.Milliseconds()
}

// state is shared by the sessions of one account.
type state struct {
	stale atomic.Bool // the account has changed since it was read
}

func newSessions() *sessions {
	return &sessions{byHash: map[secret.TokenHash]*entry{}, byToken: map[uint64]*entry{}, seed: maphash.MakeSeed(), accounts: map[int64]*state{}, renewed: map[secret.TokenHash]renewal{}}
}

// A renewal is what is remembered of a token that another has replaced a moment ago.
type renewal struct {
	to       secret.TokenHash
	from     time.Time
	roles    []string // that it stood for
	provedAt time.Time
}

// How long a token that has been replaced still counts.
const renewalLasts = time.Minute

func (n *renewal) counts(now time.Time) bool {
	return now.Sub(n.from) < renewalLasts && !n.from.After(now)
}

// follow returns the token that a session has now, and what is remembered of the one that was
// brought; nil if it has not been replaced a moment ago.
func (c *sessions) follow(hash secret.TokenHash, now time.Time) (current secret.TokenHash, old *renewal) {
	c.mu.RLock()
	defer c.mu.RUnlock()
	for {
		next, renewed := c.renewed[hash]
		if !renewed || !next.counts(now) {
			return hash, old
		}
		if old == nil {
			old = &next
		}
		hash = next.to
	}
}

// current is follow for a token as it is brought, and false for what is none.
func (c *sessions) current(token string, now time.Time) (current secret.TokenHash, old *renewal, ok bool) {
	hash, ok := secret.HashToken(token)
	if ok {
		hash, old = c.follow(hash, now)
	}
	return hash, old, ok
}

// settled waits for renewals that are under way and reports whether the token has been replaced.
func (c *sessions) settled(hash secret.TokenHash, now time.Time) bool {
	c.renewing.Lock()
	defer c.renewing.Unlock()
	_, old := c.follow(hash, now)
	return old != nil
}

// renew replaces the token of a session by another, in the records by write and here; nobody sees
// one without the other. It returns when the session was last used, if that is known here.
func (c *sessions) renew(s *session.Session, to secret.TokenHash, now time.Time, write func() error) (seen time.Time, err error) {
	c.renewing.Lock()
	defer c.renewing.Unlock()
	if err := write(); err != nil {
		return seen, err
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	c.changes++
	if e := c.byHash[s.Hash]; e != nil {
		seen = time.UnixMilli(e.seen.Load())
		c.end(s.Hash)
	}
	for hash, old := range c.renewed {
		if !old.counts(now) {
			delete(c.renewed, hash)
		}
	}
	c.renewed[s.Hash] = renewal{to, now, strings.Fields(s.Rights), s.ProvedAt}
	return seen, nil
}

// seen returns when a session was last used, as far as it is known here.
func (c *sessions) seen(hash secret.TokenHash) (at time.Time) {
	c.mu.RLock()
	defer c.mu.RUnlock()
	if e := c.byHash[hash]; e != nil {
		at = time.UnixMilli(e.seen.Load())
	}
	return at
}

func (c *sessions) version() uint64 {
	c.mu.RLock()
	defer c.mu.RUnlock()
	return c.changes
}

// recognise returns what is known of a token that was there before, without the work of
// hashing it as the records have it; nil if it has to be looked at more closely.
func (c *sessions) recognise(token string, book *policy.Book, now time.Time) *entry {
	if token == "" {
		return nil
	}
	key := maphash.String(c.seed, token)
	c.mu.RLock()
	e := c.byToken[key]
	c.mu.RUnlock()
	if e == nil || e.gone.Load() || e.of != book || e.state.stale.Load() || !e.until.IsZero() && !now.Before(e.until) ||
		subtle.ConstantTimeCompare([]byte(e.token), []byte(token)) != 1 {
		return nil
	}
	return e
}

// learn keeps an entry for the token that brought it, if it is still the one that counts.
func (c *sessions) learn(token string, e *entry) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.byHash[e.session.Hash] == e && e.token == "" {
		e.token = token
		c.byToken[maphash.String(c.seed, token)] = e
	}
}

// end makes an entry count no longer. The lock is held.
func (c *sessions) end(hash secret.TokenHash) {
	if e := c.byHash[hash]; e != nil {
		e.gone.Store(true)
		if e.token != "" {
			delete(c.byToken, maphash.String(c.seed, e.token))
		}
		delete(c.byHash, hash)
	}
}

func (c *sessions) get(hash secret.TokenHash, book *policy.Book, now time.Time) *entry {
	c.mu.RLock()
	e := c.byHash[hash]
	c.mu.RUnlock()
	if e == nil || e.of != book || e.state.stale.Load() || !e.until.IsZero() && !now.Before(e.until) {
		return nil
	}
	return e
}

func newEntry(s *session.Session, a *account.Account, book *policy.Book, now time.Time) *entry {
	e := &entry{session: *s, visitor: visitorOf(a, s, now), limits: book.SessionsFor(a.Roles(now)), of: book, until: a.Changes(now), ends: math.MaxInt64}
	ends, idle := s.Term(session.Limits(e.limits))
	if !ends.IsZero() {
		e.ends, e.from = ends.UnixMilli(), s.MadeAt.Add(-session.Slack).UnixMilli()
	}
	if idle != 0 {
		e.idle = max(1, idle.Milliseconds())
	}
	e.seen.Store(s.SeenAt.UnixMilli())
	return e
}

// put keeps what was read from the records, unless something changed since version.
func (c *sessions) put(version uint64, s *session.Session, a *account.Account, book *policy.Book, now time.Time) *entry {
	e := newEntry(s, a, book, now)
	c.mu.Lock()
	defer c.mu.Unlock()
	if e.state = c.accounts[s.Account]; e.state == nil {
		e.state = &state{}
	}
	if version == c.changes {
		if old := c.byHash[s.Hash]; old != nil {
			e.seen.Store(max(e.seen.Load(), old.seen.Load()))
			c.end(s.Hash)
		}
		c.accounts[s.Account] = e.state
		c.byHash[s.Hash] = e
	}
	return e
}

// stateOf returns what tells whether an account changes from now on.
func (c *sessions) stateOf(id int64) *state {
	c.mu.Lock()
	defer c.mu.Unlock()
	s := c.accounts[id]
	if s == nil {
		s = &state{}
		c.accounts[id] = s
	}
	return s
}

func (c *sessions) drop(hash secret.TokenHash) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.changes++
	c.end(hash)
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

// clear forgets all sessions.
func (c *sessions) clear() {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.changes++
	for hash := range c.byHash {
		c.end(hash)
	}
	clear(c.renewed)
}

// prune drops what is no longer alive or stale.
func (c *sessions) prune(now time.Time) {
	c.mu.Lock()
	defer c.mu.Unlock()
	for hash, e := range c.byHash {
		if e.state.stale.Load() || !e.alive(now.UnixMilli()) {
			c.end(hash)
		}
	}
}

func (c *sessions) touch(e *entry, at int64) {
	// Many requests of one session come in the same millisecond; they need not wait for each
	// other.
	if e.seen.Load() != at {
		e.seen.Store(at)
	}
	if !e.dirty.Load() && e.dirty.CompareAndSwap(false, true) {
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
