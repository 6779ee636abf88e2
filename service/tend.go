package service

import (
	"context"
	"errors"
	"ostiarius/service/base/chores"
	"ostiarius/service/rooms"
	"time"
)

// tend does the chores of the rooms and of the records until ctx ends: each when it is its time, one after the other. It calls report
// with what went wrong.
func (s *Service) tend(ctx context.Context, report func(error)) {
	all := []chores.Chore{chores.Sweep(s.store.GiveBack)}
	for _, room := range rooms.Which[chores.Room](s.rooms) {
		all = append(all, room.Chores()...)
	}
	ticker := time.NewTicker(time.Second)
	defer ticker.Stop()
	began, clock, swept := time.Now(), newClockwatch(wallClock()), false
	try := func(err error) {
		if err != nil && ctx.Err() == nil {
			report(err)
		}
	}
	for i := sweepFirst; ; i++ {
		select {
		case <-ticker.C:
		case <-ctx.Done():
			last := context.WithoutCancel(ctx)
			for _, c := range all {
				if c.Last {
					if err := c.Do(last); err != nil {
						report(err)
					}
				}
			}
			return
		}
		looked := false
		for _, c := range all {
			if c.Every == 0 || i%int(c.Every/time.Second) != 0 {
				continue
			}
			if c.Sweeps && !looked {
				var jumped bool
				if swept, jumped = clock.look(time.Since(began), wallClock()); jumped {
					report(errors.New("the clock has jumped; what has ended is not swept for a day"))
				}
				looked = true
			}
			if !c.Sweeps || swept {
				try(c.Do(ctx))
			}
		}
	}
}

// sweepFirst is in which second of ten minutes a service begins, so that what has ended is swept a minute later.
const sweepFirst = 541

// A clockwatch says whether the clock can be trusted to tell what has ended. One that has jumped ahead
// would make everything look so. What looks so stays shut, but is kept for a day, in case the clock is put
// right.
type clockwatch struct {
	wall    time.Time     // at the time elapsed
	elapsed time.Duration // by the clock that only goes forward
	from    time.Duration // from when on it is trusted
}

func newClockwatch(wall time.Time) *clockwatch {
	return &clockwatch{wall: wall, from: 30 * time.Second}
}

// look compares both clocks: the time that has passed by the one that only goes forward, and what the
// other says now.
func (c *clockwatch) look(elapsed time.Duration, wall time.Time) (trusted, jumped bool) {
	drift := wall.Sub(c.wall) - (elapsed - c.elapsed)
	if drift > 10*time.Minute || drift < -10*time.Minute {
		c.wall, c.elapsed, c.from = wall, elapsed, elapsed+24*time.Hour
		jumped = true
	}
	return elapsed >= c.from, jumped
}

// wallClock is the time without the reading that only goes forward.
func wallClock() time.Time { return time.Now().Round(0) }
