package inforce

import (
	"errors"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"golang.org/x/sys/unix"

	"ostiarius/e2e/needs"
)

// Who does not own the file hears of writers through the system's notices.
func TestHeardOfWriters(t *testing.T) {
	file := filepath.Join(t.TempDir(), "doors.yaml")
	put(t, file, closed)
	l := &lookout{}
	defer l.close()
	heard := func(want writing, when string) {
		t.Helper()
		f, err := os.Open(file)
		if err != nil {
			t.Fatal(err)
		}
		defer f.Close()
		if got := l.heard(f); got != want {
			t.Errorf("%s: %d, want %d", when, got, want)
		}
	}
	heard(unknown, "at first")
	w, err := os.OpenFile(file, os.O_WRONLY|os.O_TRUNC, 0)
	if err != nil {
		t.Fatal(err)
	}
	heard(under, "emptied")
	w.WriteString(open)
	heard(under, "written")
	w.Close()
	heard(over, "closed")
	put(t, file+".new", closed)
	if err := os.Rename(file+".new", file); err != nil {
		t.Fatal(err)
	}
	heard(unknown, "another file")
	put(t, file, open)
	heard(over, "and written")
}

// A file that is mounted by itself cannot be replaced, and is written in place; one that is mounted
// over it is noticed.
func TestMountedFile(t *testing.T) {
	_, o := keep(t, open)
	from := filepath.Join(filepath.Dir(o.File), "elsewhere.yaml")
	put(t, from, open)
	mount := func() {
		if err := unix.Mount(from, o.File, "", unix.MS_BIND, ""); err != nil {
			needs.Skip(t, "nothing can be mounted here: %v", err)
		}
		t.Cleanup(func() { unix.Unmount(o.File, unix.MNT_DETACH) })
	}
	mount()
	h := follow(t, o)
	h.passes(2 * quiet)
	if _, err := h.Apply(t.Context(), "test", Draft{Text: []byte(closed)}); err != nil {
		t.Fatal(err)
	}
	if text, err := os.ReadFile(from); err != nil || string(text) != closed || h.admits("/") {
		t.Errorf("%q %v", text, err)
	}
	if _, err := os.Stat(o.Copy); !errors.Is(err, os.ErrNotExist) {
		t.Error("the copy is left")
	}
	if err := unix.Unmount(o.File, 0); err != nil {
		t.Fatal(err)
	}
	h.passes(3 * quiet) // what lay below
	if !h.admits("/") {
		t.Fatal("not open")
	}
	mount()
	h.passes(2 * soon)
	if h.admits("/") {
		t.Error("the file that is mounted says closed, and the site is open")
	}
}

// A file that cannot be written at all is told so, nothing changes, and the next start finds nothing half done.
func TestReadOnlyFile(t *testing.T) {
	_, o := keep(t, open)
	from := filepath.Join(filepath.Dir(o.File), "elsewhere.yaml")
	put(t, from, open)
	if err := unix.Mount(from, o.File, "", unix.MS_BIND, ""); err != nil {
		needs.Skip(t, "nothing can be mounted here: %v", err)
	}
	t.Cleanup(func() { unix.Unmount(o.File, unix.MNT_DETACH) })
	if err := unix.Mount("", o.File, "", unix.MS_BIND|unix.MS_REMOUNT|unix.MS_RDONLY, ""); err != nil {
		needs.Skip(t, "nothing can be mounted read-only here: %v", err)
	}
	h := follow(t, o)
	_, err := h.Apply(t.Context(), "test", Draft{Text: []byte(closed)})
	var unwritable *Unwritable
	if !errors.As(err, &unwritable) || !strings.Contains(err.Error(), o.File) || strings.Contains(err.Error(), ".new") {
		t.Errorf("%v", err)
	}
	if _, err := os.Stat(o.Copy); !errors.Is(err, os.ErrNotExist) || !h.admits("/") {
		t.Error("something has changed")
	}
	// Also where an earlier service left its copy behind.
	put(t, o.Copy, open)
	if err := h.mend(); err != nil {
		t.Error(err)
	}
	if _, err := os.Stat(o.Copy); !errors.Is(err, os.ErrNotExist) {
		t.Error("the copy is left")
	}
}
