package inforce

import (
	"errors"
	"os"
	"strings"
	"testing"
	"time"

	"ostiarius/core/activity"
	"ostiarius/store"
)

// settled makes what stands in a file old, so that nobody can be at it.
func settled(t *testing.T, file string) {
	t.Helper()
	past := time.Now().Add(-time.Hour)
	if err := os.Chtimes(file, past, past); err != nil {
		t.Fatal(err)
	}
}

// A file that is faulty when the service starts does not keep it from starting: the last version is in force, which is
// said until the file is right.
func TestStartWithAFaultyFile(t *testing.T) {
	for name, spoil := range map[string]func(file string) error{
		"errors": func(file string) error {
			return os.WriteFile(file, []byte("doors: [{path: /, admit: everybody}]\n"), 0o600)
		},
		"cut":         func(file string) error { return os.WriteFile(file, []byte(closed[:len(closed)/2]), 0o600) },
		"missing":     os.Remove,
		"a directory": func(file string) error { return errors.Join(os.Remove(file), os.Mkdir(file, 0o700)) },
	} {
		t.Run(name, func(t *testing.T) {
			_, o := keep(t, open)
			if _, err := Open(t.Context(), o); err != nil {
				t.Fatal(err)
			}
			put(t, o.File, closed)
			settled(t, o.File)
			if _, err := Open(t.Context(), o); err != nil {
				t.Fatal(err)
			}
			if err := spoil(o.File); err != nil {
				t.Fatal(err)
			}
			if name != "missing" {
				settled(t, o.File)
			}
			h := follow(t, o)
			says := func() bool { p := h.Pending(); return p != nil && p.Stuck && len(h.Rejected()) > 0 }
			if !says() || h.admits("/") || h.Version() != 2 {
				t.Errorf("at the start: %+v, version %d, open %v", h.Pending(), h.Version(), h.admits("/"))
			}
			for range 20 {
				if h.passes(quiet / 4); !says() || h.admits("/") {
					t.Fatalf("later: %+v, open %v", h.Pending(), h.admits("/"))
				}
			}
			os.Remove(o.File)
			put(t, o.File, open)
			h.passes(10 * quiet)
			if h.Pending() != nil || !h.admits("/") || len(h.Rejected()) > 0 {
				t.Errorf("mended: %+v, open %v", h.Pending(), h.admits("/"))
			}
		})
	}
	t.Run("no version", func(t *testing.T) {
		_, o := keep(t, "doors: [{path: /, admit: everybody}]\n")
		var unfit *Unfit
		if _, err := Open(t.Context(), o); !errors.As(err, &unfit) || len(unfit.Findings) == 0 ||
			!strings.Contains(string(unfit.Text), "everybody") {
			t.Error(err)
		}
	})
	t.Run("the last version is faulty here", func(t *testing.T) {
		records, o := keep(t, open)
		if _, err := Open(t.Context(), o); err != nil {
			t.Fatal(err)
		}
		later := store.Version{At: time.Now(), Text: "doors: [{path: /, admit: nobody-yet}]\n"}
		if _, err := records.AddVersion(t.Context(), later, store.Activity{At: later.At, Kind: activity.PolicyApplied}); err != nil {
			t.Fatal(err)
		}
		put(t, o.File, "doors: 7\n")
		settled(t, o.File)
		var unfit *Unfit
		if _, err := Open(t.Context(), o); !errors.As(err, &unfit) {
			t.Errorf("a version before the last is in force: %v", err)
		}
	})
}
