package elsewhere

import (
	"maps"
	"sync"
	"time"
)

// Somebody may sign out at a provider, or unlink their account there, while a sign-in by it is under way here: between coming back
// and the second factor, or before they have said which account here is theirs. So what has ended there is kept for as long as that
// can take, and looked at before a session counts.

// left is what has ended at providers. The zero value is ready.
type left struct {
	mu    sync.Mutex
	count int64 // of what was ever noted
	ended map[Session]leaving
}

type leaving struct {
	count int64
	at    time.Time
}

// leftLasts is longer than a way, and what is kept of who came back, and the second factor thereafter, take together.
const leftLasts = time.Hour

// mark returns what is given to over, from before somebody is asked who they are.
func (l *left) mark() int64 {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.count
}

// note notes that a session at a provider has ended, or all those of a subject.
func (l *left) note(s Session, now time.Time) {
	s.Provider = ""
	l.mu.Lock()
	defer l.mu.Unlock()
	maps.DeleteFunc(l.ended, func(_ Session, one leaving) bool { return now.Sub(one.at) >= leftLasts })
	if l.ended == nil {
		l.ended = map[Session]leaving{}
	}
	l.count++
	l.ended[s] = leaving{l.count, now}
}

// over reports whether what somebody has proven to be has ended since the mark.
func (l *left) over(i *Identity) bool {
	l.mu.Lock()
	defer l.mu.Unlock()
	for _, s := range [...]Session{{Issuer: i.Issuer, Subject: i.Subject}, {Issuer: i.Issuer, SID: i.Session},
		{Issuer: i.Issuer, Subject: i.Subject, SID: i.Session}} {
		if one, noted := l.ended[s]; noted && one.count > i.mark {
			return true
		}
	}
	return false
}
