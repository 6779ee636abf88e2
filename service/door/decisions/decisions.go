// Package decisions keeps what was decided in the last days, if that is asked for: a line for each request, without its query, so
// that a new policy can be tried on it. A file holds a day.
package decisions

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"ostiarius/core/place"
	"ostiarius/core/policy"
	"ostiarius/core/replay"
)

// A Record of decisions. The zero Record, and nil, keep nothing.
type Record struct {
	dir   string
	keep  time.Duration
	now   func() time.Time
	fail  func(what string, err error)
	lines chan decided
	lost  atomic.Int64
	flush chan chan struct{}
	done  chan struct{}
	close func()
}

type decided struct {
	at   time.Time
	line []byte
}

// The most lines that wait to be written; more are left out, since requests do not wait for it.
const mostWaiting = 8192

// Open returns a Record that keeps decisions for so long in a directory, which is made. It reports what goes wrong later to fail.
func Open(dir string, keep time.Duration, now func() time.Time, fail func(what string, err error)) (*Record, error) {
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return nil, fmt.Errorf("decisions cannot be kept: %w", err)
	}
	r := &Record{
		dir: dir, keep: keep, now: now, fail: fail, lines: make(chan decided, mostWaiting), flush: make(chan chan struct{}),
		done: make(chan struct{}),
	}
	stop := make(chan struct{})
	r.close = sync.OnceFunc(func() { close(stop); <-r.done })
	go r.write(stop)
	return r, nil
}

// Keeps returns for how long decisions are kept; 0 for not at all.
func (r *Record) Keeps() time.Duration {
	if r == nil {
		return 0
	}
	return r.keep
}

// Close writes what waits.
func (r *Record) Close() {
	if r != nil && r.close != nil {
		r.close()
	}
}

type line struct {
	Time    time.Time `json:"time"`
	Client  string    `json:"client,omitempty"`
	As      string    `json:"as"`
	Account string    `json:"account,omitempty"`
	Method  string    `json:"method"`
	Host    string    `json:"host"`
	Path    string    `json:"path"`
	Outcome string    `json:"outcome"`
	Door    string    `json:"door,omitempty"`
}

// Note keeps a decision.
func (r *Record) Note(outcome policy.Outcome, door *policy.Door, at place.Place, v policy.Visitor) {
	if r == nil || r.close == nil || outcome == policy.Reject {
		return
	}
	now := r.now()
	v = v.Aged(func(age time.Duration) time.Duration { return age.Truncate(time.Second) })
	if !v.SignedIn {
		v.ProofAge = 0
	}
	l := line{
		Time: now.UTC(), As: v.String(), Account: v.Account, Method: at.Method, Host: at.Host, Path: policy.RequestFor(at).Path,
		Outcome: string(outcome),
	}
	if v.From.IsValid() {
		l.Client = v.From.String()
	}
	if door != nil {
		l.Door = door.Label()
	}
	text, err := json.Marshal(l)
	if err != nil {
		return
	}
	select {
	case r.lines <- decided{now, append(text, '\n')}:
	default:
		r.lost.Add(1)
	}
}

const ending = ".jsonl"

func nameOf(at time.Time) string { return at.UTC().Format("2006-01-02") + ending }

