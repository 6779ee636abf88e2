package store

import (
	"context"
	"errors"
	"fmt"
	"path/filepath"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/jmoiron/sqlx"

	"ostiarius/core/session"
)

// lock has another program lock records, until the test is over or unlock is called.
func lock(t *testing.T, path, how string) (unlock func()) {
	t.Helper()
	other, err := sqlx.Open("sqlite", "file:"+path)
	if err != nil {
		t.Fatal(err)
	}
	other.SetMaxOpenConns(1)
	if _, err := other.Exec(how); err != nil {
		t.Fatal(err)
	}
	unlock = sync.OnceFunc(func() { other.Close() })
	t.Cleanup(unlock)
	return unlock
}

// Whoever reads does not wait for those who write, also not for other programs; and whoever writes waits no longer than they want to.
func TestReadersDoNotWait(t *testing.T) {
	path := filepath.Join(t.TempDir(), "a.db")
	s := open(t, path)
	ctx := t.Context()
	unlock := lock(t, path, "BEGIN IMMEDIATE")
	soon, cancel := context.WithTimeout(ctx, 20*time.Millisecond)
	defer cancel()
	if err := s.Record(soon, Activity{At: noon, Kind: "refused"}); err == nil {
		t.Error("something was written to locked records")
	}
	var under sync.WaitGroup
	for i := range 20 { // that wait to write, in the order of coming
		under.Go(func() {
			if err := s.Record(ctx, Activity{At: noon, Kind: "refused", Detail: fmt.Sprint(i)}); err != nil {
				t.Error(err)
			}
		})
	}
	for range 50 {
		if _, err := s.AccountByID(ctx, 1); err != ErrNone {
			t.Fatal(err)
		}
		if _, _, err := s.Sessions(ctx, SessionQuery{Now: noon, Limit: 10}); err != nil {
			t.Fatal(err)
		}
	}
	if all, err := s.AllEvents(ctx, ActivityQuery{Limit: 100}); err != nil || len(all) != 0 {
		t.Fatal(all, err)
	}
	unlock()
	under.Wait()
	if all, err := s.AllEvents(ctx, ActivityQuery{Limit: 100}); err != nil || len(all) != 20 {
		t.Errorf("%d events, %v", len(all), err)
	}
}

// A copy of the records is made beside those who write, and beside another program that has them locked to write.
func TestCopiesHoldUpNobody(t *testing.T) {
	path := filepath.Join(t.TempDir(), "a.db")
	s := open(t, path)
	if err := s.Record(t.Context(), Activity{At: noon, Kind: "refused"}); err != nil {
		t.Fatal(err)
	}
	lock(t, path, "BEGIN IMMEDIATE")
	to := filepath.Join(t.TempDir(), "copy.db")
	if err := s.Snapshot(t.Context(), to); err != nil {
		t.Fatal(err)
	}
	copied := open(t, to)
	if err := copied.CheckWhole(t.Context()); err != nil {
		t.Error(err)
	}
	if all, err := copied.AllEvents(t.Context(), ActivityQuery{Limit: 10}); err != nil || len(all) != 1 {
		t.Errorf("%v %v", all, err)
	}
}

// Records that nobody may even read are busy, which is told in time.
func TestLockedRecordsAreBusy(t *testing.T) {
	path := filepath.Join(t.TempDir(), "a.db")
	s := open(t, path)
	s.Close()
	s, err := openFile(path, "rw")
	if err != nil {
		t.Fatal(err)
	}
	defer s.close()
	lock(t, path, "PRAGMA locking_mode = EXCLUSIVE; BEGIN EXCLUSIVE; INSERT INTO in_use (since) VALUES (1); COMMIT")
	if _, err := s.AccountByID(t.Context(), 1); !errors.Is(err, ErrBusy) {
		t.Errorf("%v", err)
	}
}

// Others write while what has ended is removed, and what was removed takes no room.
func TestSweepsLetOthersWrite(t *testing.T) {
	path := filepath.Join(t.TempDir(), "a.db")
	s := open(t, path)
	ctx := t.Context()
	events := make([]Activity, 1200)
	for i := range events {
		events[i] = Activity{
			At: noon.Add(time.Duration(i) * time.Millisecond), Kind: "refused", Detail: "the lantern was out, and nobody has seen who was there",
		}
	}
	if err := s.Note(ctx, append(events, Activity{At: noon.Add(time.Hour), Kind: "refused"}), nil); err != nil {
		t.Fatal(err)
	}
	pages := func() (n int) {
		if err := s.get(ctx, &n, `PRAGMA page_count`); err != nil {
			t.Fatal(err)
		}
		return n
	}
	before := pages()
	var done atomic.Bool
	written := 0
	var writer sync.WaitGroup
	writer.Go(func() {
		for !done.Load() {
			if err := s.Record(ctx, Activity{At: noon.Add(time.Hour), Kind: "sign-in"}); err != nil {
				t.Error(err)
			}
			written++
		}
	})
	err := s.SweepActivity(ctx, noon.Add(time.Minute))
	done.Store(true)
	writer.Wait()
	if err != nil {
		t.Fatal(err)
	}
	left, err := s.AllEvents(ctx, ActivityQuery{Limit: 100_000})
	if err != nil || len(left) != written+1 {
		t.Errorf("%d are left of %d, %v", len(left), written+1, err)
	}
	if written < 3 {
		t.Errorf("only %d records were written meanwhile", written)
	}
	if err := s.GiveBack(ctx); err != nil {
		t.Fatal(err)
	}
	if after := pages(); after > before*3/4 {
		t.Errorf("%d pages of %d are left", after, before)
	}
	if err := s.SweepSessions(ctx, session.Limits{Idle: time.Hour}, noon); err != nil {
		t.Fatal(err)
	}
}

// A search that stops early is gone on with, and finds the same.
func TestSearchesGoOn(t *testing.T) {
	first, least := searchFirst, searchLeast
	searchFirst, searchLeast = 200, 100
	defer func() { searchFirst, searchLeast = first, least }()
	s := open(t, filepath.Join(t.TempDir(), "a.db"))
	ctx := t.Context()
	var events []Activity
	for i := range 1200 {
		e := Activity{At: noon.Add(time.Duration(i) * time.Second), Kind: "refused", Door: "/log/**"}
		if i%400 == 7 {
			e.Detail, e.Network = "the Lantern", "198.51.100.7"
		}
		events = append(events, e)
	}
	if err := s.Note(ctx, events, nil); err != nil {
		t.Fatal(err)
	}
	for name, q := range map[string]ActivityQuery{
		"words": {Words: "lantern"}, "network": {Network: "198.51.100."},
		"of a short time": {Words: "lantern", Until: noon.Add(10 * time.Minute)},
		"of a long time":  {Words: "lantern", Since: noon.Add(10 * time.Minute)},
	} {
		want := map[string]int{"words": 3, "network": 3, "of a short time": 2, "of a long time": 1}[name]
		q.Limit = 10
		all, err := s.AllEvents(ctx, q)
		if err != nil || len(all) != want {
			t.Errorf("%s: %d, want %d: %v", name, len(all), want, err)
		}
	}
	// One after the other, by what is left.
	var ids []int64
	for q := (ActivityQuery{Network: "198.51.100.", Limit: 1}); ; {
		some, rest, err := s.Events(ctx, q)
		if err != nil {
			t.Fatal(err)
		}
		for _, e := range some {
			ids = append(ids, e.ID)
		}
		if rest == 0 {
			break
		}
		q.Before = rest
	}
	if fmt.Sprint(ids) != "[808 408 8]" {
		t.Error(ids)
	}
}
