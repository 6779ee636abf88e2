package passes

import (
	"context"
	"errors"
	"fmt"
	"net/netip"
	"net/url"
	"strings"
	"time"

	kind "ostiarius/core/activity"
	"ostiarius/core/brief"
	"ostiarius/core/document"
	"ostiarius/core/message"
	"ostiarius/core/pass"
	"ostiarius/core/secret"
	"ostiarius/service/base/ending"
	"ostiarius/service/base/mistake"
	"ostiarius/store"
)

// Revoke takes a pass back for good. It counts at once, also for what is being downloaded.
func (p *Passes) Revoke(ctx context.Context, actor, id string) error {
	l, err := p.named(ctx, id)
	if err != nil {
		return err
	}
	return p.take(ctx, l, "that the pass "+l.id+" is revoked", func(is *pass.Pass, now time.Time) (store.PassChange, error) {
		if !is.Revoked.IsZero() {
			return store.PassChange{}, mistake.Taken("the pass %s is revoked already", l.id)
		}
		is.Revoked = now
		e := p.event(kind.PassRevoked, actor, is, "")
		return store.PassChange{Close: true, Story: []pass.StoryEntry{{At: now, What: pass.RevokedNow, Actor: actor}}, Event: &e}, nil
	})
}

// Pause closes a pass until it is resumed.
func (p *Passes) Pause(ctx context.Context, actor, id string) error {
	l, err := p.named(ctx, id)
	if err != nil {
		return err
	}
	return p.take(ctx, l, "that the pass "+l.id+" is paused", func(is *pass.Pass, now time.Time) (store.PassChange, error) {
		if !is.Paused.IsZero() || !is.Revoked.IsZero() {
			return store.PassChange{}, mistake.Taken("the pass %s is %s already", l.id, is.State(now))
		}
		is.Paused, is.Why = now, pass.BySteward
		e := p.event(kind.PassPaused, actor, is, "")
		return store.PassChange{Story: []pass.StoryEntry{{At: now, What: pass.PausedNow, Actor: actor}}, Event: &e}, nil
	})
}

// take takes access away: at once, and in the records as soon as they can be written.
func (p *Passes) take(ctx context.Context, l *live, what string, edit func(is *pass.Pass, now time.Time) (store.PassChange, error)) error {
	is := *l.is.Load()
	if _, err := edit(&is, p.o.Now()); err != nil { // nothing to take
		return err
	}
	return p.o.Endings.Take(ctx, ending.Ending{Thing: thing(l.id), What: what, Forget: func() { l.barred.Store(true) }},
		func(ctx context.Context) error {
			err := p.change(ctx, l, edit)
			var wrong *mistake.Error
			if err == nil || errors.As(err, &wrong) {
				l.barred.Store(false)
			}
			return err
		})
}

// Resume opens a pass again that is paused, and begins anew to count from where it is used.
func (p *Passes) Resume(ctx context.Context, actor, id string) error {
	l, err := p.named(ctx, id)
	if err != nil {
		return err
	}
	if is := l.is.Load(); is.Paused.IsZero() && !l.barred.Load() || !is.Revoked.IsZero() {
		return mistake.Taken("the pass %s is not paused, but %s", l.id, l.state(p.o.Now()))
	}
	p.o.Endings.Undo(thing(l.id))
	err = p.change(ctx, l, func(is *pass.Pass, now time.Time) (store.PassChange, error) {
		is.Paused, is.Why, is.Spread, is.Again = time.Time{}, "", time.Time{}, secret.TokenHash{}
		e := p.event(kind.PassResumed, actor, is, "")
		return store.PassChange{Afresh: true, Story: []pass.StoryEntry{{At: now, What: pass.Resumed, Actor: actor}}, Event: &e}, nil
	})
	if err == nil {
		l.barred.Store(false)
	}
	return err
}

