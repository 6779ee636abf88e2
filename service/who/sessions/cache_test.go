package sessions

import (
	"fmt"
	"math/rand/v2"
	"testing"
	"time"

	"ostiarius/core/account"
	"ostiarius/core/policy/read"
	"ostiarius/core/secret"
	"ostiarius/core/session"
)

// What is kept in memory of a session holds exactly as long as the session: it is worked out once, and
// compared here with what session.Alive says at each time.
func TestEntriesAreAliveLikeTheirSessions(t *testing.T) {
	random := rand.New(rand.NewPCG(14, 12))
	noon := time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)
	durations := []string{"0", "30m", "12h", "30d"}
	alive := 0
	for range 3000 {
		pick := func() string { return durations[random.IntN(len(durations))] }
		text := fmt.Sprintf("doors: [{path: /, admit: public}]\nsessions: {idle: %s, lifetime: %s, remembered: %s}", pick(), pick(), pick())
		book, findings := read.Parse("doors.yaml", []byte(text))
		if book == nil {
			t.Fatal(findings)
		}
		moment := func() time.Time {
			return noon.Add(time.Duration(random.Int64N(int64(80*24*time.Hour))).Truncate(time.Second) - 40*24*time.Hour)
		}
		s := &session.Session{MadeAt: moment(), SeenAt: moment(), Remembered: random.IntN(2) == 0}
		a := &account.Account{Name: "ines"}
		e := newEntry(s, a, book, noon)
		for _, at := range []time.Time{moment(), s.MadeAt, s.SeenAt, s.SeenAt.Add(30 * time.Minute), s.MadeAt.Add(12 * time.Hour),
			s.MadeAt.Add(30 * 24 * time.Hour), s.MadeAt.Add(-session.Slack), s.SeenAt.Add(-session.Slack)} {
			for _, off := range []time.Duration{-time.Second, 0, time.Second} {
				want := s.Alive(at.Add(off), s.SeenAt, session.Limits(e.limits))
				if got := e.alive(at.Add(off).UnixMilli()); got != want {
					t.Fatalf("%s: made %v, seen %v, remembered %v, at %v: %v, want %v", text, s.MadeAt, s.SeenAt, s.Remembered, at.Add(off), got, want)
				}
				if want {
					alive++
				}
			}
		}
	}
	if alive < 5000 {
		t.Errorf("only %d were alive", alive)
	}
}

// BenchmarkRenew replaces tokens where so many were replaced in the last minute.
func BenchmarkRenew(b *testing.B) {
	for _, minute := range []int{20, 20_000} {
		b.Run(fmt.Sprint(minute, " in the last minute"), func(b *testing.B) {
			c, now := newCache(), time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)
			renew := func() {
				_, before := secret.NewToken()
				_, after := secret.NewToken()
				if _, err := c.renew(&session.Session{Hash: before, Rights: "keeper"}, after, now, func() error { return nil }); err != nil {
					b.Fatal(err)
				}
				now = now.Add(time.Minute / time.Duration(minute))
			}
			for range minute {
				renew()
			}
			for b.Loop() {
				renew()
			}
			if n := len(c.renewed); n > minute+2 {
				b.Errorf("%d are remembered", n)
			}
		})
	}
}
