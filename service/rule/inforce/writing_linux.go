package inforce

import (
	"errors"
	"fmt"
	"os"
	"unsafe"

	"golang.org/x/sys/unix"
)

// A lookout tells whether somebody has a file open for writing.
//
// The owner of a file may ask the system with a lease (fcntl(2), F_SETLEASE), which is not granted
// while there are writers, and holds off new ones while it lasts. For others, inotify(7) tells of
// writes and of closing after them, from the first look on.
type lookout struct {
	notify  int // of inotify, 0 for none
	watched int // of the file that was looked at last
	state   writing
}

func (l *lookout) close() {
	if l.notify > 0 {
		unix.Close(l.notify)
		l.notify = 0
	}
}

// read returns what read does of a file, and whether somebody had it open for writing. If nobody
// had, nobody began to before read was over.
func (l *lookout) read(f *os.File, read func() ([]byte, error)) ([]byte, writing, error) {
	_, err := unix.FcntlInt(f.Fd(), unix.F_SETLEASE, unix.F_RDLCK)
	switch {
	case err == nil:
		defer unix.FcntlInt(f.Fd(), unix.F_SETLEASE, unix.F_UNLCK)
		text, err := read()
		return text, over, err
	case errors.Is(err, unix.EAGAIN) && !isRemote(f):
		text, err := read()
		return text, under, err
	}
	text, err := read()
	return text, l.heard(f), err
}

// isRemote reports whether a file is on another machine. Such file systems refuse a lease also when
// nobody writes.
func isRemote(f *os.File) bool {
	var s unix.Statfs_t
	if err := unix.Fstatfs(int(f.Fd()), &s); err != nil {
		return true
	}
	switch uint32(s.Type) {
	case unix.NFS_SUPER_MAGIC, unix.SMB_SUPER_MAGIC, unix.CIFS_SUPER_MAGIC, unix.SMB2_SUPER_MAGIC, unix.CEPH_SUPER_MAGIC,
		unix.AFS_SUPER_MAGIC, unix.V9FS_MAGIC, unix.FUSE_SUPER_MAGIC:
		return true
	}
	return false
}

// heard returns what inotify has told of the file. Of another file than at the last look it has
// told nothing yet.
func (l *lookout) heard(f *os.File) writing {
	if l.notify == 0 {
		notify, err := unix.InotifyInit1(unix.IN_NONBLOCK | unix.IN_CLOEXEC)
		if err != nil {
			return unknown
		}
		l.notify = notify
	}
	watched, err := unix.InotifyAddWatch(l.notify, fmt.Sprintf("/proc/self/fd/%d", f.Fd()), unix.IN_MODIFY|unix.IN_CLOSE_WRITE)
	if err != nil {
		return unknown
	}
	if watched != l.watched {
		if l.watched > 0 {
			unix.InotifyRmWatch(l.notify, uint32(l.watched)) // fails if the file is gone
		}
		l.watched, l.state = watched, unknown
	}
	room := make([]byte, 4096)
	for {
		n, err := unix.Read(l.notify, room)
		if err != nil || n < unix.SizeofInotifyEvent {
			return l.state
		}
		for rest := room[:n]; len(rest) >= unix.SizeofInotifyEvent; {
			e := (*unix.InotifyEvent)(unsafe.Pointer(&rest[0]))
			rest = rest[min(len(rest), unix.SizeofInotifyEvent+int(e.Len)):]
			switch {
			case e.Mask&unix.IN_Q_OVERFLOW != 0:
				l.state = unknown
			case int(e.Wd) != l.watched:
			case e.Mask&unix.IN_CLOSE_WRITE != 0:
				l.state = over
			case e.Mask&unix.IN_MODIFY != 0:
				l.state = under
			}
		}
	}
}
