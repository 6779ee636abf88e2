package source

import (
	"bytes"
	"errors"
	"os"
	"syscall"
	"time"

	"golang.org/x/sys/unix"
)

// A directory opens files in it, and nothing outside of it, in one call of the system
// (openat2, since Linux 5.6); where that is not there, as os.Root does.
type directory struct {
	root *os.Root
	dir  *os.File        // nil if openat2 is not there
	conn syscall.RawConn // of dir: a descriptor that is used is not closed, and its number given to another
}

func openDirectory(path string) (*directory, error) {
	root, err := os.OpenRoot(path)
	if err != nil {
		return nil, err
	}
	d := &directory{root: root}
	if dir, err := root.Open("."); err == nil {
		d.dir = dir
		if d.conn, err = dir.SyscallConn(); err != nil {
			return nil, err
		}
		if fd, err := d.openat2(".", unix.O_RDONLY); err == nil {
			unix.Close(fd)
		} else {
			dir.Close()
			d.dir = nil
		}
	}
	return d, nil
}

// open opens a file for reading. A named pipe is not waited for. A small file is read at
// once, and none is open any more.
func (d *directory) open(name string) (*opened, error) {
	if d.dir == nil {
		return openIn(d.root, name)
	}
	fd, err := d.openat2(name, unix.O_RDONLY|unix.O_NONBLOCK)
	if err != nil {
		return nil, err
	}
	var stat unix.Stat_t
	if err := unix.Fstat(fd, &stat); err == nil && stat.Mode&unix.S_IFMT == unix.S_IFREG && stat.Size < small {
		buffer := buffers{}.Get()
		if n, err := readAll(fd, buffer); err == nil && n < small { // else it has grown just now
			unix.Close(fd)
			return &opened{
				ReadSeeker: bytes.NewReader(buffer[:n]), mode: 0, modified: time.Unix(stat.Mtim.Unix()), size: int64(n), buffer: buffer,
				mark: markOf(&stat),
			}, nil
		}
		buffers{}.Put(buffer)
	}
	return openedFile(os.NewFile(uintptr(fd), name))
}

// same reports whether a name still has a mark. It does not say that the name leads nowhere out of the directory: see mark.
func (d *directory) same(name string, m mark) (same bool) {
	var stat unix.Stat_t
	err := d.conn.Control(func(in uintptr) {
		same = unix.Fstatat(int(in), name, &stat, unix.AT_SYMLINK_NOFOLLOW) == nil && markOf(&stat) == m
	})
	return same && err == nil
}

// mark returns the mark of what has a name now, in the directory.
func (d *directory) mark(name string) (m mark, err error) {
	if d.dir == nil {
		return m, errors.ErrUnsupported
	}
	fd, err := d.openat2(name, unix.O_PATH)
	if err != nil {
		return m, err
	}
	defer unix.Close(fd)
	var stat unix.Stat_t
	err = unix.Fstat(fd, &stat)
	return markOf(&stat), err
}

func markOf(s *unix.Stat_t) mark {
	return mark{uint64(s.Dev), s.Ino, s.Size, s.Mtim.Nano(), s.Ctim.Nano(), s.Mode&unix.S_IFMT == unix.S_IFREG}
}

// readAll reads the beginning of a file, all of it if there is room.
func readAll(fd int, into []byte) (n int, err error) {
	for n < len(into) {
		more, err := unix.Pread(fd, into[n:], int64(n))
		switch {
		case errors.Is(err, unix.EINTR):
			continue
		case err != nil || more == 0:
			return n, err
		}
		n += more
	}
	return n, nil
}

func (d *directory) openat2(name string, flags uint64) (fd int, err error) {
	how := &unix.OpenHow{
		Flags:   flags | unix.O_CLOEXEC,
		Resolve: unix.RESOLVE_BENEATH | unix.RESOLVE_NO_MAGICLINKS,
	}
	for try := 0; ; try++ {
		closed := d.conn.Control(func(in uintptr) { fd, err = unix.Openat2(int(in), name, how) })
		switch {
		case closed != nil:
			return 0, closed
		case err == nil:
			return fd, nil
		case errors.Is(err, unix.EINTR), errors.Is(err, unix.EAGAIN) && try < mostPassedBy: // a rename passed by, anywhere on the machine
			continue
		}
		return 0, &os.PathError{Op: "open", Path: name, Err: err}
	}
}

// mostPassedBy is how often a file is looked for anew because something was renamed meanwhile.
const mostPassedBy = 64

func (d *directory) Close() error {
	if d.dir != nil {
		d.dir.Close()
	}
	return d.root.Close()
}
