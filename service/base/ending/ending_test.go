package ending

import (
	"context"
	"errors"
	"fmt"
	"sync"
	"testing"
	"time"

	"ostiarius/core/secret"
	"ostiarius/service/base/mistake"
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

// What could not be written down holds all the same, is written down when that works again, and by one at a time.
func TestWhatFailedIsTriedAgain(t *testing.T) {
	var l List
	var mu sync.Mutex
	broken, tries := true, 0
	full := errors.New("database or disk is full")
	write := func(context.Context) error {
		mu.Lock()
		defer mu.Unlock()
		tries++
		if broken {
			return full
		}
		return nil
	}
	before := l.Look()
	err := l.Take(t.Context(), Ending{Account: 7, What: "that Ines is disabled", Forget: func() {}}, write)
	var unwritten *Unwritten
	if !errors.As(err, &unwritten) || !errors.Is(err, full) || unwritten.Error() == "" {
		t.Fatalf("whoever asked is told %v", err)
	}
	tried := func() int {
		mu.Lock()
		defer mu.Unlock()
		return tries
	}
	until := func(what string, is func() bool) {
		t.Helper()
		for end := time.Now().Add(20 * time.Second); !is(); time.Sleep(time.Millisecond) {
			if time.Now().After(end) {
				t.Fatal(what)
			}
			l.TryAgain(t.Context())
		}
	}
	until("it is tried no more", func() bool { return tried() >= 4 })
	if !l.Look().Bars(7) || !before.Bars(7) || len(l.Words()) != 1 {
		t.Errorf("after %d tries that failed it holds no more: %v", tried(), l.Words())
	}
	mu.Lock()
	broken = false
	mu.Unlock()
	until("it is not written down", func() bool { return len(l.Words()) == 0 })
	n := tried()
	for range 10 {
		l.TryAgain(t.Context())
	}
	time.Sleep(20 * time.Millisecond)
	if l.Look().Bars(7) || !before.Bars(7) || tried() != n {
		t.Errorf("written down: a reading after it is barred %v, one before it is not %v, and it was written %d times more",
			l.Look().Bars(7), !before.Bars(7), tried()-n)
	}

	// One that takes long is not begun a second time, and whoever asked is told after a while.
	begun, goOn := make(chan struct{}, 10), make(chan struct{})
	slow := make(chan error, 1)
	go func() {
		slow <- l.Take(t.Context(), Ending{Account: 8, What: "slow", Forget: func() {}}, func(context.Context) error {
			begun <- struct{}{}
			<-goOn
			return nil
		})
	}()
	<-begun
	for range 10 {
		l.TryAgain(t.Context())
	}
	if err := <-slow; !errors.As(err, &unwritten) || len(begun) != 0 || !l.Look().Bars(8) {
		t.Errorf("slow: %v, begun %d times more", err, len(begun))
	}
	close(goOn)
	until("the slow one is not written down", func() bool { return len(l.Words()) == 0 })
}

// What is given back in the meantime is not taken away after all, and nothing else is given back.
func TestGivenBack(t *testing.T) {
	full := errors.New("database or disk is full")
	var l List
	for _, e := range []Ending{{Account: 7}, {Account: 8}, {Ring: "outer", Name: "office"}, {Ring: "outer", Name: "guest"},
		{Ring: "inner", Name: "office"}, {Thing: "pass x"}, {Thing: "pass y"}, {SessionsOf: 7}} {
		e.What, e.Forget = fmt.Sprint(e.Account, e.Ring, e.Name, e.Thing, e.SessionsOf), func() {}
		l.Take(t.Context(), e, func(context.Context) error { return full })
	}
	l.Undo("pass z") // which is not there
	if len(l.Words()) != 8 {
		t.Fatal(l.Words())
	}
	l.Undo("pass x")
	l.Revoke(7, "", "")
	l.Revoke(0, "outer", "office")
	l.Revoke(0, "", "")
	if len(l.Words()) != 5 || l.Look().Bars(7) || !l.Look().Bars(8) || l.Look().HasEntry("outer", "office") ||
		!l.Look().HasEntry("outer", "guest") ||
		!l.Look().HasEntry("inner", "office") || l.Look().HasThing("pass x", time.Now()) || !l.Look().HasThing("pass y", time.Now()) {
		t.Errorf("left: %q", l.Words())
	}
}

// What is remembered is dropped before anything is written, and whoever hangs up has taken it away all the same.
func TestTakenWhateverBecomesOfTheClient(t *testing.T) {
	var l List
	gone, cancel := context.WithCancel(t.Context())
	cancel()
	forgotten, written := false, false
	err := l.Take(gone, Ending{Account: 7, Forget: func() { forgotten = true }}, func(ctx context.Context) error {
		written = true
		if !forgotten {
			t.Error("it is written before it is forgotten")
		}
		return ctx.Err()
	})
	if err != nil || !written {
		t.Errorf("%v, written %v", err, written)
	}
}

// Of all sessions those end that were made until then; of an account's, not the one that is spared; and nobody is meant by no number.
func TestWhoseSessionsEnd(t *testing.T) {
	now := time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)
	_, one := secret.NewToken()
	_, other := secret.NewToken()
	full := errors.New("database or disk is full")
	for what, test := range map[string]struct {
		Ending
		token   secret.TokenHash
		made    time.Time
		account int64
		want    bool
	}{
		"of all, before":           {Ending{All: true, Before: now}, one, now, 1, true},
		"of all, after":            {Ending{All: true, Before: now}, one, now.Add(1), 1, false},
		"of an account":            {Ending{SessionsOf: 1, Before: now}, one, now, 1, true},
		"of the first account":     {Ending{Account: 1}, one, now, 1, true},
		"of another":               {Ending{SessionsOf: 1, Before: now}, one, now, 2, false},
		"of nobody":                {Ending{SessionsOf: 0, Before: now}, one, now, 0, false},
		"nobody is disabled":       {Ending{Account: 0}, one, now, 0, false},
		"all but the one":          {Ending{SessionsOf: 1, Before: now, But: &one}, one, now, 1, false},
		"all but the one, another": {Ending{SessionsOf: 1, Before: now, But: &one}, other, now, 1, true},
		"the one":                  {Ending{Token: &one}, one, now.Add(time.Hour), 0, true},
		"the one, another":         {Ending{Token: &one}, other, now, 0, false},
	} {
		var l List
		test.Forget = func() {}
		l.Take(t.Context(), test.Ending, func(context.Context) error { return full })
		if got := l.Look().HasSession(test.token, test.made, test.account); got != test.want {
			t.Errorf("%s: %v", what, got)
		}
	}
}
