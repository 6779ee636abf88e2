// Package sessions is what the service does with sessions: they begin, are recognised by their tokens,
// and end.
package sessions

import (
	"context"
	"errors"
	"math"
	"slices"
	"strings"
	"time"

	"ostiarius/core/account"
	kind "ostiarius/core/activity"
	"ostiarius/core/policy"
	"ostiarius/core/secret"
	"ostiarius/core/session"
	"ostiarius/service/base/ending"
	"ostiarius/store"
)

// Options are what Records need.
type Options struct {
	Store   *store.Store
	Book    func() *policy.Book // the policy now in force
	Now     func() time.Time
	Endings *ending.List
}

// Records are the sessions of a service: those that are written down, and those in use in memory.
type Records struct {
	o    Options
	kept *cache
}

// New returns the sessions in o.Store.
func New(o Options) *Records {
	r := &Records{o, newCache()}
	o.Store.Subscribe(func(n store.News) {
		for id := range n.Accounts {
			r.kept.forget(id)
		}
	})
	o.Endings.Subscribe(func(e ending.Ending) {
		if e.Account != 0 {
			r.kept.forget(e.Account)
		}
	})
	return r
}

// renewWithin is how long a page waits for the token of its session to be replaced.
const renewWithin = time.Second

// Recognise returns who brings the token, as far as it proves anything: the zero Visitor if
// it is forged, has ended or is empty. When the rights of the account have changed since
// the token was made, the session gets a fresh token, which the browser must be given. The
// error says that the records could not be read; the visitor is then nobody.
//
// The token before still counts for a minute, for the requests that a browser had sent already:
// with the rights and the age of the proof that it had, and no others. It gets no fresh token, so
// whoever has an old one cannot follow. One that is brought later than that, while the fresh one is
// in use, has been stolen, or the fresh one has: the session ends. From says from which address it
// came, and is only asked for then.
func (r *Records) Recognise(ctx context.Context, token string, from func() string) (v policy.Visitor, fresh *Renewal, err error) {
	now, book := r.o.Now(), r.o.Book()
	if e := r.kept.recognise(token, book, now); e != nil {
		return r.enter(e, now), nil, nil
	}
	hash, ok := secret.HashToken(token)
	if !ok {
		return v, nil, nil
	}
	e, renewed := r.kept.get(hash, book, now), ""
	if e == nil {
		if current, old := r.kept.follow(hash, now); old != nil {
			v, err := r.asBefore(ctx, current, old, book, now)
			return v, nil, err
		}
		seen := r.kept.version()
		s, a, err := r.load(ctx, hash)
		if errors.Is(err, store.ErrNone) {
			if r.kept.settled(ctx, hash, now) {
				return r.Recognise(ctx, token, from) // which stands for another since a moment
			}
			return v, nil, r.stray(ctx, hash, now, from)
		}
		if err != nil {
			return v, nil, err
		}
		if rights := session.Rights(a.Roles(now)); rights != s.Rights {
			next, nextHash := secret.NewToken()
			soon, cancel := context.WithTimeout(ctx, renewWithin)
			used, err := r.kept.renew(s, nextHash, now, func() error { return r.o.Store.RenewSession(soon, hash, nextHash, rights, now) })
			cancel()
			if err != nil {
				switch {
				case r.kept.settled(ctx, hash, now): // another request was first
					return r.Recognise(ctx, token, from)
				case errors.Is(err, store.ErrNone): // it has just ended
					return v, nil, nil
				}
				// The records are slow, and what it proves is known: it is renewed with a later request.
				return reduced(newEntry(s, a, book, now), strings.Fields(s.Rights), s, now), nil, nil
			}
			if used.After(s.SeenAt) {
				s.SeenAt = used
			}
			s.Hash, s.Rights, renewed = nextHash, rights, next
			seen = r.kept.version()
		}
		e = r.kept.put(seen, s, a, book, now)
	}
	if v = r.enter(e, now); !v.SignedIn {
		return v, nil, nil
	}
	if renewed != "" {
		fresh, token = &Renewal{renewed, Cookie{e.session.Remembered, e.limits.Remembered}}, renewed
	}
	r.kept.learn(token, e)
	return v, fresh, nil
}

// asBefore returns who brings a token that another has replaced a moment ago: what it proved
// before, as far as it would still hold. The session does not count as used.
func (r *Records) asBefore(ctx context.Context, current secret.TokenHash, old *renewal, book *policy.Book,
	now time.Time) (v policy.Visitor, err error) {
	e := r.kept.get(current, book, now)
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
	return reduced(e, old.roles, &old.proven, now), nil
}

// reduced returns who a session is of that has no more than some roles, and the proofs that it had before.
func reduced(e *entry, roles []string, before *session.Session, now time.Time) (v policy.Visitor) {
	if !e.alive(now.UnixMilli()) {
		return v
	}
	v = e.visitor
	v.Roles = slices.DeleteFunc(slices.Clone(v.Roles), func(role string) bool { return !slices.Contains(roles, role) })
	// What was taken back meanwhile is no proof by the token before either.
	still := *before
	for _, k := range before.Shown.Kinds().Kinds() {
		if e.session.Shown[k].IsZero() {
			still.Unprove(k)
		}
	}
	v.ProofAge, v.Factors = max(still.ProofAge(now), e.session.ProofAge(now)), still.Factors(now)
	return v
}

