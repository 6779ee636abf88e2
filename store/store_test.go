package store

import (
	"bytes"
	"context"
	"errors"
	"os"
	"path/filepath"
	"slices"
	"testing"
	"time"

	"ostiarius/core/account"
	"ostiarius/core/message"
	"ostiarius/core/secret"
	"ostiarius/core/session"
)

func open(t testing.TB, path string) *Store {
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
	a := &account.Account{
		Name: "Ines", MadeAt: noon, Grants: []account.Grant{{Role: "keeper", From: noon, Until: noon.Add(time.Hour), By: "test"}},
	}
	id, err := s.AddAccount(ctx, a, Keys{Name: "ines"}, "hash", Activity{At: noon, Kind: "account added"})
	if err != nil {
		t.Fatal(err)
	}
	if _, err := s.AddAccount(ctx, a, Keys{Name: "ines"}, "hash", Activity{At: noon, Kind: "twice"}); !errors.Is(err, ErrTaken) {
		t.Errorf("a name taken: %v", err)
	}
	_, hash := secret.NewToken()
	n := &session.Session{Hash: hash, Account: id, MadeAt: noon, SeenAt: noon, ProvedAt: noon}
	if err := s.AddSession(ctx, n, 1, nil, nil, Activity{At: noon, Kind: "sign-in"}); !errors.Is(err, ErrNone) {
		t.Errorf("a session for a password that has changed: %v", err)
	}
	if err := s.Revoke(ctx, id, "trustee", Activity{At: noon, Kind: "revoked"}); !errors.Is(err, ErrNone) {
		t.Errorf("revoking what was not granted: %v", err)
	}
	if events, err := s.AllEvents(ctx, ActivityQuery{Limit: 10}); err != nil || len(events) != 1 {
		t.Errorf("%d events: %+v %v", len(events), events, err)
	}
	// All of it is there when the file is opened again.
	s.Close()
	s = open(t, path)
	found, kept, err := s.AccountByKey(ctx, "ines")
	if err != nil || kept != "hash" || found.Name != "Ines" || len(found.Grants) != 1 ||
		!found.Grants[0].Until.Equal(noon.Add(time.Hour)) || !found.SignedIn.IsZero() {
		t.Errorf("%+v %q %v", found, kept, err)
	}
	if _, _, err := s.AccountByKey(ctx, "nobody"); !errors.Is(err, ErrNone) {
		t.Errorf("an unknown account: %v", err)
	}
}

