// Package visitor finds out who asks: by the cookie of a session, or by the credentials of HTTP Basic.
package visitor

import (
	"errors"
	"fmt"
	"log/slog"
	"net/http"
	"time"

	"ostiarius/core/accesskey"
	"ostiarius/core/basic"
	"ostiarius/core/policy"
	"ostiarius/core/throttle"
	"ostiarius/service/base/ending"
	"ostiarius/service/base/guard"
	"ostiarius/service/base/hashing"
	"ostiarius/service/held/keyrings"
	"ostiarius/service/held/passes"
	"ostiarius/service/held/shared"
	"ostiarius/service/keep/activity"
	"ostiarius/service/walk/walks"
	"ostiarius/service/who/accesskeys"
	"ostiarius/service/who/sessions"
	"ostiarius/service/who/signin"
	"ostiarius/store"
)

// Options are what a Finder needs.
type Options struct {
	Store    *store.Store
	Now      func() time.Time
	Front    *guard.Front // tells from where a client comes, and how
	Endings  *ending.List
	Sessions *sessions.Records
	Keys     *accesskeys.Keys
	SignIn   *signin.Entrance
	Keyrings *keyrings.Keyrings
	Shared   *shared.Passwords
	Passes   *passes.Passes
	Walks    *walks.Walks
	Activity *activity.Log
	Log      *slog.Logger
}

// A Finder finds out who asks.
type Finder struct {
	o     Options
	basic verified
}

// New returns a Finder, which has nothing in memory yet.
func New(o Options) *Finder {
	f := &Finder{o: o}
	f.basic.clear()
	o.Store.Subscribe(func(n store.News) {
		if n.Keyrings {
			f.basic.clear()
		} else if len(n.Accounts) > 0 || n.Everyone {
			f.basic.changed()
		}
	})
	o.Endings.Subscribe(func(e ending.Ending) {
		if e.Ring != "" {
			f.basic.clear()
		} else if e.Account != 0 {
			f.basic.changed()
		}
	})
	return f
}

// Who is for guard.Guard.
func (f *Finder) Who(h http.Header, r *http.Request) (policy.Visitor, error) {
	if v, ours, err := f.byKey(r); ours {
		if err == nil && v.SignedIn && f.isAnothers(r, &v) {
			return policy.Visitor{}, nil
		}
		return v, err
	}
	v, fresh, err := f.o.Sessions.Recognise(r.Context(), f.Token(r), func() string {
		if from := f.o.Front.Client(r); from.IsValid() {
			return from.String()
		}
		return ""
	})
	if err != nil && r.Context().Err() == nil {
		f.o.Log.Error("a session could not be read", "error", err)
	}
	if fresh != nil {
		f.Renew(h, r, fresh)
	}
	return v, err
}

// byKey returns who brings an access key, and whether there is one: a session beside it does not count then, so that a request is one
// visitor's.
func (f *Finder) byKey(r *http.Request) (v policy.Visitor, ours bool, err error) {
	values := r.Header["Authorization"]
	if len(values) == 0 {
		return v, false, nil
	}
	token, ours := accesskey.In(values)
	if !ours || token == "" {
		return v, ours, nil
	}
	v, err = f.o.Keys.Recognise(r.Context(), token, f.o.Front.Client(r))
	if err != nil && r.Context().Err() == nil {
		f.o.Log.Error("an access key could not be read", "error", err)
	}
	return v, true, err
}

// isAnothers reports whether a request that brings an access key has a session of another account beside it, or one
// that cannot be looked at: then it is nobody's, since nobody knows for whom it is meant.
func (f *Finder) isAnothers(r *http.Request, v *policy.Visitor) bool {
	token := f.Token(r)
	if token == "" {
		return false
	}
	beside, err := f.o.Sessions.Look(r.Context(), token, false)
	return err != nil || beside.SignedIn && beside.Account != v.Account
}

// Again is for guard.Guard.
func (f *Finder) Again(r *http.Request, used bool) (policy.Visitor, error) {
	if v, ours, err := f.byKey(r); ours {
		if err == nil && v.SignedIn && f.isAnothers(r, &v) {
			return policy.Visitor{}, nil
		}
		return v, err
	}
	return f.o.Sessions.Look(r.Context(), f.Token(r), used)
}

// Present is for guard.Guard.
func (f *Finder) Present(r *http.Request, headers []string, want policy.Wanted, t *guard.Turn) (bool, error) {
	v := &t.Visitor
	if len(want.Passes) > 0 && len(headers) == 1 { // known a moment ago: nothing has to be found out
		if held := f.o.Passes.Gate().Known(t.Book, want.Passes, t.Place.Path, headers[0]); held != nil {
			return true, f.hold(r, held, t)
		}
	}
	from := func() sessions.Origin {
		o := sessions.Origin{Agent: r.UserAgent(), Device: cookieOf(r, deviceCookie(f.o.Front.Secure(r)))}
		if v.From.IsValid() {
			o.Network = v.From.String()
		}
		return o
	}
	ours, err := f.present(r, headers, want, from, t)
	if later := Later(err); later != nil {
		return ours, later
	}
	if err != nil && !errors.Is(err, basic.ErrSeveral) && !errors.Is(err, basic.ErrMalformed) && r.Context().Err() == nil {
		f.o.Log.Error("credentials could not be looked at", "error", err)
	}
	return ours, err
}

// Later says what somebody is told who has to wait before a proof is looked at; nil if the error is
// another, or none.
func Later(err error) *guard.Later {
	var slow *throttle.Slow
	switch {
	case errors.As(err, &slow):
		wait := slow.Wait.Truncate(time.Second) + time.Second
		return &guard.Later{
			Status: http.StatusTooManyRequests, Wait: wait, Text: "Too many attempts. You can try again in " + inWords(wait) + ".",
		}
	case errors.Is(err, hashing.ErrBusy):
		return &guard.Later{
			Status: http.StatusServiceUnavailable, Wait: 5 * time.Second, Busy: true,
			Text: "Too many people are signing in right now. Please try again in a few seconds.",
		}
	}
	return nil
}

func inWords(d time.Duration) string {
	if d < 2*time.Second {
		return "a second"
	}
	if d < 2*time.Minute {
		return fmt.Sprintf("%d seconds", int(d.Seconds()))
	}
	return fmt.Sprintf("%d minutes", int((d + time.Minute - 1).Minutes()))
}
