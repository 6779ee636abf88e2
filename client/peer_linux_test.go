package client

import (
	"os"
	"path/filepath"
	"testing"

	"ostiarius/e2e/needs"
)

// A root user trusts the owner of a data directory that nobody else can have made.
func TestIsOwnersPlace(t *testing.T) {
	if os.Geteuid() != 0 {
		needs.Skip(t, "only root asks")
	}
	dir, err := os.MkdirTemp("/var/lib", "ostiarius")
	if err != nil {
		needs.Skip(t, "%v", err)
	}
	defer os.RemoveAll(dir)
	own, shared := filepath.Join(dir, "data"), filepath.Join(dir, "shared")
	for _, made := range []string{own, shared, filepath.Join(shared, "data")} {
		if err := os.Mkdir(made, 0o755); err != nil {
			t.Fatal(err)
		}
	}
	if err := os.Chmod(shared, 0o777|os.ModeSticky); err != nil {
		t.Fatal(err)
	}
	if err := os.Symlink(own, filepath.Join(dir, "link")); err != nil {
		t.Fatal(err)
	}
	for _, made := range []string{own, filepath.Join(shared, "data")} {
		if err := os.Chown(made, 65534, 65534); err != nil {
			t.Fatal(err)
		}
	}
	for path, want := range map[string]bool{
		own: true, filepath.Join(shared, "data"): false, filepath.Join(dir, "link"): false, filepath.Join(dir, "nothing"): false, dir: false,
	} {
		if got := isOwnersPlace(path, 65534); got != want {
			t.Errorf("%s: %v", path, got)
		}
	}
}
