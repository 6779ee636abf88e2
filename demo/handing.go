package demo

import (
	"context"
	"errors"
	"fmt"
	"net/netip"
	"time"

	"ostiarius/core/pass"
	"ostiarius/service/base/mistake"
	"ostiarius/service/held/passes"
	"ostiarius/service/held/shared"
)

// PressPassword is the password of the press kit.
const PressPassword = "two-flashes-every-fifteen"

// buyers are recipients of passes of the demo, with what has become of them.
var buyers = []struct {
	name, address, reference string
	state                    pass.State
}{
	{"Ada Carrow", "ada@carrow.example", "2026-112", pass.Open},
	{"Berit Holm", "berit.holm@fjord.example", "2026-113", pass.UsedUp},
	{"Cato Lund", "cato@lund.example", "2026-114", pass.Ended},
	{"Dora Quill", "dora@quill.example", "2026-115", pass.Paused},
	{"Emil Strand", "emil@strand.example", "2026-116", pass.Revoked},
	{"Frida Voss", "frida@voss.example", "2026-117", pass.Waiting},
}

// handOut gives the press kit its password, and issues passes that have come to each end that there is.
func handOut(ctx context.Context, passwords *shared.Passwords, p *passes.Passes) error {
	var gone *mistake.Error
	if err := passwords.Set(ctx, "demo", "press-kit", shared.Change{Password: PressPassword}); err != nil {
		if errors.As(err, &gone) && gone.Kind == "unknown" { // somebody has taken it out of the policy
			return nil
		}
		return fmt.Errorf("the demo's press kit: %w", err)
	}
	for _, b := range buyers {
		n := passes.NewPass{Name: b.name, Address: b.address, Reference: b.reference}
		if b.state == pass.UsedUp {
			n.Downloads = 1
		}
		issued, err := p.Issue(ctx, "demo", "recordings", n)
		if errors.As(err, &gone) && gone.Kind == "unknown" {
			return nil
		}
		if err != nil {
			return fmt.Errorf("the demo's passes: %w", err)
		}
		if err := become(ctx, p, issued.Pass, b.state); err != nil {
			return fmt.Errorf("the demo's pass for %s: %w", b.name, err)
		}
	}
	return nil
}

// become lets something happen to a pass, as it does in the course of two weeks.
func become(ctx context.Context, p *passes.Passes, is *pass.Pass, state pass.State) error {
	switch state {
	case pass.Revoked:
		return p.Revoke(ctx, "agnes", is.ID)
	case pass.Paused:
		for i := range 5 {
			if _, err := p.Used(ctx, is.ID, netip.AddrFrom4([4]byte{203, 0, byte(110 + i), 7})); err != nil {
				return err
			}
		}
	case pass.Open, pass.UsedUp, pass.Ended:
		return p.Tell(ctx, is.ID, func(is *pass.Pass, now time.Time) []pass.StoryEntry {
			ago := now.AddDate(0, 0, -3)
			is.FirstUsed, is.LastUsed = ago.Add(time.Hour), ago.Add(26*time.Hour)
			story := []pass.StoryEntry{{At: ago.Add(time.Hour), What: pass.Opened, Detail: "192.0.2.7"},
				{At: ago.Add(time.Hour), What: pass.FirstUse}}
			if state != pass.Ended {
				is.Used = 1
				story = append(story, pass.StoryEntry{At: ago.Add(26 * time.Hour), What: pass.Downloaded, Detail: "/recordings/fog-bell.wav"})
			} else {
				is.Until = now.Add(-time.Hour)
			}
			return story
		})
	}
	return nil
}
