package passes

import (
	"context"
	"errors"
	"slices"
	"time"

	kind "ostiarius/core/activity"
	"ostiarius/core/message"
	"ostiarius/core/pass"
	"ostiarius/core/policy"
	"ostiarius/store"
)

// A Sale is what is done with passes that are paid for, together with other records in one transaction: whoever asks for it writes it down.
type Sale struct{ passes *Passes }

// Sale returns how passes are paid for.
func (p *Passes) Sale() *Sale { return &Sale{p} }

// A Made is a pass that is not written down yet, with the message that brings it and what is recorded of it.
type Made struct {
	Pass   *pass.Pass
	Mail   message.Message
	Record store.Activity
}

// Make makes a pass of a kind. The error is a *mistake.Error if there can be none.
func (s *Sale) Make(actor, ofKind string, n NewPass) (Made, error) {
	p := s.passes
	d, err := p.kindOf(ofKind)
	if err != nil {
		return Made{}, err
	}
	issued, err := p.prepare(d, actor, n)
	if err != nil {
		return Made{}, err
	}
	return Made{issued.Pass, p.issued(message.PassIssued, issued), p.event(kind.PassIssued, actor, issued.Pass, issued.Pass.Reference)}, nil
}

// Together changes passes and has write write that down, with what else belongs to it. What edit leaves out, by a false, stays as
// it is. Passes that are there no more are passed over.
func (s *Sale) Together(ctx context.Context, ids []string, edit func(is *pass.Pass, now time.Time) (store.PassChange, bool),
	write func(changes []store.PassChange) error) (err error) {
	for range 5 {
		if err = s.passes.together(ctx, ids, edit, write); !errors.Is(err, errLetGo) {
			break
		}
	}
	return err
}

func (p *Passes) together(ctx context.Context, ids []string, edit func(is *pass.Pass, now time.Time) (store.PassChange, bool),
	write func(changes []store.PassChange) error) error {
	ids = slices.Clone(ids)
	slices.Sort(ids) // so that no two wait for each other
	var changes []store.PassChange
	var lives []*live
	for _, id := range slices.Compact(ids) {
		l, err := p.get(ctx, id)
		if errors.Is(err, store.ErrNone) {
			continue
		}
		if err != nil {
			return err
		}
		l.mu.Lock()
		defer l.mu.Unlock()
		if l.letGo.Load() {
			return errLetGo
		}
		is, now := *l.is.Load(), p.o.Now()
		c, does := edit(&is, now)
		if !does {
			continue
		}
		c.Pass, c.At = &is, now
		changes, lives = append(changes, c), append(lives, l)
	}
	if err := write(changes); err != nil {
		return err
	}
	for i, l := range lives {
		l.is.Store(changes[i].Pass)
	}
	return nil
}

// Withdrawn is that a pass is taken back.
func (s *Sale) Withdrawn(is *pass.Pass, actor string, now time.Time) (store.PassChange, bool) {
	if !is.Revoked.IsZero() {
		return store.PassChange{}, false
	}
	is.Revoked = now
	e := s.passes.event(kind.PassRevoked, actor, is, is.Reference)
	return store.PassChange{Close: true, Story: []pass.StoryEntry{{At: now, What: pass.RevokedNow, Actor: actor}}, Event: &e}, true
}

// Prolonged is that a pass was paid for once more: it ends at a time, or lasts as much longer as its kind says if that is zero, and
// is for as many more downloads as its kind has, times a number.
func (s *Sale) Prolonged(is *pass.Pass, actor string, until time.Time, number int, now time.Time) (store.PassChange, bool) {
	d := policy.PassNamed(s.passes.o.Book(), is.Kind)
	if !is.Revoked.IsZero() || d == nil {
		return store.PassChange{}, false
	}
	switch {
	case !until.IsZero():
		is.Until, is.Lasts = until, 0
	case d.Lasts == 0:
		is.Until, is.Lasts = time.Time{}, 0
	case !is.Until.IsZero():
		from := is.Until
		if from.Before(now) {
			from = now
		}
		is.Until = from.Add(d.Lasts)
	}
	if is.Allowed > 0 {
		if is.Allowed += d.Downloads * number; d.Downloads == 0 {
			is.Allowed = 0
		}
	}
	e := s.passes.event(kind.PassRenewed, actor, is, is.Reference)
	return store.PassChange{Story: []pass.StoryEntry{{At: now, What: pass.Renewed, Actor: actor, Detail: ends(is)}}, Event: &e}, true
}

// Stopped is that a pass ends at a time.
func (s *Sale) Stopped(is *pass.Pass, actor string, at, now time.Time) (store.PassChange, bool) {
	if !is.Revoked.IsZero() || !is.Until.IsZero() && !is.Until.After(at) {
		return store.PassChange{}, false
	}
	is.Until, is.Lasts = at, 0
	e := s.passes.event(kind.PassRenewed, actor, is, ends(is))
	return store.PassChange{Story: []pass.StoryEntry{{At: now, What: pass.Renewed, Actor: actor, Detail: ends(is)}}, Event: &e}, true
}
