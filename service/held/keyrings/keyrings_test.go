package keyrings

import (
	"errors"
	"log/slog"
	"strings"
	"testing"
	"time"

	"ostiarius/core/basic"
	"ostiarius/core/keyring"
	"ostiarius/core/policy"
	"ostiarius/core/policy/read"
	"ostiarius/core/secret"
	"ostiarius/core/throttle"
	"ostiarius/service/base/ending"
	"ostiarius/service/base/hashing"
	"ostiarius/service/base/known"
	"ostiarius/service/base/mistake"
	"ostiarius/service/keep/activity"
	"ostiarius/store"
	"ostiarius/store/fresh"
)

// What opens a keyring, and what does no more; what was verified counts no longer after each change.
func TestOpen(t *testing.T) {
	records := fresh.Records(t, t.TempDir())
	book, findings := read.Parse("doors.yaml", []byte("keyrings: {outer: , inner: }\ndoors: [{path: /, admit: {keyring: outer}}]"))
	if book == nil {
		t.Fatal(findings)
	}
	ctx, now, changed := t.Context(), time.Date(2026, 11, 25, 12, 0, 0, 0, time.UTC), 0
	clock := func() time.Time { return now }
	limiter := &throttle.Limiter{}
	k := New(Options{
		Store: records, Book: func() *policy.Book { return book }, Now: clock,
		Hashing: hashing.New(secret.Cost{Memory: 64, Passes: 1, Threads: 1}, nil),
		Limiter: limiter, Places: known.New(known.Options{Store: records, Now: clock}), Endings: &ending.List{},
		Activity: activity.New(activity.Options{Store: records, Now: clock}), Log: slog.New(slog.DiscardHandler),
	})
	records.Subscribe(func(n store.News) {
		if n.Keyrings {
			changed++
		}
	})
	const first, second = "creaky-third-step", "kettle-moth-anvil"
	var over *keyring.Over // said of the last
	opens := func(ring, name, password string) (until time.Time, ok bool) {
		t.Helper()
		limiter.Forget()
		until, ok, err := k.Open(ctx, ring, basic.Credentials{User: name, Password: password}, "192.0.2.7")
		if over = nil; err != nil && !errors.As(err, &over) {
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
	recorded := func(what, detail string) {
		t.Helper()
		events, err := records.AllEvents(ctx, store.ActivityQuery{Kind: "sign-in failed", Limit: 1})
		if err != nil || len(events) != 1 || !strings.Contains(events[0].Detail, detail) {
			t.Errorf("%s: %+v %v", what, events, err)
		}
	}
	do(k.Switch(ctx, "test", "outer", "smith", true))
	want("disabled again", "outer", "smith", second, false)
	recorded("disabled", "the name is disabled")
	do(k.Switch(ctx, "test", "outer", "smith", false))
	now = now.Add(48 * time.Hour)
	want("ended", "outer", "smith", second, false)
	recorded("ended", "the name has ended")
	if over == nil || over.Disabled || !over.Until.Equal(now.Add(-time.Hour)) {
		t.Errorf("ended: %+v", over)
	}
	want("ended, and wrong", "outer", "smith", first, false)
	recorded("ended, and wrong", "wrong credentials")
	if over != nil {
		t.Errorf("ended, and wrong: %+v", over)
	}
	note := "mends the railing"
	do(k.Edit(ctx, "test", "outer", "smith", Edit{Note: &note, Until: now.Add(time.Hour)}))
	want("with another end", "outer", "smith", second, true)
	now = now.Add(time.Hour)
	want("ended again", "outer", "smith", second, false)
	do(k.Edit(ctx, "test", "outer", "smith", Edit{Endless: true}))
	want("without an end", "outer", "smith", second, true)
	if all, err := k.Entries(ctx, "outer"); err != nil || len(all) != 1 || all[0].Note != note || !all[0].Until.IsZero() {
		t.Errorf("%+v %v", all, err)
	}
	long := strings.Repeat("x", mistake.LongestNote+1)
	for what, to := range map[string]Edit{
		"nothing": {}, "the past": {Until: now}, "both": {Until: now.Add(time.Hour), Endless: true}, "too long": {Note: &long},
	} {
		var wrong *mistake.Error
		if err := k.Edit(ctx, "test", "outer", "smith", to); !errors.As(err, &wrong) {
			t.Errorf("%s: %v", what, err)
		}
	}
	do(k.Remove(ctx, "test", "outer", "smith"))
	for what, err := range map[string]error{
		"unknown": errors.Join(k.Rotate(ctx, "test", "outer", "smith", first, 0),
			k.Edit(ctx, "test", "outer", "smith", Edit{Endless: true})), "invalid": k.Rotate(ctx, "test", "outer", "smith", "short", 0),
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
