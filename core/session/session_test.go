package session

import (
	"testing"
	"time"
)

func TestAlive(t *testing.T) {
	noon := time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)
	limits := Limits{Idle: 30 * time.Minute, Lifetime: 12 * time.Hour, Remembered: 30 * 24 * time.Hour}
	for _, test := range []struct {
		name       string
		age, idle  time.Duration
		remembered bool
		limits     Limits
		want       bool
	}{
		{"new", 0, 0, false, limits, true},
		{"used a while ago", time.Hour, 29 * time.Minute, false, limits, true},
		{"idle", time.Hour, 30 * time.Minute, false, limits, false},
		{"old", 12 * time.Hour, 0, false, limits, false},
		{"remembered, idle", 48 * time.Hour, 47 * time.Hour, true, limits, true},
		{"remembered, old", 30 * 24 * time.Hour, 0, true, limits, false},
		{"no limits", 9000 * time.Hour, 9000 * time.Hour, false, Limits{}, true},
		{"the clock was set right", -time.Second, -time.Second, false, limits, true},
		{"the clock went back", -time.Hour, -time.Hour, false, limits, false},
		{"the clock went back since it was used", time.Hour, -time.Hour, false, limits, false},
		{"the clock went back, and it does not matter", -time.Hour, -time.Hour, false, Limits{}, true},
		{"remembered, used in the future", time.Hour, -time.Hour, true, limits, true},
		{"remembered, made in the future", -time.Hour, 0, true, limits, false},
	} {
		s := Session{MadeAt: noon.Add(-test.age), SeenAt: noon.Add(-test.idle), ProvedAt: noon.Add(-test.age), Remembered: test.remembered}
		if got := s.Alive(noon, s.SeenAt, test.limits); got != test.want {
			t.Errorf("%s: alive %v", test.name, got)
		}
		want := test.age
		if test.age < 0 {
			want = Unknown
		}
		if got := s.ProofAge(noon); got != want {
			t.Errorf("%s: proof age %v", test.name, got)
		}
	}
}
