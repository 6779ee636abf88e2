package signin

import (
	"strings"
	"testing"
	"time"

	"ostiarius/core/secret"
)

// A half of a sign-in is kept under its token until its time is over, is taken once, and when there are too many, all are forgotten.
func TestHalves(t *testing.T) {
	now := time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)
	var h halves
	is := func(token string, at time.Time, account int64) {
		t.Helper()
		one, ok := h.get(token, at)
		if ok != (account > 0) || ok && one.account != account {
			t.Errorf("%.5s: %+v %v, want the account %d", token, one, ok, account)
		}
	}
	is("", now, 0)
	one := h.begin(half{account: 7, until: now.Add(halfLasts)}, now)
	two := h.begin(half{account: 8, until: now.Add(halfLasts)}, now)
	is(one, now, 7)
	is(two, now.Add(halfLasts-1), 8)
	is(two, now.Add(halfLasts), 0)
	is("made-up", now, 0)
	is(strings.Repeat("A", 43), now, 0)
	for _, no := range []string{"", "made-up", strings.Repeat("A", 43)} {
		if h.take(no, now) {
			t.Errorf("%q was taken", no)
		}
	}
	if !h.take(one, now) || h.take(one, now) {
		t.Error("not taken once")
	}
	is(one, now, 0)
	if h.take(two, now.Add(halfLasts)) || h.take(two, now) {
		t.Error("taken though it is over, or after that")
	}
	// Those that are over go when another begins.
	late := now.Add(halfLasts)
	h.begin(half{account: 9, until: now.Add(time.Second)}, now)
	h.begin(half{account: 10, until: late.Add(halfLasts)}, late)
	if len(h.kept) != 1 {
		t.Errorf("%d are kept", len(h.kept))
	}
	h.kept = map[secret.TokenHash]half{}
	for i := range 10_000 {
		h.kept[secret.TokenHash{byte(i), byte(i >> 8)}] = half{until: now.Add(halfLasts)}
	}
	last := h.begin(half{account: 11, until: now.Add(halfLasts)}, now)
	if len(h.kept) != 1 {
		t.Errorf("%d are kept", len(h.kept))
	}
	is(last, now, 11)
}