// write writes the lines, each to the file of its day.
func (r *Record) write(stop <-chan struct{}) {
	defer close(r.done)
	var file *os.File
	var out *bufio.Writer
	name, failing := "", false
	note := func(err error) {
		if err != nil && !failing {
			r.fail("decisions cannot be kept", err)
		}
		failing = err != nil
	}
	end := func() {
		if file != nil {
			note(errors.Join(out.Flush(), file.Close()))
			file = nil
		}
	}
	one := func(d decided) {
		if today := nameOf(d.at); file == nil || today != name {
			end()
			r.tidy(d.at)
			next, err := os.OpenFile(filepath.Join(r.dir, today), os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o600)
			if note(err); err != nil {
				return
			}
			file, out, name = next, bufio.NewWriterSize(next, 64<<10), today
		}
		if _, err := out.Write(d.line); err != nil {
			note(err)
			file.Close()
			file = nil
			return
		}
		if len(r.lines) == 0 {
			note(out.Flush())
		}
		if lost := r.lost.Swap(0); lost > 0 {
			r.fail("decisions are written too slowly", fmt.Errorf("%d were left out", lost))
		}
	}
	for {
		select {
		case d := <-r.lines:
			one(d)
		case told := <-r.flush:
			for len(r.lines) > 0 {
				one(<-r.lines)
			}
			if file != nil {
				note(out.Flush())
			}
			close(told)
		case <-stop:
			for len(r.lines) > 0 {
				one(<-r.lines)
			}
			end()
			return
		}
	}
}

// days returns the names of the files there are, the newest first.
func (r *Record) days() ([]string, error) {
	entries, err := os.ReadDir(r.dir)
	if err != nil {
		return nil, err
	}
	var names []string
	for _, e := range entries {
		if _, err := time.Parse("2006-01-02", strings.TrimSuffix(e.Name(), ending)); err == nil && strings.HasSuffix(e.Name(), ending) {
			names = append(names, e.Name())
		}
	}
	slices.Sort(names)
	slices.Reverse(names)
	return names, nil
}

// tidy removes what is older than it is kept.
func (r *Record) tidy(now time.Time) {
	names, err := r.days()
	if err != nil {
		r.fail("decisions cannot be tidied", err)
		return
	}
	oldest := nameOf(now.Add(-r.keep))
	for _, name := range names {
		if name < oldest {
			if err := os.Remove(filepath.Join(r.dir, name)); err != nil {
				r.fail("decisions cannot be tidied", err)
			}
		}
	}
}

// ErrNotKept says that no decisions are kept.
var ErrNotKept = errors.New("no decisions are kept; --keep-decisions 7d keeps them for a week")

// Replay judges the decisions that are kept by a new policy, the latest first, for as long as ctx lasts. Whole says whether it came
// to the end.
func (r *Record) Replay(ctx context.Context, book *policy.Book) (found replay.Result, whole bool, err error) {
	if r == nil || r.close == nil {
		return found, false, ErrNotKept
	}
	told := make(chan struct{})
	select {
	case r.flush <- told:
		<-told
	case <-r.done:
	case <-ctx.Done():
	}
	names, err := r.days()
	if err != nil {
		return found, false, err
	}
	p := replay.New(replay.Options{New: book})
	since := r.now().Add(-r.keep)
	whole = true
	for _, name := range names {
		if name < nameOf(since) {
			continue
		}
		done, err := r.day(ctx, name, p)
		if err != nil {
			return found, false, err
		}
		whole = whole && done
	}
	return p.Result(), whole, nil
}

// day judges the decisions of a day, until ctx ends.
func (r *Record) day(ctx context.Context, name string, p *replay.Replay) (whole bool, err error) {
	f, err := os.Open(filepath.Join(r.dir, name))
	if errors.Is(err, os.ErrNotExist) {
		return true, nil
	}
	if err != nil {
		return false, err
	}
	defer f.Close()
	in := bufio.NewReaderSize(f, 256<<10)
	for n := 0; ; n++ {
		if n%1000 == 0 && ctx.Err() != nil {
			return false, nil
		}
		text, err := in.ReadSlice('\n')
		if err == nil {
			p.Line(bytes.TrimSuffix(text, []byte{'\n'}))
		}
		switch {
		case err == io.EOF:
			return true, nil // the last line, if it has no end, is being written
		case errors.Is(err, bufio.ErrBufferFull):
			for errors.Is(err, bufio.ErrBufferFull) {
				_, err = in.ReadSlice('\n')
			}
		case err != nil:
			return false, err
		}
	}
}
