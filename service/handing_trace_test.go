package service

import (
	"context"
	"errors"
	"net/netip"
	"strings"
	"testing"
	"time"

	"ostiarius/core/activity"
	"ostiarius/core/message"
	"ostiarius/service/held/passes"
	"ostiarius/service/held/shared"
)

// handedOut is what leaves traces of shared passwords and passes.
func handedOut(ctx context.Context, t *testing.T, s *Service, leaves func(what string, do func() error, kinds ...activity.Kind),
	wrong func(do func() error) func() error, secret func(string)) {
	const password = "copper-kettle-moss"
	secret(password)
	of, from := s.rooms.Shared, shared.Origin{Network: "192.0.2.7"}
	none := func(string) string { return "" }
	token := ""
	unlock := func(typed string) func() error {
		return func() (err error) {
			token, _, err = of.Unlock(ctx, []string{"kit"}, typed, from, none)
			secret(token)
			return err
		}
	}
	leaves("a shared password", func() error { return of.Set(ctx, "test", "kit", shared.Change{Password: password}) }, activity.SharedSet)
	leaves("a shared password that is none", wrong(func() error { return of.Set(ctx, "test", "kit", shared.Change{Password: "x"}) }))
	leaves("a wrong guess", wrong(unlock("by-mistake")), activity.UnlockFailed)
	leaves("an unlock", unlock(password), activity.Unlocked)
	leaves("its end", func() error { return of.End(ctx, token, "") }, activity.UnlockEnded)
	leaves("its end, twice", func() error { return of.End(ctx, token, "") })
	leaves("the end of none", func() error { _, err := of.EndAll(ctx, "test", "kit"); return err })
	leaves("telling it", func() error {
		_, err := of.Send(ctx, "test", "kit", shared.Letter{To: []message.Recipient{{Address: "a@x.example"}}, Password: password})
		return err
	}, activity.SharedTold)
	leaves("telling another", wrong(func() error {
		_, err := of.Send(ctx, "test", "kit", shared.Letter{To: []message.Recipient{{Address: "a@x.example"}}, Password: "by-mistake"})
		return err
	}))
	leaves("withdrawing it", func() error { return of.Withdraw(ctx, "test", "kit") }, activity.SharedWithdrawn)
	leaves("withdrawing it twice", wrong(func() error { return of.Withdraw(ctx, "test", "kit") }))

	p, gate := s.rooms.Passes, s.rooms.Passes.Gate()
	var issued passes.Issued
	kept := func(i passes.Issued, err error) error {
		issued = i
		secret(i.Password)
		secret(i.Link[strings.LastIndexByte(i.Link, '=')+1:])
		return err
	}
	leaves("a pass", func() error {
		return kept(p.Issue(ctx, "test", "files", passes.NewPass{Address: "ada@carrow.example"}))
	}, activity.PassIssued)
	leaves("a pass for nobody", wrong(func() error { _, err := p.Issue(ctx, "test", "files", passes.NewPass{}); return err }))
	id := issued.Pass.ID
	leaves("opening it", func() error {
		given, _, err := gate.Open(ctx, issued.Link[strings.LastIndexByte(issued.Link, '=')+1:], passes.Origin{})
		secret(given)
		return err
	}, activity.PassOpened)
	leaves("a wrong password of a pass", wrong(func() error {
		_, _, err := gate.Enter(ctx, id, "by-mistake", passes.Origin{})
		return errors.Join(err, s.rooms.Activity.Flush(ctx))
	}), activity.PassFailed)
	leaves("pausing it", func() error { return p.Pause(ctx, "test", id) }, activity.PassPaused)
	leaves("pausing it twice", wrong(func() error { return p.Pause(ctx, "test", id) }))
	leaves("resuming it", func() error { return p.Resume(ctx, "test", id) }, activity.PassResumed)
	leaves("renewing it", func() error { _, err := p.Renew(ctx, "test", id, time.Time{}, 2); return err }, activity.PassRenewed)
	leaves("sending it again", func() error { return kept(p.Resend(ctx, "test", id, 0, true)) }, activity.PassRotated)
	leaves("rotating its kind", func() error {
		_, err := p.RotateKind(ctx, "test", "files", time.Now().Add(time.Hour), 0)
		return err
	}, activity.PassRotated)
	leaves("use from one network, and from another", func() error {
		for _, network := range []string{"192.0.2.7", "198.51.100.7"} {
			if _, err := p.Used(ctx, id, netip.MustParseAddr(network)); err != nil {
				return err
			}
		}
		return nil
	}, activity.PassSpread)
	leaves("revoking it", func() error { return p.Revoke(ctx, "test", id) }, activity.PassRevoked)
	leaves("revoking it twice", wrong(func() error { return p.Revoke(ctx, "test", id) }))
}
