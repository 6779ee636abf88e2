//go:build unix

package inspect

import (
	"io/fs"
	"syscall"
)

// fileID is what the system knows a file by, whatever its name.
func fileID(info fs.FileInfo) (id [2]uint64, ok bool) {
	s, ok := info.Sys().(*syscall.Stat_t)
	if ok {
		id = [2]uint64{uint64(s.Dev), uint64(s.Ino)}
	}
	return id, ok
}
