// Package walks is going through the site as somebody else: as each kind of visitor, to see whether what the policy says holds there, or as
// one of them in a browser. Walks are in memory alone, and end with the process.
package walks

import (
	"crypto/rand"
	"fmt"
	"strings"
	"sync"
	"time"

	"ostiarius/core/account"
	kind "ostiarius/core/activity"
	"ostiarius/core/policy"
	"ostiarius/core/secret"
	"ostiarius/service/base/mistake"
	"ostiarius/service/keep/activity"
	"ostiarius/store"
)

// How long walks last.
const (
	PatrolLasts = time.Hour
	WalkLasts   = 15 * time.Minute
)

// Stand is the name of the account that servers behind are told of somebody who is signed in, and of whom it does not matter who it is. No
// account can have it.
const Stand = account.Walking

// The most visitors of all walks under way.
const most = 500

// Options are what Walks need.
type Options struct {
	Now      func() time.Time
	Activity *activity.Log
}

// Walks are those under way.
type Walks struct {
	o       Options
	mu      sync.RWMutex
	byToken map[secret.TokenHash]*Walk
}

// A Walk is one visitor as whom somebody walks.
type Walk struct {
	ID      string // of all that were begun together
	As      policy.Visitor
	Until   time.Time
	Changes bool
	By      string // whose session has to come with it; "" for none, where the token alone is enough
	began   time.Time
	mark    string
}

// New returns Walks, of which there are none yet.
func New(o Options) *Walks {
	return &Walks{o: o, byToken: map[secret.TokenHash]*Walk{}}
}

// A Begun walk, with what a client sends in the cookie: one token for each visitor.
type Begun struct {
	ID     string
	Tokens []string
	Until  time.Time
	// Mark is what a patrol names itself by in each request, also where it comes with nothing else, so that it isn't counted as visitors.
	Mark string
}

// Begin begins a patrol as several visitors. Whoever has the tokens walks.
func (w *Walks) Begin(actor string, as []policy.Visitor) (Begun, error) {
	return w.begin(actor, "a patrol as ", as, Walk{Until: w.o.Now().Add(PatrolLasts)})
}

// BeginAs begins the walk of a steward in a browser, in which they are signed in.
func (w *Walks) BeginAs(steward string, as policy.Visitor, changes bool) (Begun, error) {
	what := "as "
	if changes {
		what = "with changes, as "
	}
	return w.begin(steward, what, []policy.Visitor{as}, Walk{By: steward, Changes: changes, Until: w.o.Now().Add(WalkLasts)})
}

func (w *Walks) begin(actor, what string, as []policy.Visitor, like Walk) (Begun, error) {
	now := w.o.Now()
	w.mu.Lock()
	defer w.mu.Unlock()
	for hash, one := range w.byToken {
		if !now.Before(one.Until) {
			delete(w.byToken, hash)
		}
	}
	if len(w.byToken)+len(as) > most {
		return Begun{}, &mistake.Error{Kind: "invalid", Text: fmt.Sprintf("At most %d visitors walk at once. Wait until others have ended, "+
			"within the hour.", most)}
	}
	begun := Begun{ID: rand.Text(), Until: like.Until, Mark: "patrol-" + rand.Text()}
	var names []string
	for _, v := range as {
		names = append(names, v.String())
		if v.SignedIn && v.Account == "" {
			v.Account = Stand
		}
		one := like
		one.ID, one.As, one.began, one.mark = begun.ID, v, now, begun.Mark
		token, hash := secret.NewToken()
		w.byToken[hash] = &one
		begun.Tokens = append(begun.Tokens, token)
	}
	w.o.Activity.Add(store.Activity{
		At: now, Kind: kind.WalkBegun, AccountID: store.NoAccount, Actor: actor, Detail: what + shortened(strings.Join(names, "; ")),
	})
	return begun, nil
}

func shortened(text string) string {
	if r := []rune(text); len(r) > 400 {
		return string(r[:400]) + "..."
	}
	return text
}

// Find returns the walk of a token, and false if there is none any more.
func (w *Walks) Find(token string) (Walk, bool) {
	hash, ok := secret.HashToken(token)
	if !ok {
		return Walk{}, false
	}
	w.mu.RLock()
	defer w.mu.RUnlock()
	one := w.byToken[hash]
	if one == nil || !w.o.Now().Before(one.Until) {
		return Walk{}, false
	}
	return *one, true
}

// Marked reports whether a request is of a patrol under way, by what it names itself (User-Agent). That decides nothing but whether it is
// counted.
func (w *Walks) Marked(agent string) bool {
	at := strings.LastIndex(agent, "patrol-")
	if at < 0 {
		return false
	}
	w.mu.RLock()
	defer w.mu.RUnlock()
	for _, one := range w.byToken {
		if secret.Equal(one.mark, agent[at:]) {
			return true
		}
	}
	return false
}

// Began returns when a patrol under way has begun, and false if there is none.
func (w *Walks) Began(id string) (time.Time, bool) {
	w.mu.RLock()
	defer w.mu.RUnlock()
	for _, one := range w.byToken {
		if one.By == "" && secret.Equal(one.ID, id) {
			return one.began, true
		}
	}
	return time.Time{}, false
}

// End ends a walk before its time.
func (w *Walks) End(actor, id string) error {
	w.mu.Lock()
	defer w.mu.Unlock()
	found := false
	for hash, one := range w.byToken {
		if secret.Equal(one.ID, id) {
			found = true
			delete(w.byToken, hash)
		}
	}
	if !found {
		return &mistake.Error{Kind: "unknown", Text: "There is no such walk; it may have ended."}
	}
	w.o.Activity.Add(store.Activity{At: w.o.Now(), Kind: kind.WalkEnded, AccountID: store.NoAccount, Actor: actor})
	return nil
}
