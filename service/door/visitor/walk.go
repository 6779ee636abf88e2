package visitor

import (
	"net/http"
	"slices"
	"time"

	"ostiarius/core/policy"
	"ostiarius/service/base/guard"
	"ostiarius/service/walk/walks"
)

// Stand is the name of the account that servers behind are told of whom a walk stands in for.
const Stand = walks.Stand

// A Walker knows the walks through the site that browsers are on.
type Walker struct{ f *Finder }

// Walks returns what knows the walks.
func (f *Finder) Walks() Walker { return Walker{f} }

// Walking is for guard.Guard. A cookie of a walk that has ended leaves its browser with nothing until it is gone, so that nobody
// takes for a walk what is their own session.
func (w Walker) Walking(h http.Header, r *http.Request, book *policy.Book) *guard.Walk {
	token := cookieOf(r, WalkCookie(w.f.o.Front.Secure(r)))
	if token == "" {
		return nil
	}
	walk, found := w.f.o.Walks.Find(token)
	switch {
	case !found:
		w.Forget(h, r)
		return &guard.Walk{}
	case walk.By == "":
		return &guard.Walk{As: walk.As, Changes: walk.Changes}
	}
	// Whoever walks in a browser is signed in there, and sees no more than they may, from where they are and with the proof that they
	// have given; what a steward can hand out themselves counts as had.
	own, is, err := w.steward(r, walk, book)
	switch {
	case err != nil: // it cannot be known at the moment, and may be so again
		return &guard.Walk{}
	case !is:
		w.Forget(h, r)
		return &guard.Walk{}
	}
	own.From = w.f.o.Front.Client(r)
	own.Shared, own.Passes, own.Keyrings = walk.As.Shared, walk.As.Passes, walk.As.Keyrings
	return &guard.Walk{As: walk.As, Changes: walk.Changes, Within: &own}
}

// steward returns the steward whose walk it is, if that is who sends the request.
func (w Walker) steward(r *http.Request, walk walks.Walk, book *policy.Book) (own policy.Visitor, is bool, err error) {
	own, err = w.f.o.Sessions.Look(r.Context(), w.f.Token(r), false)
	return own, err == nil && own.SignedIn && own.Account == walk.By && slices.Contains(book.RolesOf(&own), policy.Steward), err
}

// Of returns the walk of the steward who sends a request.
func (w Walker) Of(r *http.Request) (walks.Walk, bool) {
	walk, ok := w.f.o.Walks.Find(cookieOf(r, WalkCookie(w.f.o.Front.Secure(r))))
	if !ok || walk.By == "" {
		return walks.Walk{}, false
	}
	_, ok, _ = w.steward(r, walk, guard.TurnOf(r).Book)
	return walk, ok
}

// Give gives the browser of a steward the token of a walk. It is kept for longer than the walk lasts, so that what is sent from a
// page of a walk that is just over is a stranger's, and not the steward's own.
func (w Walker) Give(h http.Header, r *http.Request, token string, lasts time.Duration) {
	w.f.set(h, r, WalkCookie(w.f.o.Front.Secure(r)), token, int((lasts + time.Hour).Seconds()))
}

// Forget takes it away again.
func (w Walker) Forget(h http.Header, r *http.Request) {
	w.f.set(h, r, WalkCookie(w.f.o.Front.Secure(r)), "", -1)
}

// End ends a walk before its time.
func (w Walker) End(walk walks.Walk) error { return w.f.o.Walks.End(walk.By, walk.ID) }