// Renew gives a pass another end, and more downloads: until, or as long as its kind lasts from now on; and so many
// more, or if it is used up as many more as its kind has.
func (p *Passes) Renew(ctx context.Context, actor, id string, until time.Time, downloads int) (*pass.Pass, error) {
	l, err := p.named(ctx, id)
	if err != nil {
		return nil, err
	}
	d, err := p.kindOf(l.is.Load().Kind)
	if err != nil {
		return nil, err
	}
	if !until.IsZero() && !until.After(p.o.Now()) {
		return nil, mistake.Invalid("the end, %s, is not in the future", until.Format(time.RFC3339))
	}
	if downloads < 0 {
		return nil, mistake.Invalid("a pass is for one download or more")
	}
	err = p.change(ctx, l, func(is *pass.Pass, now time.Time) (store.PassChange, error) {
		if !is.Revoked.IsZero() || l.barred.Load() {
			return store.PassChange{}, mistake.Taken("the pass %s is revoked; issue another one", l.id)
		}
		usedUp := is.Allowed > 0 && is.Used >= is.Allowed
		switch {
		case downloads > 0:
			is.Allowed = is.Used + downloads
		case usedUp && d.Downloads > 0:
			is.Allowed = is.Used + d.Downloads
		case usedUp:
			is.Allowed = 0
		}
		switch {
		case !until.IsZero():
			is.Until, is.Lasts = until, 0
		case downloads > 0 && (is.Until.IsZero() || now.Before(is.Until)): // only more downloads
		case d.Lasts == 0:
			is.Until, is.Lasts = time.Time{}, 0
		case !d.FirstUse || !is.FirstUsed.IsZero():
			is.Until, is.Lasts = now.Add(d.Lasts), 0
		default:
			is.Until, is.Lasts = time.Time{}, d.Lasts
		}
		detail := ends(is)
		e := p.event(kind.PassRenewed, actor, is, detail)
		return store.PassChange{Story: []pass.StoryEntry{{At: now, What: pass.Renewed, Actor: actor, Detail: detail}}, Event: &e}, nil
	})
	return l.is.Load(), err
}

// ends says until when a pass lasts, and for how much.
func ends(is *pass.Pass) string {
	detail := "without an end"
	if !is.Until.IsZero() {
		detail = "until " + is.Until.UTC().Format(time.RFC3339)
	} else if is.Lasts > 0 {
		detail = "for " + document.FormatDuration(is.Lasts) + " from the first use"
	}
	if is.Allowed > 0 {
		detail += fmt.Sprintf(", for %d more downloads", is.Allowed-is.Used)
	}
	return detail
}

// How long credentials before may count.
const longestGrace = 90 * 24 * time.Hour

func checkGrace(grace time.Duration) error {
	if grace < 0 || grace > longestGrace {
		return mistake.Invalid("credentials before can count for at most 90 days")
	}
	return nil
}

// Resend gives a pass other credentials and has them mailed to its recipient: those before are known to nobody here.
// They count for as long as grace.
func (p *Passes) Resend(ctx context.Context, actor, id string, grace time.Duration, noMail bool) (Issued, error) {
	if err := checkGrace(grace); err != nil {
		return Issued{}, err
	}
	l, err := p.named(ctx, id)
	if err != nil {
		return Issued{}, err
	}
	var issued Issued
	err = p.change(ctx, l, func(is *pass.Pass, now time.Time) (c store.PassChange, err error) {
		if state := is.State(now); l.barred.Load() || state == pass.Revoked || state == pass.Ended {
			return c, mistake.Taken("the pass %s is %s", l.id, l.state(now))
		}
		c, issued, err = p.rotated(is, actor, now, grace)
		if noMail {
			c.Mails = nil
		}
		e := p.event(kind.PassRotated, actor, is, "")
		c.Event = &e
		return c, err
	})
	return issued, err
}

// rotated gives a pass other credentials, and says so to its recipient.
func (p *Passes) rotated(is *pass.Pass, actor string, now time.Time, grace time.Duration) (c store.PassChange, issued Issued, err error) {
	if issued, err = p.give(is, now, grace); err != nil {
		return c, issued, err
	}
	detail := "those before count no longer"
	if grace > 0 {
		detail = "those before count until " + is.OldUntil.UTC().Format(time.RFC3339)
	}
	c.Close = grace == 0
	c.Story = append(c.Story, pass.StoryEntry{At: now, What: pass.Rotated, Actor: actor, Detail: detail})
	if is.Address != "" {
		c.Mails = append(c.Mails, p.issued(message.PassRotated, issued))
		c.Story = append(c.Story, pass.StoryEntry{At: now, What: pass.Mailed, Detail: is.Address})
	}
	return c, issued, nil
}

