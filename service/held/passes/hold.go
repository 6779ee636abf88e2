package passes

import (
	"context"
	"crypto/subtle"
	"errors"
	"net/netip"
	"slices"
	"time"

	kind "ostiarius/core/activity"
	"ostiarius/core/message"
	"ostiarius/core/pass"
	"ostiarius/core/policy"
	"ostiarius/core/secret"
	"ostiarius/core/throttle"
	"ostiarius/service/base/guard"
	"ostiarius/store"
)

// A Held is a pass that somebody has shown to hold, whatever it is worth.
type Held struct {
	passes *Passes
	of     *live
	book   *policy.Book
	path   string // for which it was asked
	at     time.Time

	// With each request that a pass opens come these, in one piece.
	alone struct {
		passes [1]guard.Pass
		kinds  [1]string
	}
	delivery delivery
}

// Alone returns the pass as the only one of a visitor, and its kind.
func (h *Held) Alone() ([]guard.Pass, []string) {
	h.alone.passes[0], h.alone.kinds[0] = h, h.Kind()
	return h.alone.passes[:], h.alone.kinds[:]
}

// Pass returns the pass as it is now.
func (h *Held) Pass() *pass.Pass { return h.of.is.Load() }

// Kind returns the kind of the pass.
func (h *Held) Kind() string { return h.of.is.Load().Kind }

// State returns what the pass is worth now.
func (h *Held) State() pass.State { return h.of.state(h.at) }

// Opens reports whether the pass opens the place for which it was asked. Of one that is used up, what counted today can
// be fetched again, and with resumes what has been downloaded but for its end can be finished.
func (h *Held) Opens(ctx context.Context, resumes bool) (bool, error) {
	if !h.Covers() {
		return false, nil
	}
	switch state := h.State(); {
	case state.Opens():
		return true, nil
	case state == pass.UsedUp:
		return h.passes.finishing(ctx, h.of, h.path, resumes)
	}
	return false, nil
}

// Covers reports whether the pass is for the place, whatever it is worth.
func (h *Held) Covers() bool { return h.of.is.Load().Covers(h.path) }

// held returns what a holding is at a place; nil if its credentials count no longer, or it is of no kind that is asked
// for and that the policy has.
func (p *Passes) held(h holding, book *policy.Book, kinds []string, path string) *Held {
	is, now := h.of.is.Load(), p.o.Now()
	if !slices.Contains(kinds, is.Kind) || policy.PassNamed(book, is.Kind) == nil || !is.Counts(h.made, now) {
		return nil
	}
	h.of.used.Store(now.Unix())
	return &Held{passes: p, of: h.of, book: book, path: path, at: now}
}

// ErrWrong says that a password is not that of a pass.
var ErrWrong = errors.New("these are not the name and the password of a pass")

// verify takes a password for a pass. The error is store.ErrNone if there is no such pass, ErrWrong or *throttle.Slow.
func (p *Passes) verify(ctx context.Context, id, password, from string) (holding, error) {
	now, network := p.o.Now(), throttle.NetworkNamed(from)
	limits := p.o.Places.Limits(ctx, "pass "+id, "pass "+id, network)
	if wait := p.o.Limiter.Try(now, limits...); wait > 0 {
		return holding{}, &throttle.Slow{Wait: wait}
	}
	defer p.o.Limiter.Over(limits...)
	l, err := p.get(ctx, id)
	if err != nil {
		if !errors.Is(err, store.ErrNone) {
			p.o.Limiter.TakeBack(limits...)
		}
		return holding{}, err
	}
	is, brought := l.is.Load(), pass.HashPassword(id, password)
	made := is.Since
	if subtle.ConstantTimeCompare(is.Password[:], brought[:]) != 1 {
		if subtle.ConstantTimeCompare(is.Old[:], brought[:]) != 1 || !now.Before(is.OldUntil) {
			p.o.Activity.Add(store.Activity{
				At: now, Kind: kind.PassFailed, AccountID: store.NoAccount, Network: from, Detail: "pass " + id + ", a wrong password",
			})
			return holding{}, ErrWrong
		}
		made = is.OldSince
	}
	p.o.Limiter.Succeeded(limits...)
	p.o.Places.Right(ctx, "pass "+id, network)
	return holding{l, made}, nil
}

