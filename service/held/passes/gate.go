package passes

import (
	"context"
	"errors"
	"time"

	"ostiarius/core/basic"
	"ostiarius/core/pass"
	"ostiarius/core/policy"
	"ostiarius/core/secret"
	"ostiarius/store"
)

// A Gate is where passes are shown: by a link, by a name and a password, and by what a browser was given for one.
type Gate struct{ passes *Passes }

// Gate returns where the passes are shown.
func (p *Passes) Gate() *Gate { return p.gate }

// ByToken returns the pass of the token of a browser, for a place; nil if it stands for none of these kinds.
func (g *Gate) ByToken(ctx context.Context, book *policy.Book, kinds []string, path, token string) (*Held, error) {
	p := g.passes
	h, ok := p.opened.Get(token)
	if !ok {
		hash, is := secret.HashToken(token)
		if !is {
			return nil, nil
		}
		version := p.opened.Version()
		o, err := p.o.Store.Opening(ctx, hash)
		if err == nil {
			h.made = o.Since
			h.of, err = p.get(ctx, o.Pass)
		}
		if errors.Is(err, store.ErrNone) {
			return nil, nil
		}
		if err != nil {
			return nil, err
		}
		p.opened.Put(version, token, h)
	}
	return p.held(h, book, kinds, path), nil
}

// ByCredentials returns the pass that credentials of HTTP Basic are of, for a place; nil if they are of none of these
// kinds. The header is as it was sent. Named says that the name is that of a pass, whatever the password. The error is
// *throttle.Slow, or says that the service failed.
func (g *Gate) ByCredentials(ctx context.Context, book *policy.Book, kinds []string, path, header string,
	read func() (basic.Credentials, bool, error), from func() string) (h *Held, named bool, err error) {
	p := g.passes
	if known, ok := p.verified.Get(header); ok {
		return p.held(known, book, kinds, path), true, nil
	}
	c, ok, err := read()
	id := pass.ReadID(c.User)
	if err != nil || !ok || id == "" {
		return nil, false, err
	}
	// A program that opens several connections brings the same ones in each, at once: they are one try.
	found, err, _ := p.once.Do(header, func() (any, error) {
		version := p.verified.Version()
		known, err := p.verify(context.WithoutCancel(ctx), id, c.Password, from())
		if err == nil {
			p.verified.Put(version, header, known)
		}
		return known, err
	})
	switch {
	case errors.Is(err, store.ErrNone):
		return nil, false, nil
	case errors.Is(err, ErrWrong):
		return nil, true, nil
	case err != nil:
		return nil, true, err
	}
	known, _ := found.(holding)
	return p.held(known, book, kinds, path), true, nil
}

// Known returns the pass of credentials that were verified a moment ago, for a place.
func (g *Gate) Known(book *policy.Book, kinds []string, path, header string) *Held {
	p := g.passes
	if known, ok := p.verified.Get(header); ok {
		return p.held(known, book, kinds, path)
	}
	return nil
}

// Close ends that the link of a pass was opened in a browser, as whoever sits there wants.
func (g *Gate) Close(ctx context.Context, token string) error {
	p := g.passes
	hash, ok := secret.HashToken(token)
	if !ok {
		return nil
	}
	defer p.opened.Forget()
	return p.o.Store.EndOpening(ctx, hash)
}

// ByLink returns the pass that the link of is brought; nil if it leads to none, or counts no longer.
func (g *Gate) ByLink(ctx context.Context, token string) (*pass.Pass, error) {
	p := g.passes
	l, _, err := p.linked(ctx, token)
	if l == nil || err != nil {
		return nil, err
	}
	return l.is.Load(), nil
}

// Open opens the link of a pass in a browser, and returns the token that it has from then on. The error is
// store.ErrNone if the link leads to no pass, or to one that is revoked or of a kind that the policy has no longer.
func (g *Gate) Open(ctx context.Context, token string, from Origin) (given string, is *pass.Pass, err error) {
	p := g.passes
	l, since, err := p.linked(ctx, token)
	if err != nil {
		return "", nil, err
	}
	if l == nil || l.state(p.o.Now()) == pass.Revoked || policy.PassNamed(p.o.Book(), l.is.Load().Kind) == nil {
		return "", nil, store.ErrNone
	}
	given, err = p.open(ctx, l, func() time.Time { return since }, from, nil)
	return given, l.is.Load(), err
}

// Enter opens a pass in a browser for whoever types its name and its password there. The error is ErrWrong,
// *throttle.Slow, or says that the service failed.
func (g *Gate) Enter(ctx context.Context, name, password string, from Origin) (given string, is *pass.Pass, err error) {
	p := g.passes
	ctx = context.WithoutCancel(ctx)
	known, err := p.verify(ctx, pass.ReadID(name), password, from.Network)
	if errors.Is(err, store.ErrNone) || err == nil &&
		(known.of.state(p.o.Now()) == pass.Revoked || policy.PassNamed(p.o.Book(), known.of.is.Load().Kind) == nil) {
		err = ErrWrong
	}
	if err != nil {
		return "", nil, err
	}
	given, err = p.open(ctx, known.of, func() time.Time { return known.made }, from, nil)
	return given, known.of.is.Load(), err
}

// ByAgain returns the paused pass that a link opens again; nil if it leads to none.
func (g *Gate) ByAgain(ctx context.Context, token string) (*pass.Pass, error) {
	p := g.passes
	l, err := p.again(ctx, token)
	if l == nil || err != nil {
		return nil, err
	}
	return l.is.Load(), nil
}

// Reopen opens a pass again for its recipient, who was mailed a link for that: with other credentials, which are mailed
// too, and in this browser alone. The error is store.ErrNone if the link leads to none.
func (g *Gate) Reopen(ctx context.Context, token string, from Origin) (given string, issued Issued, err error) {
	p := g.passes
	l, err := p.again(ctx, token)
	if err != nil {
		return "", issued, err
	}
	if l == nil {
		return "", issued, store.ErrNone
	}
	hash, _ := secret.HashToken(token)
	given, err = p.open(ctx, l, func() time.Time { return issued.Pass.Since }, from,
		func(is *pass.Pass, now time.Time) (c store.PassChange, err error) {
			if is.Again != hash || is.Paused.IsZero() { // somebody was faster
				return c, store.ErrNone
			}
			if c, issued, err = p.rotated(is, "", now, 0); err != nil {
				return c, err
			}
			is.Paused, is.Why, is.Spread, is.Again = time.Time{}, "", time.Time{}, secret.TokenHash{}
			c.Close, c.Afresh = true, true
			c.Story = append(c.Story, pass.StoryEntry{At: now, What: pass.Reopened})
			return c, nil
		})
	return given, issued, err
}
