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
	began, wall := time.Now(), wallClock()
	sweepFrom := 30 * time.Second // since began; later if the clock is not to be trusted
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
			if err := errors.Join(s.register.Flush(last), s.activity.Close(last)); err != nil {
				report(err)
			}
			return
		}
		try(s.activity.Flush(ctx))
		s.endings.TryAgain(ctx)
		if i%flushEvery == 0 {
			try(s.register.Flush(ctx))
			try(s.activity.Bound(ctx))
		}
		if i%sweepEvery != sweepFirst {
			continue
		}
		// A clock that has jumped ahead would make everything look ended. What looks so stays
		// shut, but is kept for a day, in case the clock is put right.
		elapsed := time.Since(began)
		if drift := wallClock().Sub(wall) - elapsed; drift > 10*time.Minute || drift < -10*time.Minute {
			report(errors.New("the clock has jumped; what has ended is not swept for a day"))
			wall, began, elapsed = wallClock(), time.Now(), 0
			sweepFrom = 24 * time.Hour
		}
		if elapsed >= sweepFrom {
			try(errors.Join(s.register.Sweep(ctx), s.activity.Sweep(ctx)))
		}
	}
}

// wallClock is the time without the reading that only goes forward.
func wallClock() time.Time { return time.Now().Round(0) }
