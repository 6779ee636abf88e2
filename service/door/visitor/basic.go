package visitor

import (
	"context"
	"crypto/rand"
	"encoding/binary"
	"errors"
	"net/http"
	"sync"
	"time"

	"golang.org/x/crypto/blake2b"
	"golang.org/x/sync/singleflight"

	kind "ostiarius/core/activity"
	"ostiarius/core/basic"
	"ostiarius/core/factor"
	"ostiarius/core/keyring"
	"ostiarius/core/policy"
	"ostiarius/core/session"
	"ostiarius/service/base/guard"
	"ostiarius/service/who/sessions"
	"ostiarius/service/who/signin"
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
	over    *keyring.Over   // that they are right, and open nothing any more
	visitor policy.Visitor  // of an account: who it is
	state   *sessions.State // of an account: whether it has changed since
	from    time.Time       // when it was proven
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
	if p == nil || !now.Before(p.until) || now.Before(p.from) || p.state != nil && p.state.Stale() {
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

// changed says that the records of an account have changed: what is being verified is not remembered.
func (v *verified) changed() {
	v.mu.Lock()
	defer v.mu.Unlock()
	v.changes++
}

// clear says that credentials which were verified count no longer. It changes the key, too.
func (v *verified) clear() {
	v.mu.Lock()
	defer v.mu.Unlock()
	v.changes++
	v.known = nil
	rand.Read(v.key[:])
}

// present takes the Authorization headers of a request for a place that asks for credentials
// of HTTP Basic: those of an account, those of keyrings. It adds to the visitor what they
// prove, and reports whether they are such credentials at all. Credentials that are wrong
// prove nothing and are no error; the error is one of package basic, *throttle.Slow, hashing.ErrBusy, or says
// that the service failed. Where they come from is only asked for if they are not remembered.
func (f *Finder) present(r *http.Request, headers []string, want policy.Wanted, from func() sessions.Origin,
	t *guard.Turn) (ours bool, err error) {
	ctx, v := r.Context(), &t.Visitor
	if len(headers) != 1 || len(headers[0]) > basic.Longest {
		_, _, err := basic.Read(headers)
		return false, err
	}
	now, header := f.o.Now(), headers[0]
	// show returns what counts of a proof; what is right and counts no longer is kept for the answer.
	show := func(p *proof) *proof {
		if p.over == nil {
			return p
		}
		if !f.otherName(r) {
			t.Over = p.over
		}
		return nil
	}
	// prove returns what the credentials prove for a scope; nil for nothing, or if the header
	// has none.
	prove := func(scope string, verify func(basic.Credentials) (proof, bool, error)) (*proof, error) {
		sum := f.basic.seal(scope, header)
		if p := f.basic.get(sum, now); p != nil {
			ours = true
			return show(p), nil
		}
		c, ok, err := basic.Read(headers)
		if ours = ok; !ok {
			return nil, err
		}
		p, ok, err := f.verified(sum, func() (proof, bool, error) { return verify(c) })
		if !ok {
			return nil, err
		}
		return show(&p), err
	}
	if len(want.Passes) > 0 {
		held, named, err := f.o.Passes.Gate().ByCredentials(ctx, t.Book, want.Passes, t.Place.Path, header,
			func() (basic.Credentials, bool, error) {
				c, ok, err := basic.Read(headers)
				ours = ok
				return c, ok, err
			}, func() string { return from().Network })
		ours = ours || named
		if err != nil {
			return ours, err
		}
		if held != nil {
			return ours, f.hold(r, held, t)
		}
		if named {
			return ours, nil // whoever has another name than a pass would get nothing by it elsewhere either
		}
	}
	rings := want.Keyrings
	if len(rings) > policy.MostKeyrings {
		rings = rings[:policy.MostKeyrings] // what one request makes the service compute has a bound
	}
	for _, ring := range rings {
		p, err := prove("keyring "+ring, func(c basic.Credentials) (proof, bool, error) { return f.openKeyring(ctx, ring, c, from()) })
		if err != nil {
			return ours, err
		}
		if p != nil {
			v.Keyrings = append(v.Keyrings, ring)
		}
	}
	if want.Accounts {
		p, err := prove("account", func(c basic.Credentials) (proof, bool, error) { return f.proveAccount(ctx, c, from()) })
		if err != nil {
			return ours, err
		}
		if p != nil {
			v.SignedIn, v.Account, v.Roles, v.Enrolled = true, p.visitor.Account, p.visitor.Roles, p.visitor.Enrolled
			v.ProofAge, v.Factors = 0, factor.Shown{}
		}
	}
	return ours, nil
}

// verified has credentials verified that are not remembered; the same ones that come in many
// requests at once are verified for the first of them.
func (f *Finder) verified(sum [32]byte, verify func() (proof, bool, error)) (proof, bool, error) {
	type result struct {
		proof
		ok bool
	}
	found, err, _ := f.basic.once.Do(string(sum[:]), func() (any, error) {
		version := f.basic.version()
		p, ok, err := verify()
		if ok {
			f.basic.put(version, sum, p)
		}
		return result{p, ok}, err
	})
	res, _ := found.(result)
	return res.proof, res.ok, err
}

func (f *Finder) proveAccount(ctx context.Context, c basic.Credentials, from sessions.Origin) (proof, bool, error) {
	ctx = context.WithoutCancel(ctx) // others may wait for it
	a, hash, err := f.o.SignIn.Prove(ctx, c.User, c.Password, from)
	now := f.o.Now()
	switch {
	case errors.Is(err, signin.ErrWrong):
		return proof{}, false, nil
	case errors.Is(err, signin.ErrDisabled):
		return proof{
			over: &keyring.Over{Name: a.Name, Disabled: true}, state: f.o.Sessions.StateOf(a.ID), from: now, until: now.Add(remembered),
		}, true, nil
	case errors.Is(err, signin.ErrSecond):
		return proof{
			over: &keyring.Over{Name: a.Name, Second: true}, state: f.o.Sessions.StateOf(a.ID), from: now, until: now.Add(remembered),
		}, true, nil
	}
	if err != nil {
		return proof{}, false, err
	}
	if err := f.o.SignIn.Improve(ctx, a, hash, c.Password); err != nil {
		return proof{}, false, err
	}
	// What was read before a change was written must not be remembered after it.
	now = f.o.Now()
	until := now.Add(remembered)
	if next := a.Changes(now); !next.IsZero() && next.Before(until) {
		until = next
	}
	came := store.Activity{
		At: f.o.Now(), Kind: kind.SignIn, Account: a.Name, AccountID: a.ID, Actor: a.Name, Network: from.Network, Detail: "with HTTP Basic",
	}
	soon, cancel := context.WithTimeout(ctx, time.Second)
	defer cancel()
	if err := f.o.Store.Record(soon, came); err != nil {
		f.o.Activity.Add(came) // written down when it can be
	}
	return proof{
		visitor: sessions.VisitorOf(a, &session.Session{ProvedAt: now}, now), state: f.o.Sessions.StateOf(a.ID), from: now, until: until,
	}, true, nil
}

// openKeyring has credentials taken for a keyring.
func (f *Finder) openKeyring(ctx context.Context, ring string, c basic.Credentials, from sessions.Origin) (proof, bool, error) {
	now := f.o.Now()
	until, ok, err := f.o.Keyrings.Open(ctx, ring, c, from.Network)
	if latest := now.Add(remembered); until.IsZero() || latest.Before(until) {
		until = latest
	}
	var over *keyring.Over
	if errors.As(err, &over) { // as much of a proof, and as dear to find out
		ok, err = true, nil
	}
	return proof{over: over, from: now, until: until}, ok, err
}