// How long a use from the same network is not looked at again.
const seenAgain = 10 * time.Minute

// Use notes that the pass is used from an address, and reports whether it still opens the place. The first use makes
// it begin; use from more networks than its kind allows marks it, and pauses it if the kind says so.
func (h *Held) Use(ctx context.Context, from netip.Addr) (bool, error) {
	p, l := h.passes, h.of
	now := h.at
	at := pass.Network(from)
	if last := l.from.Load(); last != nil && last.network == at && !now.Before(last.at) && now.Sub(last.at) < seenAgain &&
		!l.is.Load().FirstUsed.IsZero() {
		return true, nil
	}
	ctx, network := context.WithoutCancel(ctx), at.String()
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.seen == nil {
		seen, err := p.o.Store.PassNetworks(ctx, l.id, now.Add(-pass.SpreadWithin))
		if err != nil {
			return false, err
		}
		l.seen = seen
	}
	for other, at := range l.seen {
		if now.Sub(at) >= pass.SpreadWithin {
			delete(l.seen, other)
		}
	}
	last, before := l.seen[network]
	if before && now.Sub(last) < seenAgain && !now.Before(last) && !l.is.Load().FirstUsed.IsZero() {
		l.from.Store(&sighting{at, last}) // two devices in turns write nothing
		return l.opensOrFinishes(now), nil
	}
	spread, pause := false, false
	if d := policy.PassNamed(h.book, l.is.Load().Kind); d != nil && d.Networks > 0 && !before && len(l.seen) >= d.Networks {
		spread, pause = true, d.Pause
	}
	err := p.changeLocked(ctx, l, func(is *pass.Pass, now time.Time) (store.PassChange, error) {
		c := store.PassChange{Network: network}
		is.LastUsed = now
		if is.FirstUsed.IsZero() {
			is.Until = is.Starts(now)
			is.FirstUsed = now
			c.Story = append(c.Story, pass.StoryEntry{At: now, What: pass.FirstUse})
		}
		if spread && (pause || now.Sub(is.Spread) >= pass.SpreadWithin) {
			is.Spread = now
			c.Story = append(c.Story, pass.StoryEntry{At: now, What: pass.SpreadOut, Detail: network})
			e := p.event(kind.PassSpread, "", is, "the latest is "+network)
			c.Event = &e
		}
		if pause && is.State(now).Opens() {
			if err := p.pauseSpread(is, now, &c); err != nil {
				return c, err
			}
		}
		return c, nil
	})
	if err != nil {
		return false, err
	}
	l.seen[network] = now
	l.from.Store(&sighting{at, now})
	return l.opensOrFinishes(now), nil
}

// opensOrFinishes reports whether the pass still opens what Opens said that it does.
func (l *live) opensOrFinishes(now time.Time) bool {
	state := l.state(now)
	return state.Opens() || state == pass.UsedUp
}

// pauseSpread pauses a pass that was posted somewhere, and has its recipient mailed a link that opens it again.
func (p *Passes) pauseSpread(is *pass.Pass, now time.Time, c *store.PassChange) error {
	token, hash := secret.NewToken()
	is.Paused, is.Why, is.Again = now, pass.BySpread, hash
	c.Story = append(c.Story, pass.StoryEntry{At: now, What: pass.PausedNow, Detail: "since it was used from too many networks"})
	if is.Address != "" {
		c.Mails = append(c.Mails, p.mail(message.PassPaused, is, now).With(p.o.Book().Prefix+"/pass?again="+token, now.Add(againLasts)))
	}
	return nil
}

// How long a link counts that opens a pass again.
const againLasts = 30 * 24 * time.Hour

var _ guard.Pass = (*Held)(nil)