// stray looks at a token that stands for no session: if it once did, and the one that took its
// place is in use, one of the two is in the wrong hands, and nobody can say which.
func (r *Records) stray(ctx context.Context, hash secret.TokenHash, now time.Time, from func() string) error {
	s, at, err := r.o.Store.Replaced(ctx, hash)
	if errors.Is(err, store.ErrNone) {
		return nil
	}
	if err != nil {
		return err
	}
	if used := r.kept.seen(s.Hash); used.After(s.SeenAt) {
		s.SeenAt = used
	}
	if now.Sub(at) < renewalLasts && !at.After(now) || !s.SeenAt.After(at) {
		return nil // the minute, of a process before this one; or nobody has got the fresh one
	}
	a, err := r.o.Store.AccountByID(ctx, s.Account)
	if err != nil {
		return err
	}
	network := ""
	if from != nil {
		network = from()
	}
	err = r.o.Endings.Take(ctx,
		ending.Ending{Forget: func() { r.kept.drop(s.Hash) }, Token: &s.Hash, What: "that a session of " + a.Name + " has ended"},
		func(ctx context.Context) error {
			return r.o.Store.EndSession(ctx, s.Hash, store.Activity{
				At: now, Kind: kind.SessionEnded, Account: a.Name, Network: network,
				Detail: "session " + s.Handle() + ": a token that had been replaced was used again; it may have been stolen",
			})
		})
	var unwritten *ending.Unwritten
	if errors.As(err, &unwritten) {
		err = nil // it has ended
	}
	return err
}

// Look returns who brings the token of a request that is under way, whose answer can
// carry no fresh token any more. The session counts as in use only if used.
func (r *Records) Look(ctx context.Context, token string, used bool) (policy.Visitor, error) {
	now, book := r.o.Now(), r.o.Book()
	e := r.kept.recognise(token, book, now)
	if e == nil {
		hash, old, ok := r.kept.current(token, now)
		switch {
		case !ok:
			return policy.Visitor{}, nil
		case old != nil:
			return r.asBefore(ctx, hash, old, book, now)
		}
		if e = r.kept.get(hash, book, now); e == nil {
			seen := r.kept.version()
			s, a, err := r.load(ctx, hash)
			switch {
			case errors.Is(err, store.ErrNone):
				return policy.Visitor{}, nil
			case err != nil:
				return policy.Visitor{}, err
			case session.Rights(a.Roles(now)) == s.Rights:
				e = r.kept.put(seen, s, a, book, now)
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
func (r *Records) enter(e *entry, now time.Time) policy.Visitor {
	at := now.UnixMilli()
	if !e.alive(at) {
		return policy.Visitor{}
	}
	r.kept.touch(e, at)
	v := e.visitor
	if v.ProofAge = e.session.ProofAge(now); e.factors {
		v.Factors = e.session.Factors(now)
	}
	return v
}

// A Term says how long a session holds and what it has proven.
type Term struct {
	Proven time.Time     // when its owner last proved to be that
	Ends   time.Time     // whatever happens; zero for no end
	Idle   time.Duration // without being used; 0 for no limit
}

// Term returns that of the session whose token has just been recognised; false if it is not known.
func (r *Records) Term(token string) (t Term, ok bool) {
	e := r.kept.recognise(token, r.o.Book(), r.o.Now())
	if e == nil {
		return t, false
	}
	t.Proven, t.Idle = e.session.ProvedAt, time.Duration(e.idle)*time.Millisecond
	if e.ends != math.MaxInt64 {
		t.Ends = time.UnixMilli(e.ends)
	}
	return t, true
}

// load reads a session and its account from the records. The error is ErrNone if either
// is gone or the account is disabled.
func (r *Records) load(ctx context.Context, hash secret.TokenHash) (*session.Session, *account.Account, error) {
	look := r.o.Endings.Look()
	s, err := r.o.Store.Session(ctx, hash)
	if err != nil {
		return nil, nil, err
	}
	a, err := r.o.Store.AccountByID(ctx, s.Account)
	if err != nil {
		return nil, nil, err
	}
	if a.Disabled || look.HasSession(s.Hash, s.MadeAt, a.ID) {
		return nil, nil, store.ErrNone
	}
	return s, a, nil
}

// VisitorOf returns who an account is to the policy, as far as a session has proven.
func VisitorOf(a *account.Account, s *session.Session, now time.Time) policy.Visitor {
	key, err := account.Key(a.Name)
	if err != nil {
		return policy.Visitor{} // no account has such a name; nobody knows whom it would be taken for
	}
	return policy.Visitor{
		SignedIn: true, Account: key, Roles: a.Roles(now), ProofAge: s.ProofAge(now), Factors: s.Factors(now), Enrolled: a.Enrolled,
	}
}