// RotateKind gives passes of a kind other credentials and has them mailed: as many as are done at once of those whose
// credentials were made before a time, and that have not ended. It returns how many; 0 when all are done.
func (p *Passes) RotateKind(ctx context.Context, actor, ofKind string, before time.Time, grace time.Duration) (int, error) {
	if err := checkGrace(grace); err != nil {
		return 0, err
	}
	if _, err := p.kindOf(ofKind); err != nil {
		return 0, err
	}
	now := p.o.Now()
	if before.After(now) {
		before = now
	}
	old, err := p.o.Store.OldPasses(ctx, ofKind, before, now, atOnce)
	if err != nil || len(old) == 0 {
		return 0, err
	}
	ids := make([]string, len(old))
	for i, is := range old {
		ids[i] = is.ID
	}
	done := 0
	var failed error
	err = p.Sale().Together(ctx, ids, func(is *pass.Pass, now time.Time) (store.PassChange, bool) {
		c, _, err := p.rotated(is, actor, now, grace)
		failed = errors.Join(failed, err)
		return c, true
	}, func(changes []store.PassChange) error {
		if failed != nil || len(changes) == 0 {
			return failed
		}
		done = len(changes)
		e := store.Activity{
			At: now, Kind: kind.PassRotated, AccountID: store.NoAccount, Actor: actor, Detail: fmt.Sprintf("%d of the kind %s", done, ofKind),
		}
		changes[done-1].Event = &e
		return p.o.Store.ChangePass(ctx, changes...)
	})
	if err != nil {
		return 0, err
	}
	return done, nil
}

const atOnce = 250

// linked also returns when the link was made.
func (p *Passes) linked(ctx context.Context, token string) (*live, time.Time, error) {
	hash, ok := secret.HashToken(token)
	if !ok {
		return nil, time.Time{}, nil
	}
	is, err := p.o.Store.PassByLink(ctx, hash)
	if errors.Is(err, store.ErrNone) {
		return nil, time.Time{}, nil
	}
	if err != nil {
		return nil, time.Time{}, err
	}
	l, err := p.get(ctx, is.ID)
	if err != nil {
		return nil, time.Time{}, err
	}
	switch is := l.is.Load(); {
	case is.Link == hash:
		return l, is.Since, nil
	case is.OldLink == hash && p.o.Now().Before(is.OldUntil):
		return l, is.OldSince, nil
	}
	return nil, time.Time{}, nil
}

// An Origin is from where the link of a pass is opened.
type Origin struct{ Network, Agent string }

// open writes down that a pass is open in a browser from now on, after a change of it, if any.
func (p *Passes) open(ctx context.Context, l *live, since func() time.Time, from Origin,
	first func(is *pass.Pass, now time.Time) (store.PassChange, error)) (given string, err error) {
	given, hash := secret.NewToken()
	err = p.change(ctx, l, func(is *pass.Pass, now time.Time) (c store.PassChange, err error) {
		if first != nil {
			if c, err = first(is, now); err != nil {
				return c, err
			}
		}
		c.Opening = &store.Opening{Hash: hash, Pass: l.id, Since: since(), MadeAt: now, Network: from.Network, Agent: brief.Cut(from.Agent, 300)}
		c.Story = append(c.Story, pass.StoryEntry{At: now, What: pass.Opened, Detail: from.Network})
		e := p.event(kind.PassOpened, "", is, "")
		e.Network = from.Network
		c.Event = &e
		return c, nil
	})
	return given, err
}

func (p *Passes) again(ctx context.Context, token string) (*live, error) {
	hash, ok := secret.HashToken(token)
	if !ok {
		return nil, nil
	}
	is, err := p.o.Store.PassByAgain(ctx, hash)
	if errors.Is(err, store.ErrNone) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	l, err := p.get(ctx, is.ID)
	if err != nil {
		return nil, err
	}
	now, is := p.o.Now(), l.is.Load()
	if is.Again != hash || l.state(now) != pass.Paused || is.Why != pass.BySpread || now.Sub(is.Paused) > againLasts {
		return nil, nil
	}
	return l, nil
}

// Used notes that a pass is used from an address, as if somebody went to a place that it opens.
func (p *Passes) Used(ctx context.Context, id string, from netip.Addr) (bool, error) {
	l, err := p.named(ctx, id)
	if err != nil {
		return false, err
	}
	path, _, _ := strings.Cut(p.Leads(l.is.Load()), "?")
	if plain, err := url.PathUnescape(path); err == nil {
		path = plain
	}
	return (&Held{passes: p, of: l, book: p.o.Book(), path: path, at: p.o.Now()}).Use(ctx, from)
}

// Tell changes what is known of a pass, as when records are brought from elsewhere, and adds to its story what edit
// returns.
func (p *Passes) Tell(ctx context.Context, id string, edit func(is *pass.Pass, now time.Time) []pass.StoryEntry) error {
	l, err := p.named(ctx, id)
	if err != nil {
		return err
	}
	return p.change(ctx, l, func(is *pass.Pass, now time.Time) (store.PassChange, error) {
		return store.PassChange{Story: edit(is, now)}, nil
	})
}
