package store

import (
	"fmt"
	"path/filepath"
	"testing"
	"time"

	"ostiarius/core/activity"
)

// Whoever causes records without end pushes out their own: not what others have done, nor what others have caused.
func TestNobodyPushesOutWhatOthersDid(t *testing.T) {
	s := open(t, filepath.Join(t.TempDir(), "ostiarius.db"))
	now := time.Date(2026, 11, 25, 12, 0, 0, 0, time.UTC)
	add := func(kind activity.Kind, network string, n int) {
		t.Helper()
		for range n {
			if err := s.Record(t.Context(), Activity{At: now, Kind: kind, Network: network, AccountID: NoAccount}); err != nil {
				t.Fatal(err)
			}
		}
	}
	left := func() map[string]int {
		t.Helper()
		all, err := s.AllEvents(t.Context(), ActivityQuery{Limit: 10_000})
		if err != nil {
			t.Fatal(err)
		}
		left := map[string]int{}
		for _, e := range all {
			left[string(e.Kind)+" "+e.Network]++
		}
		return left
	}
	add(activity.RoleGranted, "192.0.2.7", 20)
	add(activity.SignInFailed, "198.51.100.9", 15)
	for _, kind := range activity.Anybodys {
		add(kind, "203.0.113.5", 20)
	}
	for i := range 60 { // of one network: an address each time
		add(activity.FactorFailed, fmt.Sprintf("2001:db8::%x", i), 1)
	}
	if err := s.BoundActivity(t.Context(), 100); err != nil {
		t.Fatal(err)
	}
	got, flood, six := left(), 0, 0
	for what, n := range got {
		switch {
		case what == "role granted 192.0.2.7" || what == "sign-in failed 198.51.100.9":
		case what[len(what)-len("203.0.113.5"):] == "203.0.113.5":
			flood += n
		default:
			six += n
		}
	}
	if got["role granted 192.0.2.7"] != 20 || got["sign-in failed 198.51.100.9"] != 15 || flood < 25 || six < 25 || 35+flood+six > 100 {
		t.Errorf("%d and %d are left of the floods: %v", flood, six, got)
	}
	// What nobody else can cause goes at last, the oldest first.
	add(activity.PolicyApplied, "192.0.2.8", 150)
	if err := s.BoundActivity(t.Context(), 100); err != nil {
		t.Fatal(err)
	}
	if got := left(); len(got) != 1 || got["policy applied 192.0.2.8"] != 98 {
		t.Errorf("left: %v", got)
	}
}
