package store

import (
	"context"
	"errors"
	"path/filepath"
	"sync"
	"testing"
	"time"

	"ostiarius/core/keyring"
)

// Changes of one entry at the same time: neither takes back what the other did, whichever comes
// first. A disabling does not bring back a password that was rotated away.
func TestChangesOfAnEntryAtOnce(t *testing.T) {
	ctx := context.Background()
	s := open(t, filepath.Join(t.TempDir(), "a.db"))
	event := Activity{At: noon, Kind: "test"}
	type change struct {
		name string
		do   func() error
		// did says what must hold when it and another one are over; hashes are what the other may have made of the hash.
		did func(e *keyring.Entry, other string) bool
	}
	changes := []change{
		{"rotate", func() error { return s.RotateEntry(ctx, "outer", "smith", "rotated", noon.Add(time.Hour), event) },
			func(e *keyring.Entry, other string) bool {
				return e.Hash == "rotated" && e.OldHash != "" || other == "import" && e.Hash == "imported" && e.OldHash == ""
			}},
		{"disable", func() error { return s.SwitchEntry(ctx, "outer", "smith", true, event) },
			func(e *keyring.Entry, _ string) bool { return e.Disabled }},
		{"import", func() error {
			return s.AddEntries(ctx, []*keyring.Entry{{Keyring: "outer", Name: "smith", Hash: "imported", MadeAt: noon}}, true, event)
		}, func(e *keyring.Entry, other string) bool {
			return e.Hash == "imported" && e.OldHash == "" || other == "rotate" && e.Hash == "rotated" && e.OldHash == "imported"
		}},
		{"use", func() error {
			return s.UsedEntry(ctx, "outer", "smith", noon.Add(time.Minute), "first", "first, better")
		}, func(e *keyring.Entry, other string) bool {
			return e.UsedAt.Equal(noon.Add(time.Minute)) && e.Hash != "first"
		}},
	}
	for _, one := range changes {
		for _, other := range changes {
			if one.name == other.name {
				continue
			}
			for range 10 {
				if err := s.RemoveEntry(ctx, "outer", "smith", event); err != nil && !errors.Is(err, ErrNone) {
					t.Fatal(err)
				}
				if err := s.AddEntries(ctx,
					[]*keyring.Entry{{Keyring: "outer", Name: "smith", Hash: "first", Note: "the gate", MadeAt: noon, MadeBy: "agnes"}}, false,
					event); err != nil {
					t.Fatal(err)
				}
				var both sync.WaitGroup
				for _, c := range []change{one, other} {
					both.Go(func() {
						if err := c.do(); err != nil {
							t.Errorf("%s: %v", c.name, err)
						}
					})
				}
				both.Wait()
				e, err := s.Entry(ctx, "outer", "smith")
				if err != nil || !one.did(e, other.name) || !other.did(e, one.name) || e.Note != "the gate" || e.MadeBy != "agnes" {
					t.Fatalf("%s and %s: %+v %v", one.name, other.name, e, err)
				}
			}
		}
	}
	if err := s.AddEntries(ctx,
		[]*keyring.Entry{{Keyring: "outer", Name: "baker", Hash: "x"}, {Keyring: "outer", Name: "smith", Hash: "second"}}, false,
		event); !errors.Is(err, ErrTaken) {
		t.Errorf("a name that is taken: %v", err)
	}
	if e, err := s.Entry(ctx, "outer", "smith"); err != nil || e.Hash == "second" {
		t.Errorf("%+v %v", e, err)
	}
	if _, err := s.Entry(ctx, "outer", "baker"); !errors.Is(err, ErrNone) {
		t.Errorf("half of the entries were added: %v", err)
	}
	for name, err := range map[string]error{
		"rotate": s.RotateEntry(ctx, "outer", "nobody", "x", time.Time{}, event), "switch": s.SwitchEntry(ctx, "outer", "nobody", true, event),
	} {
		if !errors.Is(err, ErrNone) {
			t.Errorf("%s of nobody: %v", name, err)
		}
	}
}
