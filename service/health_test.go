package service

import (
	"net/http/httptest"
	"path/filepath"
	"testing"
	"time"

	"ostiarius/store"
)

// A service that stops, or whose records cannot be read, is not ready, and lives all the same.
func TestReady(t *testing.T) {
	records, err := store.Open(filepath.Join(t.TempDir(), store.FileName))
	if err != nil {
		t.Fatal(err)
	}
	s := &Service{store: records}
	ask := func() (live, ready int) {
		one, other := httptest.NewRecorder(), httptest.NewRecorder()
		s.live(one, httptest.NewRequest("GET", "/", nil))
		s.readyNow(other, httptest.NewRequest("GET", "/", nil))
		return one.Code, other.Code
	}
	if live, ready := ask(); live != 200 || ready != 200 {
		t.Error(live, ready)
	}
	s.stopping.Store(true)
	if live, ready := ask(); live != 200 || ready != 503 {
		t.Errorf("stopping: %d %d", live, ready)
	}
	s.stopping.Store(false)
	records.Close()
	s.ready = readiness{} // some time later
	if live, ready := ask(); live != 200 || ready != 503 {
		t.Errorf("without records: %d %d", live, ready)
	}
}

// However often it is asked, the records are looked at once a second.
func TestReadyIsNotAskedTooOften(t *testing.T) {
	var r readiness
	looks := 0
	look := func() bool { looks++; return true }
	now := time.Now()
	for range 100 {
		if !r.ask(now, look) {
			t.Error("not ready")
		}
	}
	r.ask(now.Add(2*time.Second), look)
	r.ask(now.Add(-time.Hour), look) // the clock was put back
	if looks != 3 {
		t.Errorf("%d looks", looks)
	}
}
