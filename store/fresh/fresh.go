// Package fresh has records for tests that begin with empty ones: to make them anew, table by table, takes longer than most tests do.
package fresh

import (
	"os"
	"path/filepath"
	"sync"
	"testing"

	"ostiarius/store"
)

// made are the bytes of records that are empty and up to date. They are made once.
var made = sync.OnceValues(func() ([]byte, error) {
	dir, err := os.MkdirTemp("", "fresh")
	if err != nil {
		return nil, err
	}
	defer os.RemoveAll(dir)
	path := filepath.Join(dir, store.FileName)
	records, err := store.Open(path)
	if err != nil {
		return nil, err
	}
	if err := records.Close(); err != nil {
		return nil, err
	}
	return os.ReadFile(path)
})

// File writes empty records to a path, and the directory that they are in, if it is not there.
func File(t testing.TB, path string) {
	t.Helper()
	text, err := made()
	if err == nil {
		err = os.MkdirAll(filepath.Dir(path), 0o700)
	}
	if err == nil {
		err = os.WriteFile(path, text, 0o600)
	}
	if err != nil {
		t.Fatal(err)
	}
}

// Records opens empty records in a directory. They are closed at the end of the test.
func Records(t testing.TB, dir string) *store.Store {
	t.Helper()
	path := filepath.Join(dir, store.FileName)
	File(t, path)
	records, err := store.Open(path)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { records.Close() })
	return records
}
