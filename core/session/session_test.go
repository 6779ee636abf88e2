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
		{"the clock went back", -time.Hour, -time.Hour, false, limits, true},
	} {
		s := Session{MadeAt: noon.Add(-test.age), SeenAt: noon.Add(-test.idle), ProvedAt: noon.Add(-test.age), Remembered: test.remembered}
		if got := s.Alive(noon, s.SeenAt, test.limits); got != test.want {
			t.Errorf("%s: alive %v", test.name, got)
		}
		if got := s.ProofAge(noon); got != max(0, test.age) {
			t.Errorf("%s: proof age %v", test.name, got)
		}
	}
}
