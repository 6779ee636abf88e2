package decisions

import (
	"context"
	"fmt"
	"net/netip"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"ostiarius/core/place"
	"ostiarius/core/policy"
	"ostiarius/core/policy/read"
)

func bookOf(t *testing.T, text string) *policy.Book {
	t.Helper()
	b, findings := read.Parse("doors.yaml", []byte(text))
	if b == nil {
		t.Fatal(findings)
	}
	return b
}

// What is decided is kept for as long as is said, exactly as it was, and a new policy is tried on it.
func TestKeptDecisions(t *testing.T) {
	before := bookOf(t, "roles: { keeper: }\ndoors: [ { path: /, admit: public }, { path: /log/**, admit: { role: keeper } } ]")
	after := bookOf(t, "roles: { keeper: }\ndoors: [ { path: /, admit: signed-in }, { path: /log/**, admit: { role: keeper, network: "+
		"192.0.2.0/28 } } ]")
	var mu sync.Mutex
	now := time.Date(2026, 11, 1, 12, 0, 0, 0, time.UTC)
	clock := func() time.Time { mu.Lock(); defer mu.Unlock(); return now }
	dir := filepath.Join(t.TempDir(), "decisions")
	r, err := Open(dir, 3*24*time.Hour, clock, func(what string, err error) { t.Error(what, err) })
	if err != nil {
		t.Fatal(err)
	}
	keeper := policy.Visitor{
		SignedIn: true, Account: "ines", Roles: []string{"keeper"}, ProofAge: 90 * time.Second, From: netip.MustParseAddr("192.0.2.7"),
	}
	elsewhere := keeper
	elsewhere.From = netip.MustParseAddr("198.51.100.7")
	decide := func(v policy.Visitor, path string) {
		d := before.Decide(policy.Request{Method: "GET", Path: path}, &v)
		r.Note(d.Outcome, d.Door, d.Place, v)
	}
	for day := range 6 {
		mu.Lock()
		now = time.Date(2026, 11, 1+day, 12, 0, 0, 0, time.UTC)
		mu.Unlock()
		decide(policy.Visitor{From: elsewhere.From}, "/")
		decide(keeper, "/log/")
		decide(elsewhere, "/log/")
		decide(policy.Visitor{}, "/log/")
		r.Note(policy.Reject, nil, place.Place{}, policy.Visitor{})
	}
	found, whole, err := r.Replay(t.Context(), after)
	if err != nil || !whole {
		t.Fatal(whole, err)
	}
	// The days from the 3rd on: in each, the stranger at / and the keeper from elsewhere.
	if found.Requests != 16 || found.Changed != 8 || found.People != 2 || found.Unread != 0 || found.Unknown != 0 {
		t.Errorf("%+v", found)
	}
	for _, g := range found.Groups {
		if g.Effect != "closed" || g.Requests != 4 {
			t.Errorf("%+v", g)
		}
	}
	same, _, err := r.Replay(t.Context(), before)
	if err != nil || same.Changed != 0 {
		t.Errorf("by the same policy: %+v %v", same, err)
	}
	over, cancel := context.WithCancel(t.Context())
	cancel()
	if _, whole, err := r.Replay(over, after); whole || err != nil {
		t.Errorf("what was not looked at passes for whole: %t %v", whole, err)
	}
	r.Close()
	files, _ := os.ReadDir(dir)
	if len(files) != 4 {
		t.Errorf("%d days are there", len(files))
	}
	text, err := os.ReadFile(filepath.Join(dir, "2026-11-06.jsonl"))
	if err != nil || strings.Count(string(text), "\n") != 4 || strings.Contains(string(text), "?") {
		t.Errorf("%s %v", text, err)
	}
	// A line that was cut off, and files that are none of ours, are no trouble.
	os.WriteFile(filepath.Join(dir, "2026-11-06.jsonl"), append(text, `{"time":"2026`...), 0o600)
	os.WriteFile(filepath.Join(dir, "notes.txt"), []byte("x"), 0o600)
	again, err := Open(dir, 3*24*time.Hour, clock, func(what string, err error) { t.Error(what, err) })
	if err != nil {
		t.Fatal(err)
	}
	defer again.Close()
	if found, whole, err = again.Replay(t.Context(), after); err != nil || !whole || found.Requests != 16 || found.Unread != 0 {
		t.Errorf("%+v %v", found, err)
	}
	var none *Record
	none.Note(policy.Admit, nil, place.Place{}, policy.Visitor{})
	if _, _, err := none.Replay(t.Context(), after); err != ErrNotKept {
		t.Error(err)
	}
}

func BenchmarkNote(b *testing.B) {
	r, err := Open(b.TempDir(), time.Hour, time.Now, func(string, error) {})
	if err != nil {
		b.Fatal(err)
	}
	defer r.Close()
	v := policy.Visitor{SignedIn: true, Account: "ines", Roles: []string{"keeper"}}
	at := place.Place{Method: "GET", Host: "marram.example", Path: "/log"}
	b.Run("kept", func(b *testing.B) {
		for b.Loop() {
			r.Note(policy.Admit, nil, at, v)
		}
	})
	b.Run("printed", func(b *testing.B) { // the baseline: a line of the same length
		for b.Loop() {
			_ = fmt.Sprintf("%s %s %s %s %s %s", time.Now().Format(time.RFC3339), v.String(), v.Account, at.Method, at.Host, at.Path)
		}
	})
}
