package store

import (
	"context"
	"errors"
	"path/filepath"
	"testing"
	"time"

	"ostiarius/core/account"
	"ostiarius/core/secret"
	"ostiarius/core/session"
)

func open(t *testing.T, path string) *Store {
	t.Helper()
	s, err := Open(path)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { s.Close() })
	return s
}

var noon = time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)

// A change that fails half-way leaves nothing, not even its trace.
func TestNothingIsHalfDone(t *testing.T) {
	ctx := context.Background()
	path := filepath.Join(t.TempDir(), "a b?c#d.db") // odd on purpose
	s := open(t, path)
	a := &account.Account{Name: "Ines", MadeAt: noon, Grants: []account.Grant{{Role: "keeper", From: noon, Until: noon.Add(time.Hour), By: "test"}}}
	id, err := s.AddAccount(ctx, a, Keys{Name: "ines"}, "hash", Event{At: noon, Kind: "account added"})
	if err != nil {
		t.Fatal(err)
	}
	if _, err := s.AddAccount(ctx, a, Keys{Name: "ines"}, "hash", Event{At: noon, Kind: "twice"}); !errors.Is(err, ErrTaken) {
		t.Errorf("a name taken: %v", err)
	}
	_, hash := secret.NewToken()
	n := &session.Session{Hash: hash, Account: id, MadeAt: noon, SeenAt: noon, ProvedAt: noon}
	if err := s.AddSession(ctx, n, "another hash", nil, Event{At: noon, Kind: "sign-in"}); !errors.Is(err, ErrNone) {
		t.Errorf("a session for a password that has changed: %v", err)
	}
	if err := s.Revoke(ctx, id, "trustee", Event{At: noon, Kind: "revoked"}); !errors.Is(err, ErrNone) {
		t.Errorf("revoking what was not granted: %v", err)
	}
	if events, err := s.Events(ctx, EventQuery{Limit: 10}); err != nil || len(events) != 1 {
		t.Errorf("%d events: %+v %v", len(events), events, err)
	}
	// All of it is there when the file is opened again.
	s.Close()
	s = open(t, path)
	found, kept, err := s.AccountByKey(ctx, "ines")
	if err != nil || kept != "hash" || found.Name != "Ines" || len(found.Grants) != 1 || !found.Grants[0].Until.Equal(noon.Add(time.Hour)) || !found.SignedIn.IsZero() {
		t.Errorf("%+v %q %v", found, kept, err)
	}
	if _, _, err := s.AccountByKey(ctx, "nobody"); !errors.Is(err, ErrNone) {
		t.Errorf("an unknown account: %v", err)
	}
}

func TestSweepAndSeen(t *testing.T) {
	ctx := context.Background()
	s := open(t, filepath.Join(t.TempDir(), "records.db"))
	id, err := s.AddAccount(ctx, &account.Account{Name: "ines", MadeAt: noon}, Keys{Name: "ines"}, "hash", Event{At: noon})
	if err != nil {
		t.Fatal(err)
	}
	add := func(made, seen time.Time, remembered bool) secret.TokenHash {
		_, hash := secret.NewToken()
		if err := s.AddSession(ctx, &session.Session{Hash: hash, Account: id, MadeAt: made, SeenAt: seen, ProvedAt: made, Remembered: remembered}, "hash", nil, Event{At: noon}); err != nil {
			t.Fatal(err)
		}
		return hash
	}
	hour := func(n int) time.Time { return noon.Add(time.Duration(n) * time.Hour) }
	fresh, idle, old := add(hour(-1), hour(0), false), add(hour(-3), hour(-2), false), add(hour(-13), hour(0), false)
	remembered, forgotten := add(hour(-100), hour(-90), true), add(hour(-800), hour(0), true)
	used := add(hour(-3), hour(-2), false)
	if err := s.Seen(ctx, map[secret.TokenHash]time.Time{used: hour(0), fresh: hour(-5)}); err != nil {
		t.Fatal(err)
	}
	if err := s.SweepSessions(ctx, hour(-12), hour(-1), hour(-720)); err != nil {
		t.Fatal(err)
	}
	for hash, want := range map[secret.TokenHash]bool{fresh: true, idle: false, old: false, remembered: true, forgotten: false, used: true} {
		found, err := s.Session(ctx, hash)
		if (err == nil) != want {
			t.Errorf("session made %v: %v", found, err)
		}
		if hash == fresh && !found.SeenAt.Equal(hour(0)) {
			t.Errorf("last seen went back to %v", found.SeenAt)
		}
	}
	// Without limits nothing is swept.
	if err := s.SweepSessions(ctx, time.Time{}, time.Time{}, time.Time{}); err != nil {
		t.Fatal(err)
	}
	if _, err := s.Session(ctx, remembered); err != nil {
		t.Error("a session without an end was swept")
	}
}
