package people

import (
	"context"
	"crypto/rand"
	"encoding/binary"
	"errors"
	"sync"
	"time"

	"golang.org/x/crypto/blake2b"
	"golang.org/x/sync/singleflight"

	kind "ostiarius/core/activity"
	"ostiarius/core/basic"
	"ostiarius/core/policy"
	"ostiarius/core/session"
	"ostiarius/store"
)

// Verified credentials are remembered for so long, as a keyed hash in memory, so that the
// work of hashing is not done with each request. Any change of a password, an account or a
// keyring drops them at once.
const remembered = 5 * time.Minute

// The most credentials that are remembered.
const mostRemembered = 50_000

// verified are credentials that were right a moment ago.
type verified struct {
	once    singleflight.Group // the same credentials are verified once at a time
	mu      sync.RWMutex
	key     [32]byte
	changes uint64
	known   map[[32]byte]*proof
}

// A proof is what credentials have proven.
type proof struct {
	visitor policy.Visitor // of an account: who it is
	state   *state         // of an account: whether it has changed since
	from    time.Time      // when it was proven
	until   time.Time
}

// seal returns the key under which a header with credentials is remembered for a scope: a
// hash over a random key, the length of the scope, and both. BLAKE2 is made for a key in
// front (RFC 7693, section 2.5), and twice as fast as SHA-256 on machines without
// instructions for that.
func (v *verified) seal(scope, header string) [32]byte {
	var room [512]byte
	v.mu.RLock()
	b := append(room[:0], v.key[:]...)
	v.mu.RUnlock()
	b = binary.BigEndian.AppendUint64(b, uint64(len(scope)))
	return blake2b.Sum256(append(append(b, scope...), header...))
}

// get returns what is remembered, nil for nothing.
func (v *verified) get(sum [32]byte, now time.Time) *proof {
	v.mu.RLock()
	defer v.mu.RUnlock()
	p := v.known[sum]
	if p == nil || !now.Before(p.until) || now.Before(p.from) || p.state != nil && p.state.stale.Load() {
		return nil
	}
	return p
}

func (v *verified) version() uint64 {
	v.mu.RLock()
	defer v.mu.RUnlock()
	return v.changes
}

// put remembers a proof, unless something has changed since version.
func (v *verified) put(version uint64, sum [32]byte, p proof) {
	v.mu.Lock()
	defer v.mu.Unlock()
	if version != v.changes {
		return
	}
	if v.known == nil || len(v.known) >= mostRemembered {
		v.known = map[[32]byte]*proof{}
	}
	v.known[sum] = &p
}

// changed says that something has changed: what is being verified is not remembered.
func (v *verified) changed() {
	v.mu.Lock()
	defer v.mu.Unlock()
	v.changes++
}

// clear forgets all, and changes the key.
func (v *verified) clear() {
	v.mu.Lock()
	defer v.mu.Unlock()
	v.changes++
	v.known = nil
	rand.Read(v.key[:])
}

// Present takes the Authorization headers of a request for a place that asks for credentials
// of HTTP Basic: those of an account, those of keyrings. It adds to the visitor what they
// prove, and reports whether they are such credentials at all. Credentials that are wrong
// prove nothing and are no error; the error is one of package basic, *throttle.Slow, hashing.ErrBusy, or says
// that the service failed. Where they come from is only asked for if they are not remembered.
func (r *Register) Present(ctx context.Context, headers []string, want policy.Wanted, from func() Origin, v *policy.Visitor) (ours bool, err error) {
	if len(headers) != 1 || len(headers[0]) > basic.Longest {
		_, _, err := basic.Read(headers)
		return false, err
	}
	now, header := r.now(), headers[0]
	// prove returns what the credentials prove for a scope; nil for nothing, or if the header
	// has none.
	prove := func(scope string, verify func(basic.Credentials) (proof, bool, error)) (*proof, error) {
		sum := r.basic.seal(scope, header)
		if p := r.basic.get(sum, now); p != nil {
			ours = true
			return p, nil
		}
		c, ok, err := basic.Read(headers)
		if ours = ok; !ok {
			return nil, err
		}
		p, ok, err := r.verified(sum, func() (proof, bool, error) { return verify(c) })
		if !ok {
			return nil, err
		}
		return &p, err
	}
	rings := want.Keyrings
	if len(rings) > policy.MostKeyrings {
		rings = rings[:policy.MostKeyrings] // what one request makes the service compute has a bound
	}
	for _, ring := range rings {
		p, err := prove("keyring "+ring, func(c basic.Credentials) (proof, bool, error) { return r.openKeyring(ctx, ring, c, from()) })
		if err != nil {
			return ours, err
		}
		if p != nil {
			v.Keyrings = append(v.Keyrings, ring)
		}
	}
	if want.Accounts {
		p, err := prove("account", func(c basic.Credentials) (proof, bool, error) { return r.proveAccount(ctx, c, from()) })
		if err != nil {
			return ours, err
		}
		if p != nil {
			v.SignedIn, v.Account, v.Roles, v.ProofAge = true, p.visitor.Account, p.visitor.Roles, 0
		}
	}
	return ours, nil
}

// verified has credentials verified that are not remembered; the same ones that come in many
// requests at once are verified for the first of them.
func (r *Register) verified(sum [32]byte, verify func() (proof, bool, error)) (proof, bool, error) {
	type result struct {
		proof
		ok bool
	}
	found, err, _ := r.basic.once.Do(string(sum[:]), func() (any, error) {
		version := r.basic.version()
		p, ok, err := verify()
		if ok {
			r.basic.put(version, sum, p)
		}
		return result{p, ok}, err
	})
	res, _ := found.(result)
	return res.proof, res.ok, err
}

func (r *Register) proveAccount(ctx context.Context, c basic.Credentials, from Origin) (proof, bool, error) {
	ctx = context.WithoutCancel(ctx) // others may wait for it
	a, hash, err := r.prove(ctx, kind.SignInFailed, c.User, c.Password, from)
	if errors.Is(err, ErrWrong) || errors.Is(err, ErrDisabled) {
		return proof{}, false, nil
	}
	if err != nil {
		return proof{}, false, err
	}
	if better := r.hashing.Better(ctx, hash, c.Password); better != "" {
		if err := r.store.Rehash(ctx, a.ID, hash, better); err != nil {
			return proof{}, false, err
		}
	}
	// What was read before a change was written must not be remembered after it.
	now := r.now()
	until := now.Add(remembered)
	if next := a.Changes(now); !next.IsZero() && next.Before(until) {
		until = next
	}
	err = r.store.Record(ctx, store.Event{At: r.now(), Kind: kind.SignIn, Account: a.Name, Actor: a.Name, Network: from.Network, Detail: "with HTTP Basic"})
	return proof{visitor: visitorOf(a, &session.Session{ProvedAt: now}, now), state: r.sessions.stateOf(a.ID), from: now, until: until}, err == nil, err
}

// openKeyring has credentials taken for a keyring.
func (r *Register) openKeyring(ctx context.Context, ring string, c basic.Credentials, from Origin) (proof, bool, error) {
	now := r.now()
	until, ok, err := r.openRing(ctx, ring, c, from.Network)
	if latest := now.Add(remembered); until.IsZero() || latest.Before(until) {
		until = latest
	}
	return proof{from: now, until: until}, ok, err
}
