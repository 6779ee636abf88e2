// Package premises sees to it that the directory of the records is the service's own: nobody else
// owns it or what is in it, may write there, or runs another service on it.
package premises

import (
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"os"
	"path/filepath"
	"strings"
)

// Premises are a data directory that is held by this process.
type Premises struct{ lock *os.File }

// Leave lets go of the directory. It does so by itself when the process ends, however it ends.
func (p *Premises) Leave() {
	if p != nil && p.lock != nil {
		p.lock.Close()
	}
}

// lockName is the file by which a service holds its directory.
const lockName = "lock"

// Take makes a data directory, if there is none, and holds it: one service at a time. What of the
// records others may read or write, but is this user's, is made private, which is logged. The error
// says what of it is somebody else's, or that another service holds it.
func Take(dir string, log *slog.Logger) (*Premises, error) {
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return nil, fmt.Errorf("the data directory cannot be made: %w", err)
	}
	if err := Check(dir); err != nil {
		return nil, err
	}
	if err := private(dir, 0o700, log); err != nil {
		return nil, err
	}
	entries, err := os.ReadDir(dir)
	if err != nil {
		return nil, fmt.Errorf("the data directory cannot be read: %w", err)
	}
	for _, e := range entries {
		if !isOwn(e.Name()) {
			continue
		}
		path := filepath.Join(dir, e.Name())
		if err := ours(path); err != nil {
			return nil, err
		}
		if e.Type().IsRegular() {
			if err := private(path, 0o600, log); err != nil {
				return nil, err
			}
		}
	}
	lock, err := hold(filepath.Join(dir, lockName))
	if errors.Is(err, errHeld) {
		return nil, fmt.Errorf("another service is running on the data directory %s; stop it, or choose another directory with --data", dir)
	}
	if err != nil {
		return nil, fmt.Errorf("the data directory %s cannot be held: %w", dir, err)
	}
	return &Premises{lock}, nil
}

// isOwn reports whether a name in the directory is one that the service gives, or its database does.
func isOwn(name string) bool {
	return strings.HasPrefix(name, "ostiarius.") || strings.HasPrefix(name, "policy.") || name == lockName
}

// Check reports whether a directory is this user's own and stands where nobody else can put another
// in its place. The error says what to do.
func Check(dir string) error {
	if err := ours(dir); err != nil {
		return err
	}
	absolute, err := filepath.Abs(dir)
	if err != nil {
		return err
	}
	above := filepath.Dir(absolute)
	info, err := os.Stat(above)
	if err != nil {
		return err
	}
	if anybodys(info) {
		return fmt.Errorf("anybody may rename what is in %s, and so put another data directory in the place of this one; choose a "+
			"directory that is yours with --data", above)
	}
	return nil
}

// anybodys reports whether everybody may remove and rename what is in a directory.
func anybodys(info fs.FileInfo) bool {
	return info.Mode().Perm()&0o002 != 0 && info.Mode()&os.ModeSticky == 0
}

// ours reports whether a file or directory is this user's own, or the system's, and no link.
func ours(path string) error {
	info, err := os.Lstat(path)
	if err != nil {
		return err
	}
	if info.Mode()&os.ModeSymlink != 0 {
		return fmt.Errorf("%s is a link, and whoever made it could lead it elsewhere; name the directory itself with --data", path)
	}
	if owner, known := ownerOf(info); known && owner != os.Geteuid() && owner != 0 {
		return fmt.Errorf("%s belongs to another user (%d), who could read or change the records; start the service as that user, or "+
			"choose another directory with --data", path, owner)
	}
	return nil
}

// private takes from everybody but the owner what may be done with a file or directory.
func private(path string, mode os.FileMode, log *slog.Logger) error {
	info, err := os.Lstat(path)
	if err != nil {
		return err
	}
	if info.Mode().Perm()&0o077 == 0 {
		return nil
	}
	if err := os.Chmod(path, mode); err != nil {
		return fmt.Errorf("%s may be read or written by others, and that cannot be changed: %w", path, err)
	}
	log.Warn("others could read or write this; now they cannot", "path", path, "before", info.Mode().Perm().String())
	return nil
}
