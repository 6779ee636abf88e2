package service

import "golang.org/x/sys/unix"

// openFiles is how many files and connections may be open at once, 0 if that is not known. The language raises it to what the
// system allows.
func openFiles() int {
	var limit unix.Rlimit
	if unix.Getrlimit(unix.RLIMIT_NOFILE, &limit) != nil {
		return 0
	}
	return int(min(limit.Cur, 1<<30))
}
