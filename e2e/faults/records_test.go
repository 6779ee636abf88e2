package faults

import (
	"fmt"
	"log/slog"
	"net/http/httptest"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"ostiarius/client"
	"ostiarius/core/secret"
	"ostiarius/service"
	"ostiarius/service/who/people"
)

// While another program has the records locked, who is signed in goes on to be let in, also after a start; what would change something says
// that it cannot, and when to try again. When the lock is gone, all is as before, and what was told meanwhile is found.
func TestLockedRecords(t *testing.T) {
	t.Parallel()
	s := newSite(t, "").start()
	s.add("ines", "keeper")
	var cookies []string
	for range 20 {
		cookies = append(cookies, s.signIn("ines"))
	}
	s.stop()
	s.start()
	unlock := must(Lock(s.data, false))(t)
	defer unlock()
	began := time.Now()
	var under sync.WaitGroup
	for _, cookie := range cookies {
		under.Go(func() {
			if a := s.get("/log/", cookie); a.status != 200 || !strings.Contains(a.body, "log/index") {
				t.Errorf("signed in: %d %v", a.status, a.err)
			}
		})
	}
	under.Wait()
	if took := time.Since(began); took > 5*time.Second {
		t.Errorf("20 pages took %v", took)
	}
	if a := s.get("/minutes/", cookies[0], "Accept", "application/json"); a.status != 403 {
		t.Errorf("without the role: %d", a.status)
	}
	var refusal client.Problem
	a := s.get("/minutes/", cookies[0], "Accept", "application/json")
	if err := jsonOf(a.body, &refusal); err != nil || refusal.Reference == "" {
		t.Fatalf("no reference: %s", a.body)
	}
	// a steward sees what there is
	if list, err := client.ListSessions.Ask(t.Context(), s.api(),
		client.SessionsQuery{Account: "", Search: "", Offset: 0, Limit: 10}); err != nil || list.Total < 20 {
		t.Errorf("the sessions: %d %v", list.Total, err)
	}
	if _, err := signIn(s.process.URL, "ines"); err == nil || !strings.Contains(err.Error(), "503") || strings.Contains(err.Error(), `""`) {
		t.Errorf("signing in: %v", err)
	}
	unlock()
	if _, err := signIn(s.process.URL, "ines"); err != nil {
		t.Errorf("signing in afterwards: %v", err)
	}
	eventually(t, "what was told is found", func() bool {
		found, err := s.api().Activity(t.Context(), client.ActivityQuery{Reference: refusal.Reference, Limit: 1})
		return err == nil && len(found) == 1
	})
}

// Records that may not even be read let nobody in who is not known, say so soon, and keep nobody out who is known, or a stranger.
func TestUnreadableRecords(t *testing.T) {
	t.Parallel()
	s := newSite(t, "").start()
	s.add("ines", "keeper")
	s.add("walt", "trustee")
	known := s.signIn("ines")
	s.stop()
	s.start()
	eventually(t, "she is known", func() bool { return s.get("/log/", known).status == 200 })
	s.stop() // so that nothing has the file open
	unlock := must(Lock(s.data, true))(t)
	unlock()
	s.start()
	if a := s.get("/log/", known); a.status != 200 {
		t.Fatal(a.status)
	}
	forged := "ostiarius-session=" + strings.Repeat("A", 43)
	unlock, err := Lock(s.data, true)
	if err != nil { // the service has it open, so it cannot be locked whole; then at least nobody is let in
		t.Logf("not locked whole: %v", err)
		unlock = func() {}
	}
	defer unlock()
	began := time.Now()
	if a := s.get("/log/", known); a.status != 200 {
		t.Errorf("who is known: %d", a.status)
	}
	if a := s.get("/", ""); a.status != 200 {
		t.Errorf("a public page: %d", a.status)
	}
	if a := s.get("/log/", forged); a.status == 200 || a.status == 503 && a.header.Get("Retry-After") == "" {
		t.Errorf("a forged session: %d %v", a.status, a.header)
	}
	if took := time.Since(began); took > 8*time.Second {
		t.Errorf("three answers took %v", took)
	}
}

