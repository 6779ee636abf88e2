package replace

import (
	"bytes"
	"errors"
	"io/fs"
	"os"
	"syscall"

	"golang.org/x/sys/unix"

	"ostiarius/service/rule/inspect"
)

// NoSpace is the error of a disk that is full.
const NoSpace = unix.ENOSPC

// Exchange puts the file next in the place of another, if that still has the text before (nil for
// no file at all). Both change places in one step, and so nothing that was saved meanwhile is lost.
func Exchange(next, path string, before []byte) error {
	if before == nil {
		return os.Rename(next, path)
	}
	err := unix.Renameat2(unix.AT_FDCWD, next, unix.AT_FDCWD, path, unix.RENAME_EXCHANGE)
	if errors.Is(err, unix.EINVAL) || errors.Is(err, unix.ENOSYS) { // a file system that cannot
		return os.Rename(next, path)
	}
	if err != nil {
		return err
	}
	if was, err := inspect.ReadFile(next); err != nil || !bytes.Equal(was, before) {
		return errors.Join(ErrBeingWritten, err, unix.Renameat2(unix.AT_FDCWD, next, unix.AT_FDCWD, path, unix.RENAME_EXCHANGE))
	}
	return os.Remove(next)
}

// own gives a file the owner of another, where this process may.
func own(f *os.File, like fs.FileInfo) {
	if as, ok := like.Sys().(*syscall.Stat_t); ok {
		f.Chown(int(as.Uid), int(as.Gid))
	}
}