func TestSweepAndSeen(t *testing.T) {
	ctx := context.Background()
	s := open(t, filepath.Join(t.TempDir(), "records.db"))
	id, err := s.AddAccount(ctx, &account.Account{Name: "ines", MadeAt: noon}, Keys{Name: "ines"}, "hash", Activity{At: noon})
	if err != nil {
		t.Fatal(err)
	}
	add := func(made, seen time.Time, remembered bool) secret.TokenHash {
		_, hash := secret.NewToken()
		if err := s.AddSession(ctx,
			&session.Session{Hash: hash, Account: id, MadeAt: made, SeenAt: seen, ProvedAt: made, Remembered: remembered}, 0, nil, nil,
			Activity{At: noon}); err != nil {
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
	if err := s.SweepSessions(ctx, session.Limits{Lifetime: 12 * time.Hour, Idle: time.Hour, Remembered: 720 * time.Hour}, noon); err != nil {
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
	if err := s.SweepSessions(ctx, session.Limits{}, noon); err != nil {
		t.Fatal(err)
	}
	if _, err := s.Session(ctx, remembered); err != nil {
		t.Error("a session without an end was swept")
	}
}

// What happened belongs to the account, whatever its name was then; who takes its old name later has
// nothing to do with it, nor has a name in a keyring.
func TestActivityFollowsTheAccount(t *testing.T) {
	ctx := context.Background()
	s := open(t, filepath.Join(t.TempDir(), "a.db"))
	add := func(name string) int64 {
		id, err := s.AddAccount(ctx, &account.Account{Name: name, MadeAt: noon}, Keys{Name: name, Anyway: true}, "",
			Activity{At: noon, Kind: "account added", Account: name, Actor: "command line"})
		if err != nil {
			t.Fatal(err)
		}
		return id
	}
	id := add("ines")
	record := func(e Activity) {
		if e.At = noon; s.Record(ctx, e) != nil {
			t.Fatal(e)
		}
	}
	record(Activity{Kind: "sign-in", Account: "Ines", Actor: "Ines"})
	if err := s.EditAccount(ctx, &account.Account{ID: id, Name: "ina"}, Keys{Name: "ina"}, noon,
		Activity{At: noon, Kind: "account changed", Account: "ines", AccountID: id, Actor: "agnes"}); err != nil {
		t.Fatal(err)
	}
	record(Activity{Kind: "sign-out", Account: "ina", Actor: "ina"})
	other := add("ines")
	record(Activity{Kind: "sign-in", Account: "ines", Actor: "ines"})
	record(Activity{Kind: "credentials added", Account: "ines", AccountID: NoAccount, Actor: "ina"})
	kinds := func(name string) (all []string) {
		events, err := s.AllEvents(ctx, ActivityQuery{Account: name, Limit: 100})
		if err != nil {
			t.Fatal(err)
		}
		for _, e := range events {
			all = append(all, string(e.Kind))
		}
		return all
	}
	if got := kinds("INA"); !slices.Equal(got, []string{"credentials added", "sign-out", "account changed", "sign-in", "account added"}) {
		t.Errorf("of ina: %q", got)
	}
	if got := kinds("ines"); !slices.Equal(got, []string{"credentials added", "sign-in", "account added"}) {
		t.Errorf("of the new ines: %q", got)
	}
	if err := s.RemoveAccount(ctx, other, noon, Activity{At: noon, Kind: "account removed", Account: "ines", AccountID: other}); err != nil {
		t.Fatal(err)
	}
	if got := kinds("ines"); !slices.Equal(got, []string{"account removed", "credentials added", "sign-in", "account added"}) {
		t.Errorf("of a name that no account has any more: %q", got)
	}
	if got := kinds("agnes"); !slices.Equal(got, []string{"account changed"}) {
		t.Errorf("of somebody who did something: %q", got)
	}
}

// What is erased is gone from the files too: a password that was mailed, once the mail is sent.
func TestWhatIsErasedIsGone(t *testing.T) {
	ctx := context.Background()
	path := filepath.Join(t.TempDir(), "a.db")
	s := open(t, path)
	const password = "copper-kettle-moss-and-rope"
	m := message.New(message.PassIssued, "ada@carrow.example", "", "en", noon)
	m.Gaps["password"] = password
	if err := s.Post(ctx, m, Activity{At: noon, Kind: "pass issued"}); err != nil {
		t.Fatal(err)
	}
	stands := func() (where string) {
		for _, end := range []string{"", "-wal"} {
			if data, err := os.ReadFile(path + end); err == nil && bytes.Contains(data, []byte(password)) {
				where += " " + filepath.Base(path+end)
			}
		}
		return where
	}
	if stands() == "" {
		t.Fatal("it stands nowhere before, so this shows nothing")
	}
	all, err := s.Messages(ctx, MessageQuery{Limit: 1})
	if err != nil || len(all) != 1 {
		t.Fatal(all, err)
	}
	sent := all[0]
	sent.State, sent.EndedAt = message.Sent, noon
	if err := s.SetMessage(ctx, sent, message.Waiting, nil); err != nil {
		t.Fatal(err)
	}
	if err := s.GiveBack(ctx); err != nil {
		t.Fatal(err)
	}
	if where := stands(); where != "" {
		t.Errorf("it stands in%s", where)
	}
}
