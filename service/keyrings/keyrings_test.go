package keyrings

import (
	"errors"
	"log/slog"
	"path/filepath"
	"testing"
	"time"

	"ostiarius/core/basic"
	"ostiarius/core/policy"
	"ostiarius/core/secret"
	"ostiarius/core/throttle"
	"ostiarius/service/activity"
	"ostiarius/service/ending"
	"ostiarius/service/hashing"
	"ostiarius/service/mistake"
	"ostiarius/store"
)

// What opens a keyring, and what does no more; what was verified counts no longer after each change.
func TestOpen(t *testing.T) {
	records, err := store.Open(filepath.Join(t.TempDir(), "records.db"))
	if err != nil {
		t.Fatal(err)
	}
	defer records.Close()
	book, findings := policy.Parse("doors.yaml", []byte("keyrings: {outer: , inner: }\ndoors: [{path: /, admit: {keyring: outer}}]"))
	if book == nil {
		t.Fatal(findings)
	}
	ctx, now, changed := t.Context(), time.Date(2026, 11, 25, 12, 0, 0, 0, time.UTC), 0
	clock := func() time.Time { return now }
	limiter := &throttle.Limiter{}
	k := New(Options{
		Store: records, Book: func() *policy.Book { return book }, Now: clock, Hashing: hashing.New(secret.Cost{Memory: 64, Passes: 1, Threads: 1}, nil),
		Limiter: limiter, Endings: &ending.List{}, Activity: activity.New(activity.Options{Store: records, Now: clock}), Changed: func() { changed++ }, Log: slog.New(slog.DiscardHandler),
	})
	const first, second = "creaky-third-step", "kettle-moth-anvil"
	opens := func(ring, name, password string) (until time.Time, ok bool) {
		t.Helper()
		limiter.Forget()
		until, ok, err := k.Open(ctx, ring, basic.Credentials{User: name, Password: password}, "192.0.2.7")
		if err != nil {
			t.Fatal(err)
		}
		return until, ok
	}
	want := func(when, ring, name, password string, want bool) {
		t.Helper()
		if _, ok := opens(ring, name, password); ok != want {
			t.Errorf("%s: %v", when, ok)
		}
	}
	do := func(err error) {
		t.Helper()
		before := changed
		if err != nil {
			t.Fatal(err)
		}
		if changed = 0; before == 0 {
			t.Error("what was verified still counts")
		}
	}
	if _, err := k.Add(ctx, "test", "outer", NewEntry{Name: "smith", Password: first, Until: now.Add(48 * time.Hour)}); err != nil {
		t.Fatal(err)
	}
	want("its password", "outer", "smith", first, true)
	want("another one", "outer", "smith", second, false)
	want("another keyring", "inner", "smith", first, false)
	want("another name", "outer", "baker", first, false)
	want("no name", "outer", "", first, false)
	if until, _ := opens("outer", "smith", first); !until.Equal(now.Add(48 * time.Hour)) {
		t.Errorf("it is remembered until %v", until)
	}
	do(k.Rotate(ctx, "test", "outer", "smith", second, time.Hour))
	want("the new password", "outer", "smith", second, true)
	want("the one before, for a while", "outer", "smith", first, true)
	now = now.Add(time.Hour)
	want("the one before, later", "outer", "smith", first, false)
	do(k.Switch(ctx, "test", "outer", "smith", true))
	want("disabled", "outer", "smith", second, false)
	do(k.Switch(ctx, "test", "outer", "smith", false))
	want("enabled", "outer", "smith", second, true)
	now = now.Add(48 * time.Hour)
	want("ended", "outer", "smith", second, false)
	do(k.Remove(ctx, "test", "outer", "smith"))
	for what, err := range map[string]error{
		"unknown": k.Rotate(ctx, "test", "outer", "smith", first, 0), "invalid": k.Rotate(ctx, "test", "outer", "smith", "short", 0),
	} {
		var wrong *mistake.Error
		if !errors.As(err, &wrong) || wrong.Kind != what {
			t.Errorf("%s: %v", what, err)
		}
	}
	limiter.Forget()
	for {
		_, ok, err := k.Open(ctx, "outer", basic.Credentials{User: "smith", Password: first}, "192.0.2.7")
		var slow *throttle.Slow
		if errors.As(err, &slow) {
			break
		}
		if ok || err != nil {
			t.Fatal(ok, err)
		}
	}
}
