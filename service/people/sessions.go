package people

import (
	"context"
	"errors"
	"slices"
	"strings"
	"sync/atomic"
	"time"

	"ostiarius/core/account"
	kind "ostiarius/core/activity"
	"ostiarius/core/policy"
	"ostiarius/core/secret"
	"ostiarius/core/session"
	"ostiarius/service/ending"
	"ostiarius/service/mistake"
	"ostiarius/store"
)

// SignOut ends the session of a token. A token without a session is no error. The error is
// *ending.Unwritten if it has ended but that could not be written down yet.
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
		return r.endings.Take(ctx, ending.Ending{Forget: func() { r.sessions.drop(hash) }, Token: &hash, What: "that somebody has signed out"}, func(ctx context.Context) error {
			return r.store.EndSession(ctx, hash, store.Event{At: r.now(), Kind: kind.SignOut, Network: network})
		})
	}
	return r.endings.Take(ctx, ending.Ending{Forget: func() { r.sessions.drop(s.Hash) }, Token: &s.Hash, What: "that " + a.Name + " has signed out"}, func(ctx context.Context) error {
		return r.store.EndSession(ctx, s.Hash, store.Event{At: r.now(), Kind: kind.SignOut, Account: a.Name, Actor: a.Name, Network: network})
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
	err = r.endings.Take(ctx, ending.Ending{Forget: func() { r.sessions.drop(s.Hash) }, Token: &s.Hash, What: "that a session of " + a.Name + " has ended"}, func(ctx context.Context) error {
		return r.store.EndSession(ctx, s.Hash, store.Event{
			At: now, Kind: kind.SessionEnded, Account: a.Name, Network: network, Detail: "session " + s.Handle() + ": a token that had been replaced was used again; it may have been stolen",
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
	if a.Disabled || r.endings.HasSession(s.Hash, s.MadeAt, a.ID) {
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
	none := mistake.Unknown("there is no session %q; perhaps it has ended already", cut(handle, 40))
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
	err = r.endings.Take(ctx, ending.Ending{Forget: func() { r.sessions.drop(s.Hash) }, Token: &s.Hash, What: "that a session of " + s.Name + " has ended"}, func(ctx context.Context) error {
		return r.store.EndSession(ctx, s.Hash, store.Event{At: r.now(), Kind: kind.SessionEnded, Account: s.Name, Actor: actor, Detail: "session " + handle})
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
	err = r.endings.Take(ctx, ending.Ending{Forget: func() { r.forget(a.ID) }, SessionsOf: a.ID, But: but, Before: r.now(), What: "that the sessions of " + a.Name + " have ended"}, func(ctx context.Context) error {
		n, err := r.store.EndSessions(ctx, a.ID, but, r.event(kind.SessionsDone, a, actor, ""))
		number.Store(n)
		return err
	})
	return number.Load(), err
}

// EndAllSessions signs everybody out. It returns how many sessions ended.
func (r *Register) EndAllSessions(ctx context.Context, actor string) (ended int64, err error) {
	var number atomic.Int64
	err = r.endings.Take(ctx, ending.Ending{Forget: r.sessions.clear, All: true, Before: r.now(), What: "that all sessions have ended"}, func(ctx context.Context) error {
		n, err := r.store.EndAllSessions(ctx, store.Event{At: r.now(), Kind: kind.SessionsDone, Actor: actor, Detail: "all of everybody"})
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

// Sweep removes the records of sessions and links that have ended.
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
	)
}

// Flush writes down when the sessions in memory were last used.
func (r *Register) Flush(ctx context.Context) error {
	return r.store.Seen(ctx, r.sessions.used())
}
