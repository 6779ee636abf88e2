package source

import (
	"errors"
	"os"

	"golang.org/x/sys/unix"
)

// A directory opens files in it, and nothing outside of it, in one call of the system
// (openat2, since Linux 5.6); where that is not there, as os.Root does.
type directory struct {
	root *os.Root
	dir  *os.File // nil if openat2 is not there
}

func openDirectory(path string) (*directory, error) {
	root, err := os.OpenRoot(path)
	if err != nil {
		return nil, err
	}
	d := &directory{root: root}
	if dir, err := root.Open("."); err == nil {
		d.dir = dir
		if f, err := d.openat2("."); err == nil {
			f.Close()
		} else {
			dir.Close()
			d.dir = nil
		}
	}
	return d, nil
}

// open opens a file for reading. A named pipe is not waited for.
func (d *directory) open(name string) (*os.File, error) {
	if d.dir == nil {
		return d.root.OpenFile(name, os.O_RDONLY|unix.O_NONBLOCK, 0)
	}
	return d.openat2(name)
}

func (d *directory) openat2(name string) (*os.File, error) {
	how := &unix.OpenHow{
		Flags:   unix.O_RDONLY | unix.O_NONBLOCK | unix.O_CLOEXEC,
		Resolve: unix.RESOLVE_BENEATH | unix.RESOLVE_NO_MAGICLINKS,
	}
	for {
		fd, err := unix.Openat2(int(d.dir.Fd()), name, how)
		switch {
		case err == nil:
			return os.NewFile(uintptr(fd), name), nil
		case errors.Is(err, unix.EINTR), errors.Is(err, unix.EAGAIN): // a rename passed by
			continue
		}
		return nil, &os.PathError{Op: "open", Path: name, Err: err}
	}
}

func (d *directory) Close() error {
	if d.dir != nil {
		d.dir.Close()
	}
	return d.root.Close()
}
