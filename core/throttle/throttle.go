// Package throttle slows those who guess passwords: the more often they were wrong, the
// longer they wait. It shuts nobody out for good.
package throttle

import (
	"fmt"
	"sync"
	"time"
)

// A Rule says how tries of one kind are slowed.
type Rule struct {
	Free    int           // failures that cost nothing
	Longest time.Duration // the longest wait; the first is a second, each next one twice as long
	// Many says that many people share it, who may well try at once: tries under way count as failures only after more failures than are free.
	Many bool
}

// The rules. Each try counts under several keys, and waits for the longest of them.
//
// Somebody who guesses at one account from one network waits soon; the owner, elsewhere,
// does not notice. A network as a whole has more tries, since many people may share it.
// An account that is tried from many networks is slowed for all who never signed in there
// (NIST SP 800-63B-4, 3.2.2, wants at most 100 failures in a row); a browser that has
// brought the right password before is known by a cookie and counts by itself, so that
// strangers cannot lock its owner out.
var (
	Pair    = Rule{Free: 4, Longest: 15 * time.Minute}
	Network = Rule{Free: 30, Longest: time.Minute, Many: true}
	Joining = Rule{Free: 10, Longest: time.Hour}
	Account = Rule{Free: 80, Longest: 5 * time.Minute}
)

// forgotten is how long after the last failure it no longer counts.
const forgotten = 24 * time.Hour

// most is the most keys that are kept. When there are more, those whose wait has ended
// longest ago are forgotten.
const most = 200_000

// A Limiter remembers failures, in memory. The zero Limiter is ready. It may be used by
// several goroutines.
type Limiter struct {
	mu    sync.Mutex
	marks map[string]mark
}

type mark struct {
	failures int // and tries under way
	underWay int
	last     time.Time
	until    time.Time // no try before
}

// A Key is what tries are counted by, and the rule for it.
type Key struct {
	Name string
	Rule Rule
}

// Try asks for a try at the time now. It returns zero if it may go on, or else how long to
// wait; then nothing was counted. A try that may go on counts as failed until Succeeded
// says otherwise, so that many at once are no way around.
func (l *Limiter) Try(now time.Time, keys ...Key) time.Duration {
	l.mu.Lock()
	defer l.mu.Unlock()
	var wait time.Duration
	for _, k := range keys {
		m := l.marks[k.Name]
		if m.last.After(now) {
			// The clock went back. The failures stay, and the wait begins anew: it must neither
			// be over by that nor be longer than the rule's longest.
			m.last, m.until = now, now.Add(m.pause(k.Rule))
			l.marks[k.Name] = m
		}
		wait = max(wait, m.until.Sub(now))
	}
	if wait > 0 {
		return wait
	}
	if l.marks == nil {
		l.marks = map[string]mark{}
	}
	for _, k := range keys {
		m := l.marks[k.Name]
		if now.Sub(m.last) > forgotten {
			m = mark{}
		}
		m.failures++
		m.underWay++
		m.last = now
		m.until = now.Add(m.pause(k.Rule))
		l.marks[k.Name] = m
	}
	if len(l.marks) > most {
		l.prune(now)
	}
	return 0
}

// pause returns the wait after the failures of a mark.
func (m *mark) pause(r Rule) time.Duration {
	if past := m.failures - m.underWay; r.Many && past <= r.Free {
		return pause(past, r)
	}
	return pause(m.failures, r)
}

// pause returns the wait after that many failures.
func pause(failures int, r Rule) time.Duration {
	n := failures - r.Free
	if n <= 0 {
		return 0
	}
	if n > 30 {
		return r.Longest
	}
	return min(time.Second<<(n-1), r.Longest)
}

// TakeBack takes back what a try counted that was none, since nobody looked at it.
func (l *Limiter) TakeBack(keys ...Key) {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.takeBack(keys)
}

func (l *Limiter) takeBack(keys []Key) {
	for _, k := range keys {
		m, ok := l.marks[k.Name]
		if !ok {
			continue
		}
		if m.failures--; m.failures <= 0 {
			delete(l.marks, k.Name)
			continue
		}
		m.until = m.last.Add(m.pause(k.Rule))
		l.marks[k.Name] = m
	}
}

// Over says that a try is over, also one that succeeded or was taken back; it is said of each try that was let go on, last of all.
func (l *Limiter) Over(keys ...Key) {
	l.mu.Lock()
	defer l.mu.Unlock()
	for _, k := range keys {
		if m, ok := l.marks[k.Name]; ok && m.underWay > 0 {
			m.underWay--
			m.until = m.last.Add(m.pause(k.Rule))
			l.marks[k.Name] = m
		}
	}
}

// Succeeded forgets the failures under the first key, which is the one that is nobody
// else's, and takes back what the try counted under the others.
func (l *Limiter) Succeeded(keys ...Key) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if len(keys) > 0 {
		delete(l.marks, keys[0].Name)
		l.takeBack(keys[1:])
	}
}

// Forget forgets all failures.
func (l *Limiter) Forget() {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.marks = nil
}

// prune forgets what is over, and if that is not enough, what is nearest to it.
func (l *Limiter) prune(now time.Time) {
	for age := forgotten; len(l.marks) > most*3/4 && age > time.Second; age /= 2 {
		for name, m := range l.marks {
			if now.Sub(m.last) >= age {
				delete(l.marks, name)
			}
		}
	}
	for name := range l.marks {
		if len(l.marks) <= most*3/4 {
			return
		}
		delete(l.marks, name)
	}
}

// Slow is the error for somebody who has been wrong too often to try again at once.
type Slow struct{ Wait time.Duration }

func (s *Slow) Error() string {
	return fmt.Sprintf("too many tries; the next one is in %v", s.Wait)
}
