package inforce

import (
	"context"
	"database/sql"
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"testing"
)

// A version that cannot be recorded is not in force. If the file cannot be put back then either, it is
// said, and what was in force before stays.
func TestWhatCannotBeRecordedIsNotInForce(t *testing.T) {
	for _, back := range []bool{true, false} {
		records, o := keep(t, closed)
		h := follow(t, o)
		other, err := sql.Open("sqlite", "file:"+records.Path())
		if err != nil {
			t.Fatal(err)
		}
		other.SetMaxOpenConns(1)
		if _, err := other.Exec("BEGIN IMMEDIATE"); err != nil { // nobody else can write
			t.Fatal(err)
		}
		ctx, cancel := context.WithCancel(t.Context())
		failed := make(chan error)
		go func() {
			_, err := h.Apply(ctx, "test", Draft{Text: []byte(open)})
			failed <- err
		}()
		// The file is written first: a version that is recorded and not in the file would be undone.
		for text := []byte(nil); string(text) != open; {
			if text, err = os.ReadFile(o.File); err != nil && !errors.Is(err, fs.ErrNotExist) {
				t.Fatal(err)
			}
		}
		dir := filepath.Dir(o.File)
		if !back {
			if err := os.Rename(dir, dir+".gone"); err != nil {
				t.Fatal(err)
			}
		}
		cancel()
		err = <-failed
		other.Exec("ROLLBACK")
		other.Close()
		if err == nil || h.admits("/") || h.Version() != 1 {
			t.Fatalf("put back %v: version %d, %v", back, h.Version(), err)
		}
		if back {
			if text, err := os.ReadFile(o.File); err != nil || string(text) != closed {
				t.Errorf("the file has %q, %v", text, err)
			}
			continue
		}
		if !strings.Contains(err.Error(), dir) {
			t.Errorf("that the file could not be put back is not said: %v", err)
		}
		if err := os.Rename(dir+".gone", dir); err != nil {
			t.Fatal(err)
		}
	}
}

// A text with errors, one that is based on an older version, and one that opens what it must not change
// nothing: not the file, not the records, not what is in force.
func TestRefusedDrafts(t *testing.T) {
	_, o := keep(t, closed)
	h := follow(t, o)
	var unfit *Unfit
	var opens *Opens
	for _, test := range []struct {
		draft Draft
		want  func(error) bool
	}{
		{Draft{Text: []byte("doors: [")}, func(err error) bool { return errors.As(err, &unfit) && strings.Contains(err.Error(), "line 1") }},
		{Draft{Text: []byte("doors: [{path: /a, admit: {role: nobody-has-it}}, {path: relative, admit: public}]")}, func(err error) bool {
			return errors.As(err, &unfit) && strings.Contains(err.Error(), "more)")
		}},
		{Draft{Text: []byte(open), Base: 7}, func(err error) bool { return errors.Is(err, ErrOvertaken) }},
		{Draft{Text: []byte(open), NoOpening: true},
			func(err error) bool { return errors.As(err, &opens) && strings.Contains(err.Error(), "to anonymous") }},
	} {
		if _, err := h.Apply(t.Context(), "test", test.draft); !test.want(err) {
			t.Errorf("%q: %v", test.draft.Text, err)
		}
	}
	if versions, err := h.Versions(t.Context()); err != nil || len(versions) != 1 || h.admits("/") {
		t.Errorf("%+v %v", versions, err)
	}
	if text, err := os.ReadFile(o.File); err != nil || string(text) != closed {
		t.Errorf("the file has %q, %v", text, err)
	}
	if _, err := h.Apply(t.Context(), "test", Draft{Text: []byte(closed + "# closed\n"), Base: 1, NoOpening: true}); err != nil {
		t.Errorf("what opens nothing: %v", err)
	}
}
