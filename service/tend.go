package service

import (
	"context"
	"errors"
	"time"
)

// What is kept in order now and then, each by its own kind.
const (
	flushEvery = 20  // seconds: when sessions were last used
	sweepEvery = 600 // seconds: what has ended
	sweepFirst = 60
)

// tend writes down what happened at the doors and when sessions were last used, tries again what
// could not be written, and sweeps what has ended, until ctx ends. It calls report with what went
// wrong.
func (s *Service) tend(ctx context.Context, report func(error)) {
	ticker := time.NewTicker(time.Second)
	defer ticker.Stop()
	began, clock := time.Now(), newClockwatch(wallClock())
	try := func(err error) {
		if err != nil && ctx.Err() == nil {
			report(err)
		}
	}
	for i := 1; ; i++ {
		select {
		case <-ticker.C:
		case <-ctx.Done():
			last := context.WithoutCancel(ctx)
			if err := errors.Join(s.rooms.Sessions.Flush(last), s.rooms.Keys.Flush(last), s.rooms.Activity.Close(last)); err != nil {
				report(err)
			}
			return
		}
		try(s.rooms.Activity.Flush(ctx))
		s.rooms.Endings.TryAgain(ctx)
		try(s.rooms.Recovery.Answer(ctx))
		try(s.rooms.Members.Tend(ctx))
		try(s.rooms.Factors.Tend(ctx))
		try(s.rooms.Elsewhere.Tend(ctx))
		try(s.rooms.Teller.Collect(ctx))
		if i%flushEvery == 0 {
			try(s.rooms.Sessions.Flush(ctx))
			try(s.rooms.Keys.Flush(ctx))
			try(s.rooms.Activity.Bound(ctx))
			s.rooms.Passes.Tidy()
			try(s.rooms.Members.Remind(ctx))
			try(s.rooms.Patrols.Tend(ctx))
		}
		if i%sweepEvery != sweepFirst {
			continue
		}
		sweep, jumped := clock.look(time.Since(began), wallClock())
		if jumped {
			report(errors.New("the clock has jumped; what has ended is not swept for a day"))
		}
		if sweep {
			try(errors.Join(s.rooms.Sessions.Sweep(ctx), s.rooms.People.Sweep(ctx), s.rooms.Mail.Sweep(ctx), s.rooms.Joining.Sweep(ctx), s.rooms.Leaving.Sweep(ctx), s.rooms.Shared.Sweep(ctx), s.rooms.Passes.Sweep(ctx), s.rooms.Events.Sweep(ctx), s.rooms.Members.Sweep(ctx), s.rooms.Activity.Sweep(ctx), s.rooms.Places.Sweep(ctx), s.rooms.Factors.Sweep(ctx), s.rooms.Keys.Sweep(ctx), s.rooms.Elsewhere.Sweep(ctx), s.store.GiveBack(ctx)))
		}
	}
}

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
