package sessions

import (
	"context"
	"crypto/subtle"
	"errors"
	"hash/maphash"
	"math"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"ostiarius/core/account"
	"ostiarius/core/policy"
	"ostiarius/core/secret"
	"ostiarius/core/session"
)

// A cache is the sessions in use, in memory. What the records say wins: whoever changes
// them calls drop or forget afterwards, and what was read before that is not kept.
type cache struct {
	mu       sync.RWMutex
	byHash   map[secret.TokenHash]*entry
	byToken  map[uint64]*entry // by a hash that is quick, of tokens that were there before
	seed     maphash.Seed
	accounts map[int64]*State
	renewed  map[secret.TokenHash]renewal
	oldest   []secret.TokenHash                 // the keys of renewed, in the order of their coming
	renewing map[secret.TokenHash]chan struct{} // tokens that are being replaced; closed when that is over
	changes  uint64

	usedMu sync.Mutex
	inUse  []*entry // touched since they were last written down
}

type entry struct {
	session session.Session // as it was read; see seen
	visitor policy.Visitor
	limits  policy.Sessions
	of      *policy.Book // the policy that gave the limits
	state   *State
	until   time.Time   // when a grant begins or ends; zero for never
	token   string      // as it was brought last; "" if it was not
	factors bool        // more was shown than the password
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

// A State tells whether an account has changed since it was read. Whatever is remembered of an account
// shares it.
type State struct{ stale atomic.Bool }

// Stale reports whether the account has changed.
func (s *State) Stale() bool { return s.stale.Load() }

func newCache() *cache {
	return &cache{
		byHash: map[secret.TokenHash]*entry{}, byToken: map[uint64]*entry{}, seed: maphash.MakeSeed(), accounts: map[int64]*State{},
		renewed: map[secret.TokenHash]renewal{}, renewing: map[secret.TokenHash]chan struct{}{},
	}
}

// A renewal is what is remembered of a token that another has replaced a moment ago.
type renewal struct {
	to     secret.TokenHash
	from   time.Time
	roles  []string        // that it stood for
	proven session.Session // as far as it had proven
}

// How long a token that has been replaced still counts.
const renewalLasts = time.Minute

func (n *renewal) counts(now time.Time) bool {
	return now.Sub(n.from) < renewalLasts && !n.from.After(now)
}

// follow returns the token that a session has now, and what is remembered of the one that was
// brought; nil if it has not been replaced a moment ago.
func (c *cache) follow(hash secret.TokenHash, now time.Time) (current secret.TokenHash, old *renewal) {
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
func (c *cache) current(token string, now time.Time) (current secret.TokenHash, old *renewal, ok bool) {
	hash, ok := secret.HashToken(token)
	if ok {
		hash, old = c.follow(hash, now)
	}
	return hash, old, ok
}

// settled waits for the renewal of a token, if one is under way, and reports whether the token has been replaced.
func (c *cache) settled(ctx context.Context, hash secret.TokenHash, now time.Time) bool {
	c.mu.RLock()
	underWay := c.renewing[hash]
	c.mu.RUnlock()
	if underWay != nil {
		select {
		case <-underWay:
		case <-ctx.Done():
		}
	}
	_, old := c.follow(hash, now)
	return old != nil
}

// errUnderWay says that another request is replacing the same token.
var errUnderWay = errors.New("the token is being replaced")

// renew replaces the token of a session by another, in the records by write and here; nobody sees
// one without the other. It returns when the session was last used, if that is known here. The error is errUnderWay
// if another request is at it.
func (c *cache) renew(s *session.Session, to secret.TokenHash, now time.Time, write func() error) (seen time.Time, err error) {
	c.mu.Lock()
	if c.renewing[s.Hash] != nil {
		c.mu.Unlock()
		return seen, errUnderWay
	}
	over := make(chan struct{})
	c.renewing[s.Hash] = over
	c.mu.Unlock()
	err = write()
	c.mu.Lock()
	defer c.mu.Unlock()
	defer close(over)
	delete(c.renewing, s.Hash)
	if err != nil {
		return seen, err
	}
	c.changes++
	if e := c.byHash[s.Hash]; e != nil {
		seen = time.UnixMilli(e.seen.Load())
		c.end(s.Hash)
	}
	for len(c.oldest) > 0 {
		if old, is := c.renewed[c.oldest[0]]; is && old.counts(now) {
			break
		}
		delete(c.renewed, c.oldest[0])
		c.oldest = c.oldest[1:]
	}
	c.renewed[s.Hash] = renewal{to, now, strings.Fields(s.Rights), session.Session{ProvedAt: s.ProvedAt, How: s.How, Shown: s.Shown}}
	c.oldest = append(c.oldest, s.Hash)
	return seen, nil
}

// seen returns when a session was last used, as far as it is known here.
func (c *cache) seen(hash secret.TokenHash) (at time.Time) {
	c.mu.RLock()
	defer c.mu.RUnlock()
	if e := c.byHash[hash]; e != nil {
		at = time.UnixMilli(e.seen.Load())
	}
	return at
}

func (c *cache) version() uint64 {
	c.mu.RLock()
	defer c.mu.RUnlock()
	return c.changes
}

// recognise returns what is known of a token that was there before, without the work of
// hashing it as the records have it; nil if it has to be looked at more closely.
func (c *cache) recognise(token string, book *policy.Book, now time.Time) *entry {
	if token == "" {
		return nil
	}
	key := maphash.String(c.seed, token)
	c.mu.RLock()
	e := c.byToken[key]
	c.mu.RUnlock()
	if e == nil || e.gone.Load() || subtle.ConstantTimeCompare([]byte(e.token), []byte(token)) != 1 {
		return nil
	}
	return c.counting(e, book, now)
}

// counting returns what an entry is under a policy; nil if it counts no longer.
func (c *cache) counting(e *entry, book *policy.Book, now time.Time) *entry {
	if e == nil || e.state.stale.Load() || !e.until.IsZero() && !now.Before(e.until) {
		return nil
	}
	if e.of == book {
		return e
	}
	// Under another policy a session may hold for another time; who it is of is the same.
	c.mu.Lock()
	defer c.mu.Unlock()
	if other := c.byHash[e.session.Hash]; other != e {
		if other != nil && other.of == book && !other.state.stale.Load() {
			return other
		}
		return nil
	}
	next := &entry{session: e.session, visitor: e.visitor, state: e.state, until: e.until, token: e.token, factors: e.factors}
	next.under(book)
	next.seen.Store(e.seen.Load())
	c.byHash[e.session.Hash] = next
	if e.token != "" {
		c.byToken[maphash.String(c.seed, e.token)] = next
	}
	return next
}

// learn keeps an entry for the token that brought it, if it is still the one that counts.
func (c *cache) learn(token string, e *entry) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.byHash[e.session.Hash] == e && e.token == "" {
		e.token = token
		c.byToken[maphash.String(c.seed, token)] = e
	}
}

// end makes an entry count no longer. The lock is held.
func (c *cache) end(hash secret.TokenHash) {
	if e := c.byHash[hash]; e != nil {
		e.gone.Store(true)
		if e.token != "" {
			delete(c.byToken, maphash.String(c.seed, e.token))
		}
		delete(c.byHash, hash)
	}
}

func (c *cache) get(hash secret.TokenHash, book *policy.Book, now time.Time) *entry {
	c.mu.RLock()
	e := c.byHash[hash]
	c.mu.RUnlock()
	return c.counting(e, book, now)
}

func newEntry(s *session.Session, a *account.Account, book *policy.Book, now time.Time) *entry {
	e := &entry{session: *s, visitor: VisitorOf(a, s, now), until: a.Changes(now), factors: !s.OnlyPassword()}
	e.under(book)
	e.seen.Store(s.SeenAt.UnixMilli())
	return e
}

// under works out how long the session holds by a policy.
func (e *entry) under(book *policy.Book) {
	e.of, e.limits, e.ends = book, book.SessionsFor(e.visitor.Roles), math.MaxInt64
	ends, idle := e.session.Term(session.Limits(e.limits))
	if !ends.IsZero() {
		e.ends, e.from = ends.UnixMilli(), e.session.MadeAt.Add(-session.Slack).UnixMilli()
	}
	if idle != 0 {
		e.idle = max(1, idle.Milliseconds())
	}
}

// has reports whether a session is known.
func (c *cache) has(hash secret.TokenHash) bool {
	c.mu.RLock()
	defer c.mu.RUnlock()
	return c.byHash[hash] != nil
}

// put keeps what was read from the records, unless something changed since version.
func (c *cache) put(version uint64, s *session.Session, a *account.Account, book *policy.Book, now time.Time) *entry {
	e := newEntry(s, a, book, now)
	c.mu.Lock()
	defer c.mu.Unlock()
	if e.state = c.accounts[s.Account]; e.state == nil {
		e.state = &State{}
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
func (c *cache) stateOf(id int64) *State {
	c.mu.Lock()
	defer c.mu.Unlock()
	s := c.accounts[id]
	if s == nil {
		s = &State{}
		c.accounts[id] = s
	}
	return s
}

func (c *cache) drop(hash secret.TokenHash) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.changes++
	c.end(hash)
}

func (c *cache) forget(id int64) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.changes++
	if state := c.accounts[id]; state != nil {
		state.stale.Store(true)
		delete(c.accounts, id)
	}
}

// clear forgets all sessions.
func (c *cache) clear() {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.changes++
	for hash := range c.byHash {
		c.end(hash)
	}
	clear(c.renewed)
	c.oldest = nil
}

// prune drops what is no longer alive or stale.
func (c *cache) prune(now time.Time) {
	c.mu.Lock()
	defer c.mu.Unlock()
	for hash, e := range c.byHash {
		if e.state.stale.Load() || !e.alive(now.UnixMilli()) {
			c.end(hash)
		}
	}
}

func (c *cache) touch(e *entry, at int64) {
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
func (c *cache) used() map[secret.TokenHash]time.Time {
	c.usedMu.Lock()
	entries := c.inUse
	c.inUse = nil
	c.usedMu.Unlock()
	at := make(map[secret.TokenHash]time.Time, len(entries))
	for _, e := range entries {
		e.dirty.Store(false)
		if seen := time.UnixMilli(e.seen.Load()); seen.After(at[e.session.Hash]) {
			at[e.session.Hash] = seen
		}
	}
	return at
}

// usedStill takes back what used has returned and could not be written down.
func (c *cache) usedStill(at map[secret.TokenHash]time.Time) {
	for hash, seen := range at {
		c.mu.RLock()
		e := c.byHash[hash]
		c.mu.RUnlock()
		if e != nil {
			c.touch(e, max(seen.UnixMilli(), e.seen.Load()))
		}
	}
}
