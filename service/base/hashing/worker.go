package hashing

import (
	"encoding/gob"
	"fmt"
	"io"
	"os"
	"os/exec"
	"os/signal"
	"runtime"
	"syscall"
	"time"

	"ostiarius/core/htpasswd"
	"ostiarius/core/secret"
)

// A job is one piece of work: to make a hash, or to compare.
type job struct {
	Make     *secret.Cost
	Hashes   []string
	Password string
	Floor    time.Duration // that it takes at least if no hash is the right one
	Others   bool          // others wait for their turn
}

type result struct {
	Hash  string // that was made
	Right int    // which hash is that of the password; -1 for none
	Taken []time.Duration
}

// small is a hash that is quickly compared with, to fill up time with the same kind of work.
var small = secret.Hash("", secret.Cost{Memory: 64, Passes: 1, Threads: 1})

// perform does the work. The clock is what work is measured by.
func perform(j job, clock func() time.Duration) (r result) {
	r.Right = -1
	if j.Make != nil {
		r.Hash = secret.Hash(j.Password, *j.Make)
		return r
	}
	began := clock()
	for i, hash := range j.Hashes {
		before := clock()
		right := htpasswd.Verify(hash, j.Password)
		r.Taken = append(r.Taken, clock()-before)
		if right {
			r.Right = i
			return r
		}
	}
	for clock()-began < j.Floor {
		secret.Verify(small, j.Password)
	}
	return r
}

// A worker does one piece of work at a time, in a process of its own if it has a command for that.
type worker struct {
	command []string
	process *exec.Cmd
	in      io.WriteCloser
	send    *gob.Encoder
	receive *gob.Decoder
}

var started = time.Now()

func (w *worker) do(j job) (r result, err error) {
	if len(w.command) == 0 {
		return perform(j, func() time.Duration { return time.Since(started) }), nil
	}
	for range 2 { // a process may have been killed since it was used last
		if w.process == nil {
			if err = w.start(); err != nil {
				break
			}
		}
		if err = w.send.Encode(j); err == nil {
			r = result{}
			if err = w.receive.Decode(&r); err == nil {
				return r, nil
			}
		}
		w.process.Process.Kill()
		w.stop()
	}
	return result{}, fmt.Errorf("passwords cannot be looked at: %w", err)
}

func (w *worker) start() error {
	c := exec.Command(w.command[0], w.command[1:]...)
	c.Env = []string{} // nothing of what the service was told
	c.Stderr = os.Stderr
	in, err := c.StdinPipe()
	if err != nil {
		return err
	}
	out, err := c.StdoutPipe()
	if err != nil {
		return err
	}
	if err := startLow(c); err != nil {
		return err
	}
	w.process, w.in, w.send, w.receive = c, in, gob.NewEncoder(in), gob.NewDecoder(out)
	return nil
}

func (w *worker) stop() {
	if w.process != nil {
		w.in.Close()
		w.process.Wait()
		w.process = nil
	}
}

// The longest rest between two pieces of work.
const longestRest = 150 * time.Millisecond

// Work is a process of a Pool: it takes work from in until that ends. It uses one processor, and
// so the time of the processor is the time that passes. When it is not, other programs had to have
// the processor meanwhile. While there is a queue, they are left alone for as long again before the
// next piece is taken: work that comes one by one is not slowed by that, a flood is.
func Work(in io.Reader, out io.Writer) error {
	signal.Ignore(os.Interrupt, syscall.SIGTERM) // the service ends it, when the last request is answered
	runtime.GOMAXPROCS(1)
	receive, send := gob.NewDecoder(in), gob.NewEncoder(out)
	for {
		var j job
		if err := receive.Decode(&j); err == io.EOF {
			return nil
		} else if err != nil {
			return err
		}
		began, used := time.Now(), processorTime()
		done := perform(j, processorTime)
		held := time.Since(began) - (processorTime() - used)
		if err := send.Encode(done); err != nil {
			return err
		}
		if j.Others {
			time.Sleep(min(held, longestRest))
		}
	}
}
