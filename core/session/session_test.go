package session

import (
	"testing"
	"time"

	"ostiarius/core/factor"
	"ostiarius/core/secret"
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

// What was shown in a session is noted with its time, counts for what it can, and is taken back by itself.
func TestWhatWasShown(t *testing.T) {
	noon := time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)
	after := func(minutes int) time.Time { return noon.Add(time.Duration(minutes) * time.Minute) }
	var s Session
	says := func(what, proofs string, proved int, only bool) {
		t.Helper()
		want := time.Time{}
		if proved >= 0 {
			want = after(proved)
		}
		if s.Proofs() != proofs || !s.ProvedAt.Equal(want) || s.OnlyPassword() != only {
			t.Errorf("%s: %q at %s, only the password %v", what, s.Proofs(), s.ProvedAt, s.OnlyPassword())
		}
	}
	says("nothing", "", -1, true)
	s.Prove(factor.Password, after(1))
	says("a password", "password", 1, true)
	if s.How != "password" || s.Factors(after(5)) != (factor.Shown{}) {
		t.Errorf("%q %+v", s.How, s.Factors(after(5)))
	}
	s.Prove(factor.Code, after(2)) // opens nothing by itself
	says("a code besides", "password code", 1, false)
	if age, is := s.Factors(after(5)).Age(factor.Code); !is || age != 3*time.Minute || s.How != "password" {
		t.Errorf("%v %v %q", age, is, s.How)
	}
	s.Prove(factor.Passkey, after(3))
	s.Prove(factor.Elsewhere, after(2))
	says("more", "password elsewhere passkey code", 2, false)
	s.Unprove(factor.Code) // it is not by what was proved last
	says("no code", "password elsewhere passkey", 2, false)
	s.Unprove(factor.Elsewhere)
	says("the latest of what is left", "password passkey", 3, false)
	if s.How != "passkey" {
		t.Error(s.How)
	}
	s.Prove(factor.Code, after(9))
	s.Unprove(factor.Passkey)
	says("a code does not prove by itself", "password code", 1, false)
	s.Unprove(factor.Password)
	says("a code alone", "code", -1, false)
	if s.How != "" {
		t.Error(s.How)
	}
	if old := (Session{How: "password"}); old.Proofs() != "password" || !old.OnlyPassword() {
		t.Errorf("of a version before: %q", old.Proofs())
	}
	var fresh Session
	fresh.Prove(factor.Password, after(10))
	before := Session{}
	before.Prove(factor.Password, after(1))
	before.Prove(factor.Code, after(2))
	fresh.Keep(&before)
	if fresh.Shown[factor.Password] != after(10) || fresh.Shown[factor.Code] != after(2) || fresh.Shown[factor.Passkey] != (time.Time{}) {
		t.Errorf("%+v", fresh.Shown)
	}
}

// Limits as a question to records say the same as Alive, while the clock goes on.
func TestBounds(t *testing.T) {
	now := time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)
	made, seen, remembered := Limits{Idle: time.Minute, Lifetime: time.Hour}.Bounds(now)
	if made != now.Add(-time.Hour) || seen != now.Add(-time.Minute) || !remembered.IsZero() {
		t.Error(made, seen, remembered)
	}
	made, seen, remembered = Limits{Remembered: time.Nanosecond}.Bounds(now)
	if !made.IsZero() || !seen.IsZero() || remembered != now.Add(-1) {
		t.Error(made, seen, remembered)
	}
}

// A handle has half of what the records know of a token, and nothing of the token.
func TestHandle(t *testing.T) {
	s := Session{Hash: secret.TokenHash{0: 0xab, 9: 0xcd, 10: 0xef}}
	if s.Handle() != "ab0000000000000000cd" || Rights([]string{"keeper", "angler"}) != "angler keeper" {
		t.Error(s.Handle(), Rights([]string{"keeper", "angler"}))
	}
}