// A disk that takes its time for what is written holds up nobody who reads.
func TestSlowDisk(t *testing.T) {
	dir := t.TempDir()
	s := siteIn(t, dir, filepath.Join(dir, "d"), "")
	running, err := service.Open(service.Settings{
		Policy: filepath.Join(dir, "doors.yaml"), Listen: "127.0.0.1:0", Data: s.data, Log: slog.New(slog.DiscardHandler),
		Cost: secret.Cost{Memory: 64, Passes: 1, Threads: 1}, Records: SlowDriver,
	})
	if err != nil {
		t.Fatal(err)
	}
	defer running.Close()
	if _, err := running.Rooms().People.Add(t.Context(), "test",
		people.NewAccount{Name: "ines", Password: good, Roles: []string{"keeper"}}); err != nil {
		t.Fatal(err)
	}
	server := httptest.NewServer(running.Handler())
	defer server.Close()
	var cookies []string
	for range 10 {
		cookie, err := signIn(server.URL, "ines")
		if err != nil {
			t.Fatal(err)
		}
		cookies = append(cookies, cookie)
	}
	SetSlow(time.Second)
	defer SetSlow(0)
	var under sync.WaitGroup
	for i := range 4 { // who write, one after the other
		under.Go(func() {
			if _, err := running.Rooms().People.Add(t.Context(), "test",
				people.NewAccount{Name: fmt.Sprint("hand", i), Password: good}); err != nil {
				t.Error(err)
			}
		})
	}
	began := time.Now()
	for _, cookie := range cookies {
		if a := ask(stranger, "GET", server.URL+"/log/", cookie, nil); a.status != 200 {
			t.Errorf("%d %v", a.status, a.err)
		}
	}
	if took := time.Since(began); took > time.Second {
		t.Errorf("ten pages took %v while others wrote", took)
	}
	under.Wait()
}

// While there is no room on the disk, pages go on; and what was told meanwhile is found when there is room again.
func TestFullDisk(t *testing.T) {
	t.Parallel()
	disk := must(NewDisk(3000))(t)
	t.Cleanup(func() { disk.Close() })
	s := siteIn(t, t.TempDir(), filepath.Join(disk.Dir, "d"), "").start()
	s.add("ines", "keeper")
	s.add("walt", "keeper")
	cookie, walts := s.signIn("ines"), s.signIn("walt")
	free := must(disk.Fill())(t)
	var references []string
	for i := range 30 { // what is noted takes room in the end
		a := s.get(fmt.Sprint("/minutes/", i), cookie, "Accept", "application/json")
		var refusal client.Problem
		if err := jsonOf(a.body, &refusal); err != nil || a.status != 403 {
			t.Fatalf("%d %s", a.status, a.body)
		}
		references = append(references, refusal.Reference)
		if a := s.get("/log/", cookie); a.status != 200 {
			t.Fatalf("a page: %d", a.status)
		}
	}
	failed := 0
	for i := range 30 {
		if _, err := client.AddPerson.Ask(t.Context(), s.api(), client.NewPerson{Name: fmt.Sprint("hand", i), Password: good}); err != nil {
			failed++
		}
	}
	if failed == 0 {
		t.Error("the disk was not full")
	}
	// What is taken away is gone at once, and whoever asked is told that it is not written down.
	if a := s.get("/log/", walts); a.status != 200 {
		t.Fatalf("walt: %d", a.status)
	}
	if err := client.DisablePerson.Do(t.Context(), s.api(), client.Disabled{Account: "walt", Disabled: true}); err == nil ||
		!strings.Contains(err.Error(), "could not be written down") {
		t.Errorf("disabling while the disk is full: %v", err)
	}
	if a := s.get("/log/", walts); a.status == 200 {
		t.Error("walt is disabled and goes on")
	}
	free()
	eventually(t, "it is written down", func() bool {
		walt, err := client.ShowPerson.Ask(t.Context(), s.api(), client.ByName{Name: "walt"})
		return err == nil && walt.Disabled
	})
	for _, reference := range references {
		eventually(t, "the reference "+reference+" is found", func() bool {
			found, err := s.api().Activity(t.Context(), client.ActivityQuery{Reference: reference, Limit: 1})
			return err == nil && len(found) == 1
		})
	}
	if _, err := signIn(s.process.URL, "ines"); err != nil {
		t.Error(err)
	}
	s.stop()
	s.start()
	if a := s.get("/log/", walts); a.status == 200 {
		t.Error("walt is back with the next start")
	}
	if a := s.get("/log/", cookie); a.status != 200 {
		t.Errorf("ines is out with the next start: %d", a.status)
	}
}
