package ending

import (
	"context"
	"errors"
	"testing"
	"time"

	"ostiarius/core/secret"
	"ostiarius/service/mistake"
)

// A reading that began before something was written down is told of it; one that begins later has
// read it, and what was made since at the same moment is not touched.
func TestReadingsBesideAWriting(t *testing.T) {
	now := time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)
	_, token := secret.NewToken()
	var l List
	take := func(e Ending, answer error) {
		t.Helper()
		e.Forget = func() {}
		if err := l.Take(context.Background(), e, func(context.Context) error { return answer }); !errors.Is(err, answer) {
			t.Error(err)
		}
	}
	for _, c := range []struct {
		Ending
		touches func(Look) bool
	}{
		{Ending{Account: 7}, func(k Look) bool { return k.Bars(7) && !k.Bars(8) }},
		{Ending{Account: 7}, func(k Look) bool { return k.HasSession(token, now, 7) && !k.HasSession(token, now, 8) }},
		{Ending{Token: &token}, func(k Look) bool { return k.HasSession(token, now, 8) }},
		{Ending{SessionsOf: 7, Before: now}, func(k Look) bool { return k.HasSession(token, now, 7) && !k.HasSession(token, now.Add(1), 7) }},
		{Ending{All: true, Before: now}, func(k Look) bool { return k.HasSession(token, now, 8) }},
		{Ending{Ring: "a", Name: "b"}, func(k Look) bool { return k.HasEntry("a", "b") && !k.HasEntry("b", "b") }},
		{Ending{Thing: "pass x", Until: now}, func(k Look) bool { return k.HasThing("pass x", now) && !k.HasThing("pass x", now.Add(1)) }},
	} {
		before := l.Look()
		take(c.Ending, nil)
		if !c.touches(before) {
			t.Errorf("%+v is not seen by a reading beside it", c.Ending)
		}
		if c.touches(l.Look()) {
			t.Errorf("%+v is seen by a reading after it", c.Ending)
		}
		if len(l.Words()) > 0 {
			t.Error(l.Words())
		}
	}
	before := l.Look()
	take(Ending{Account: 9}, mistake.Unknown("there is none"))
	if before.Bars(9) {
		t.Error("what was not taken away bars")
	}
}

// However many are written, a reading sees all from after its beginning and none from before.
func TestManyReadingsBesideManyWritings(t *testing.T) {
	var l List
	var looks []Look
	for i := int64(1); i <= 50; i++ {
		looks = append(looks, l.Look())
		if err := l.Take(context.Background(), Ending{Account: i, Forget: func() {}}, func(context.Context) error { return nil }); err != nil {
			t.Fatal(err)
		}
	}
	for i, k := range looks {
		for account := int64(1); account <= 50; account++ {
			if k.Bars(account) != (account > int64(i)) {
				t.Errorf("the reading before writing %d: %d barred is %v", i+1, account, k.Bars(account))
			}
		}
	}
}
