// Package hashing compares passwords with their hashes and makes new ones. That is work on
// purpose, so it is bounded: in how many are worked at once, in how long the queue is, and, where
// the system has it, in what it takes from everything else.
//
// Time tells nothing: a wrong password takes as long as with the dearest hash that is kept
// anywhere, whether there is such a name or not, and whatever its own hash costs. How long that
// is is measured, in the time of the processor that each kind of hash has taken of late.
package hashing

import (
	"context"
	"errors"
	"maps"
	"runtime"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"ostiarius/core/htpasswd"
	"ostiarius/core/secret"
)

// ErrBusy says that too many passwords are waiting to be looked at.
var ErrBusy = errors.New("too many passwords are waiting to be looked at")

// The most passwords that wait for their turn, and how long one waits.
const (
	longestQueue = 64
	longestTurn  = 15 * time.Second
)

// A Pool does the work. Use New to make one; it may be used by several goroutines.
type Pool struct {
	cost     secret.Cost
	stranger string // what the password of an unknown name is compared with
	workers  chan *worker
	waiting  atomic.Int64

	mu    sync.Mutex
	taken map[string]*lately // by class of hash
}

// New returns a Pool that makes hashes of that cost. With a command, which must call Work, the work
// is done in processes of their own, at low priority; without, in this one.
func New(cost secret.Cost, command []string) *Pool {
	// Half of the processors at most: the other half answers for the guarded site while
	// somebody floods the sign-in page.
	n := max(1, runtime.GOMAXPROCS(0)/2)
	p := &Pool{cost: cost, stranger: secret.Hash(secret.Generate(), cost), workers: make(chan *worker, n), taken: map[string]*lately{}}
	for range n {
		p.workers <- &worker{command: command}
	}
	p.Learn(p.stranger)
	return p
}

// Cost returns what new hashes cost.
func (p *Pool) Cost() secret.Cost { return p.cost }

// Close ends the processes, when what they are at is done.
func (p *Pool) Close() {
	for range cap(p.workers) {
		(<-p.workers).stop()
	}
}

// Hash returns a new hash of a password.
func (p *Pool) Hash(ctx context.Context, password string) (string, error) {
	done, err := p.do(ctx, job{Make: &p.cost, Password: password})
	return done.Hash, err
}

// Better returns a hash of a password that is as dear as new ones are, if the kept one is of another
// kind or costs less; "" if it is good as it is, or at the moment.
func (p *Pool) Better(ctx context.Context, kept, password string) string {
	if !secret.Rises(kept, p.cost) {
		return ""
	}
	hash, err := p.Hash(ctx, password)
	if err != nil {
		return "" // the next use tries again
	}
	return hash
}

// Compare returns which of some hashes is that of a password, "" for none of them. There are at
// most so many as slots says, none for a name that nobody has; a wrong password always takes as
// long as so many of the dearest. The error is ErrBusy, that of ctx while it waited for its turn,
// or says that the work could not be done.
func (p *Pool) Compare(ctx context.Context, hashes []string, slots int, password string) (right string, err error) {
	if len(hashes) > slots {
		return "", errors.New("more hashes than slots")
	}
	j := job{Hashes: hashes, Password: password}
	if len(hashes) == 0 {
		j.Hashes = []string{p.stranger}
	}
	j.Floor = p.dearest() * time.Duration(slots)
	done, err := p.do(ctx, j)
	if err != nil || done.Right < 0 || len(hashes) == 0 {
		return "", err
	}
	return hashes[done.Right], nil
}

// Learn measures what hashes cost of which there may be some now.
func (p *Pool) Learn(hashes ...string) {
	for _, hash := range hashes {
		class := htpasswd.Class(hash)
		p.mu.Lock()
		_, known := p.taken[class]
		p.mu.Unlock()
		if !known {
			w := <-p.workers
			done, err := w.do(job{Hashes: []string{hash}, Password: longest})
			p.workers <- w
			if err == nil {
				p.note([]string{hash}, done.Taken)
			}
		}
	}
}

// LearnAll has the pool measure each kind of hash that there is; all calls its argument with each, or
// with one of each kind.
func (p *Pool) LearnAll(ctx context.Context, all func(ctx context.Context, hash func(string)) error) error {
	classes := map[string]string{}
	err := all(ctx, func(hash string) { classes[htpasswd.Class(hash)] = hash })
	p.Learn(slices.Collect(maps.Values(classes))...)
	return err
}

// What some kinds of hash cost depends on the password too. This is as long as any that is
// compared with them.
var longest = string(make([]byte, htpasswd.MaxPassword))

// lately is what the last times have taken.
type lately struct {
	taken [16]time.Duration
	n     int
}

// long returns how long it takes when it takes long, one time being the exception.
func (l *lately) long() time.Duration {
	all := slices.Clone(l.taken[:min(l.n, len(l.taken))])
	slices.Sort(all)
	return all[max(0, len(all)-2)]
}

func (p *Pool) note(hashes []string, taken []time.Duration) {
	p.mu.Lock()
	defer p.mu.Unlock()
	for i, d := range taken {
		class := htpasswd.Class(hashes[i])
		l := p.taken[class]
		if l == nil {
			l = &lately{}
			p.taken[class] = l
		}
		l.taken[l.n%len(l.taken)] = d
		l.n++
	}
}

// dearest returns how long the dearest of all kept hashes takes.
func (p *Pool) dearest() (most time.Duration) {
	p.mu.Lock()
	defer p.mu.Unlock()
	for _, l := range p.taken {
		most = max(most, l.long())
	}
	return most
}

// Waiting returns how many wait for their turn.
func (p *Pool) Waiting() int { return int(p.waiting.Load()) }

func (p *Pool) do(ctx context.Context, j job) (result, error) {
	var w *worker
	select {
	case w = <-p.workers:
	default:
		var err error
		if w, err = p.wait(ctx); err != nil {
			return result{}, err
		}
	}
	defer func() { p.workers <- w }()
	j.Others = p.waiting.Load() > 0
	done, err := w.do(j)
	if err == nil {
		p.note(j.Hashes, done.Taken)
	}
	return done, err
}

func (p *Pool) wait(ctx context.Context) (*worker, error) {
	if p.waiting.Add(1) > longestQueue {
		p.waiting.Add(-1)
		return nil, ErrBusy
	}
	defer p.waiting.Add(-1)
	timer := time.NewTimer(longestTurn)
	defer timer.Stop()
	select {
	case w := <-p.workers:
		return w, nil
	case <-timer.C:
		return nil, ErrBusy
	case <-ctx.Done():
		return nil, ctx.Err()
	}
}
