package client

import (
	"fmt"
	"net"
	"os"
	"os/user"
	"path/filepath"
	"strconv"
	"syscall"

	"golang.org/x/sys/unix"
)

// trust reports whether the process at the other end of a socket may be told what administers the
// service: one of this user's, or the system's own. A root user also trusts the owner of the data
// directory, if that stands where nobody else could have made it.
func trust(conn net.Conn, data string) error {
	raw, err := conn.(*net.UnixConn).SyscallConn()
	if err != nil {
		return err
	}
	var peer *unix.Ucred
	if control := raw.Control(func(fd uintptr) {
		peer,
			err = unix.GetsockoptUcred(int(fd), unix.SOL_SOCKET, unix.SO_PEERCRED)
	}); control != nil || err != nil {
		return fmt.Errorf("who answers in %s cannot be told, so nothing was sent", data)
	}
	if int(peer.Uid) == os.Geteuid() || peer.Uid == 0 {
		return nil
	}
	if os.Geteuid() == 0 && isOwnersPlace(data, peer.Uid) {
		return nil
	}
	who := strconv.Itoa(int(peer.Uid))
	if of, err := user.LookupId(who); err == nil {
		who = of.Username
	}
	return fmt.Errorf("in %s a program of another user (%s) answers, which may not be the service; nothing was sent. Name the data "+
		"directory of your service with --data, or run the command as that user, with sudo -u %s", data, who, who)
}

// isOwnersPlace reports whether a directory belongs to a user, and no directory above is one in which
// everybody may make others.
func isOwnersPlace(dir string, owner uint32) bool {
	dir, err := filepath.Abs(dir)
	if err != nil {
		return false
	}
	info, err := os.Lstat(dir)
	if err != nil || !info.IsDir() || info.Sys().(*syscall.Stat_t).Uid != owner {
		return false
	}
	for dir != filepath.Dir(dir) {
		dir = filepath.Dir(dir)
		if info, err := os.Lstat(dir); err != nil || !info.IsDir() || info.Mode().Perm()&0o002 != 0 {
			return false
		}
	}
	return true
}
