package store

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"
)

// copied copies some of the files of records into a new directory, as they are.
func copied(t *testing.T, path string, suffixes ...string) string {
	t.Helper()
	to := filepath.Join(t.TempDir(), "ostiarius.db")
	for _, suffix := range suffixes {
		text, err := os.ReadFile(path + suffix)
		if err == nil {
			err = os.WriteFile(to+suffix, text, 0o600)
		}
		if err != nil {
			t.Fatal(err)
		}
	}
	return to
}

// note writes something into records.
func note(t *testing.T, s *Store, n int) {
	t.Helper()
	for i := range n {
		if err := s.Record(t.Context(), Activity{At: time.Now(), Kind: "sign-out", Account: fmt.Sprint("p", i)}); err != nil {
			t.Fatal(err)
		}
	}
}

// has says how many things were written into records, or why they cannot be opened.
func has(t *testing.T, path string) string {
	t.Helper()
	s, err := Open(path)
	if err != nil {
		return err.Error()
	}
	defer s.Close()
	census, err := s.Census(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	return fmt.Sprint(census["records of activity"])
}

// A copy of one of the two files does not pass for all records.
func TestRecordsThatLackAPart(t *testing.T) {
	path := filepath.Join(t.TempDir(), "ostiarius.db")
	s, err := Open(path)
	if err != nil {
		t.Fatal(err)
	}
	for round := range 2 { // new records, and such as were there before
		note(t, s, 5)
		want := fmt.Sprint(5 * (round + 1))
		lone := copied(t, path, "")
		var lost *Lost
		if _, err := Open(lone); !errors.As(err, &lost) || !strings.Contains(err.Error(), "ostiarius.db-wal") ||
			!strings.Contains(err.Error(), "--accept-loss") {
			t.Errorf("the first file alone: %v", err)
		}
		if _, err := OpenToRead(lone); !errors.As(err, &lost) {
			t.Errorf("the first file alone, to read: %v", err)
		}
		if got := has(t, copied(t, path, "", "-wal")); got != want { // as after a crash
			t.Errorf("both files: %s", got)
		}
		second := copied(t, path, "-wal")
		if _, err := Open(second); !errors.As(err, &lost) {
			t.Errorf("the second file alone: %v", err)
		}
		if _, err := os.Stat(second); err == nil {
			t.Error("the first file was made anew")
		}
		for _, accepted := range []string{lone, second} {
			if err := AcceptLoss(accepted); err != nil {
				t.Error(err)
			}
			if got := has(t, accepted); got != fmt.Sprint(5*round) && (accepted == lone || got != "0") {
				t.Errorf("accepted: %s", got)
			}
		}
		if err := s.Close(); err != nil {
			t.Fatal(err)
		}
		if got := has(t, copied(t, path, "")); got != want {
			t.Errorf("closed, the first file alone: %s", got)
		}
		if err := AcceptLoss(path); err != nil || has(t, path) != want {
			t.Errorf("where nothing is missing: %v", err)
		}
		if s, err = Open(path); err != nil {
			t.Fatal(err)
		}
	}
	s.Close()
	if err := AcceptLoss(filepath.Join(t.TempDir(), "none")); err != nil {
		t.Error(err)
	}
}

// Records that a later version has changed are left alone.
func TestRecordsOfALaterVersion(t *testing.T) {
	path := filepath.Join(t.TempDir(), "ostiarius.db")
	s, err := Open(path)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := s.exec(t.Context(), `INSERT INTO migrations (name, at) VALUES ('999_wings.sql', 0)`); err != nil {
		t.Fatal(err)
	}
	s.Close()
	if _, err := Open(path); err == nil || !strings.Contains(err.Error(), "later version of Ostiarius (999_wings.sql)") {
		t.Error(err)
	}
}
