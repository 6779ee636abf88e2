package hashing

import (
	"os/exec"
	"runtime"
	"time"

	"golang.org/x/sys/unix"
)

// Of the two processors of a small machine, what answers requests gets about nine tenths while
// passwords are looked at, and what looks at them the rest; on an idle machine all of one.
const niceness = 10

// startLow starts a process at low priority. It has the priority of the thread that starts it
// from the beginning, in all of its threads; that thread is of no use afterwards, and ends.
func startLow(c *exec.Cmd) error {
	done := make(chan error)
	go func() {
		runtime.LockOSThread()
		unix.Setpriority(unix.PRIO_PROCESS, 0, niceness) // this thread; if it cannot be, all goes on as usual
		done <- c.Start()
	}()
	return <-done
}

// processorTime returns how long the processors have worked for this process.
func processorTime() time.Duration {
	var used unix.Rusage
	if err := unix.Getrusage(unix.RUSAGE_SELF, &used); err != nil {
		return time.Since(started)
	}
	return time.Duration(used.Utime.Nano() + used.Stime.Nano())
}

// Command is the command that does the work in a process of its own, where the system has what it
// needs: this program with the word, which must make it call Work.
func Command(word string) []string { return []string{"/proc/self/exe", word} }
