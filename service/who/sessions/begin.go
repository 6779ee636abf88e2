package sessions

import (
	"context"
	"errors"
	"time"

	"ostiarius/core/account"
	"ostiarius/core/brief"
	"ostiarius/core/factor"
	"ostiarius/core/message"
	"ostiarius/core/policy"
	"ostiarius/core/secret"
	"ostiarius/core/session"
	"ostiarius/core/words"
	"ostiarius/store"
)

// An Origin is from where somebody comes with a proof.
type Origin struct {
	Network  string         // the client's address
	Agent    string         // the User-Agent header
	Before   string         // the token that the browser brought, if any; its session ends when another begins
	Language words.Language // in which their browser is answered
	Device   string         // the mark of a browser that has signed in before, if any
	Known    string         // the token of one that is not asked for a second factor, if any
}

// A Begun is a session that has just begun, and what its browser is to be given.
type Begun struct {
	Token   string
	Visitor policy.Visitor
	Cookie
}

// A Cookie says how long a browser is to keep the token of a session.
type Cookie struct {
	Remembered bool          // the session outlasts the browser
	Lasts      time.Duration // how long a remembered session lasts; 0 for no end
}

// A Renewal is the fresh token of a session.
type Renewal struct {
	Token string
	Cookie
}

// Begin begins a session for an account as it was read, by somebody who has just proven to be its owner,
// and writes the event and the messages. The error is store.ErrNone if what was proven holds no longer: the account has got
// another password, is disabled or gone.
func (r *Records) Begin(ctx context.Context, a *account.Account, by factor.Set, from Origin, remember bool, e store.Activity,
	mails ...message.Message) (Begun, error) {
	token, s := r.Prepare(a, by, from, remember)
	var before *secret.TokenHash
	if h, _, ok := r.kept.current(from.Before, s.MadeAt); ok {
		before = &h
	}
	if err := r.o.Store.AddSession(ctx, s, a.Proofs, before, mails, e); err != nil {
		return Begun{}, err
	}
	if before != nil {
		r.kept.drop(*before)
	}
	return r.Begun(token, s, a), nil
}

// Prepare makes a session of somebody who has just shown some factors, that is written down by whoever asks for it, together with
// something else.
func (r *Records) Prepare(a *account.Account, by factor.Set, from Origin, remember bool) (token string, s *session.Session) {
	token, hash := secret.NewToken()
	now := r.o.Now()
	s = &session.Session{
		Hash: hash, Account: a.ID, MadeAt: now, SeenAt: now, Remembered: remember,
		Network: from.Network, Agent: brief.Cut(from.Agent, 300), Rights: session.Rights(a.Roles(now)),
	}
	for _, k := range by.Kinds() {
		s.Prove(k, now)
	}
	return token, s
}

// Begun says what a session that was written down is to its browser.
func (r *Records) Begun(token string, s *session.Session, a *account.Account) Begun {
	return Begun{token, VisitorOf(a, s, s.MadeAt), r.cookieOf(s, a, s.MadeAt)}
}

func (r *Records) cookieOf(s *session.Session, a *account.Account, now time.Time) Cookie {
	return Cookie{s.Remembered, r.o.Book().SessionsFor(a.Roles(now)).Remembered}
}

// Of returns the session of a token, and its account; old says that another token has replaced it a moment
// ago. The error is store.ErrNone if there is no such session, or it has expired.
func (r *Records) Of(ctx context.Context, token string) (s *session.Session, a *account.Account, old bool, err error) {
	now := r.o.Now()
	hash, renewed, ok := r.kept.current(token, now)
	if !ok {
		return nil, nil, false, store.ErrNone
	}
	if s, a, err = r.load(ctx, hash); err != nil {
		return nil, nil, false, err
	}
	e := newEntry(s, a, r.o.Book(), now)
	if used := r.kept.seen(hash); used.After(s.SeenAt) {
		e.seen.Store(used.UnixMilli())
	}
	if !e.alive(now.UnixMilli()) {
		return nil, nil, false, store.ErrNone
	}
	return s, a, renewed != nil, nil
}

// Proved notes that the owner of a session has proven once more to be that, and gives it another token; nil
// if it has just got one, to which the one that was brought does not lead. The error is store.ErrNone if
// the session has ended.
func (r *Records) Proved(ctx context.Context, token string, by factor.Kind, s *session.Session, a *account.Account,
	e store.Activity) (*Renewal, error) {
	now := r.o.Now()
	if _, old, _ := r.kept.current(token, now); old != nil {
		return nil, nil
	}
	next, hash := secret.NewToken()
	proven := *s
	if (proven.Shown == factor.Times{}) {
		proven.Shown = proven.Shown.At(factor.Password, s.ProvedAt) // of a version before
	}
	proven.Prove(by, now)
	_, err := r.kept.renew(s, hash, now, func() error { return r.o.Store.SetProved(ctx, s.Hash, hash, &proven, now, e) })
	if errors.Is(err, errUnderWay) && r.kept.settled(ctx, s.Hash, now) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	return &Renewal{next, r.cookieOf(s, a, now)}, nil
}
