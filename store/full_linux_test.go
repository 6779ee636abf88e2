package store

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"testing"

	"golang.org/x/sys/unix"

	"ostiarius/core/account"
)

// fill takes the space of a small disk, but for so many bytes, and returns what gives it back.
func fill(t *testing.T, dir string, but int64) (free func()) {
	t.Helper()
	var is unix.Statfs_t
	if err := unix.Statfs(dir, &is); err != nil {
		t.Fatal(err)
	}
	path := filepath.Join(dir, "ballast")
	file, err := os.Create(path)
	if err != nil {
		t.Fatal(err)
	}
	io.CopyN(file, zeros{}, max(0, int64(is.Bavail)*is.Bsize-but))
	file.Close()
	free = func() { os.Remove(path) }
	t.Cleanup(free)
	return free
}

type zeros struct{}

func (zeros) Read(b []byte) (int, error) { clear(b); return len(b), nil }

// A disk that is full at whatever step of start and stop loses nothing, and nothing seems to be lost: with space again
// the records open, and have what was written.
func TestFullDisksLoseNothing(t *testing.T) {
	ctx := context.Background()
	dir := t.TempDir()
	if err := unix.Mount("tmpfs", dir, "tmpfs", 0, "size=8m"); err != nil {
		t.Fatalf("no small disk can be mounted here, which takes root: %v", err)
	}
	t.Cleanup(func() { unix.Unmount(dir, unix.MNT_DETACH) })
	copyOf := func(from, to string) {
		for _, end := range []string{"", "-wal", "-shm"} {
			os.Remove(to + end)
			if data, err := os.ReadFile(from + end); err == nil {
				if err := os.WriteFile(to+end, data, 0o600); err != nil {
					t.Fatal(err)
				}
			}
		}
	}
	for room := int64(0); room < 400<<10; room += 12 << 10 {
		for _, how := range []string{"stopped", "killed"} {
			t.Run(fmt.Sprintf("%s with %d kB", how, room>>10), func(t *testing.T) {
				path := filepath.Join(dir, "a.db")
				for _, end := range []string{"", "-wal", "-shm"} {
					os.Remove(path + end)
				}
				s, err := Open(path)
				if err != nil {
					t.Fatal(err)
				}
				if _, err := s.AddAccount(ctx, &account.Account{Name: "ines", MadeAt: noon}, Keys{Name: "ines"}, "hash",
					Activity{At: noon, Kind: "account added"}); err != nil {
					t.Fatal(err)
				}
				free := fill(t, dir, room)
				if how == "killed" { // what is on the disk then
					free()
					killed := filepath.Join(dir, "killed.db")
					copyOf(path, killed)
					s.Close()
					for _, end := range []string{"", "-wal", "-shm"} {
						os.Remove(path + end)
						os.Rename(killed+end, path+end)
					}
					free = fill(t, dir, room)
				} else {
					s.Close()
				}
				for range 3 { // as what starts services tries again and again
					s, err := Open(path)
					var lost *Lost
					if errors.As(err, &lost) {
						t.Fatalf("while it is full: %v", err)
					}
					if err == nil {
						s.Close()
					}
				}
				free()
				s, err = Open(path)
				if err != nil {
					t.Fatalf("with space again: %v", err)
				}
				defer s.Close()
				if a, _, err := s.AccountByKey(ctx, "ines"); err != nil || a.Name != "ines" {
					t.Errorf("%+v %v", a, err)
				}
			})
		}
	}
}
