// Package known remembers from which networks a password was right before. Strangers elsewhere who guess at it slow each other, and
// not its owner at such a place.
package known

import (
	"context"
	"sync"
	"time"

	"ostiarius/core/throttle"
	"ostiarius/service/base/chores"
	"ostiarius/store"
)

// Options are what Places need.
type Options struct {
	Store *store.Store
	Now   func() time.Time
}

// Places are the places that are known.
type Places struct {
	o     Options
	mu    sync.Mutex
	noted map[place]time.Time // when it was last written down
}

type place struct{ what, network string }

const (
	noteEvery = 24 * time.Hour
	forgotten = 180 * 24 * time.Hour // after which a place is one as any other
	mostNoted = 50_000
)

// New returns the places in o.Store.
func New(o Options) *Places { return &Places{o: o, noted: map[place]time.Time{}} }

// Limits returns by what a try at a password is slowed: the one who tries from their network by tries that are named by pair, all
// who share the network together, and whoever tries where what it is of was never right, together. The records are asked whatever
// there is.
func (p *Places) Limits(ctx context.Context, what, pair, network string) []throttle.Key {
	limits := []throttle.Key{
		{Name: pair + " " + network, Rule: throttle.Pair},
		{Name: "network " + network, Rule: throttle.Network},
	}
	knows, err := p.o.Store.KnowsPlace(ctx, what, network, p.o.Now().Add(-forgotten))
	if err != nil || !knows {
		limits = append(limits, throttle.Key{Name: what, Rule: throttle.Account})
	}
	return limits
}

// Right notes that a password was right at a place. If that cannot be written down, it is known no better than before.
func (p *Places) Right(ctx context.Context, what, network string) {
	now, at := p.o.Now(), place{what, network}
	p.mu.Lock()
	if last, ok := p.noted[at]; ok && now.Sub(last) < noteEvery && !last.After(now) {
		p.mu.Unlock()
		return
	}
	if len(p.noted) >= mostNoted {
		clear(p.noted)
	}
	p.noted[at] = now
	p.mu.Unlock()
	ctx, cancel := context.WithTimeout(ctx, time.Second)
	defer cancel()
	if err := p.o.Store.SetPlace(ctx, what, network, now); err != nil {
		p.mu.Lock()
		delete(p.noted, at)
		p.mu.Unlock()
	}
}

// Sweep removes what is known no longer.
func (p *Places) Sweep(ctx context.Context) error {
	return p.o.Store.SweepPlaces(ctx, p.o.Now().Add(-forgotten))
}

// Chores is for chores.Room.
func (p *Places) Chores() []chores.Chore {
	return []chores.Chore{chores.Sweep(p.Sweep)}
}
