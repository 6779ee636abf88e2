package people

import (
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"ostiarius/core/account"
	"ostiarius/core/policy"
	"ostiarius/core/secret"
	"ostiarius/core/session"
	"ostiarius/core/throttle"
	"ostiarius/service/activity"
	"ostiarius/service/ending"
	"ostiarius/service/hashing"
	"ostiarius/store"
)

// A clock that stands still until it is told to go on.
type clock struct {
	mu  sync.Mutex
	now time.Time
}

func (c *clock) Now() time.Time {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.now
}

func (c *clock) pass(d time.Duration) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.now = c.now.Add(d)
}

func register(t *testing.T) (*Register, *store.Store, *clock) {
	t.Helper()
	records, err := store.Open(filepath.Join(t.TempDir(), "records.db"))
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { records.Close() })
	book, findings := policy.Parse("doors.yaml", []byte("roles: {keeper: }\ndoors: [{path: /, admit: public}]\nsessions: {idle: 30m, lifetime: 12h, remembered: 30d}"))
	if book == nil {
		t.Fatal(findings)
	}
	c := &clock{now: time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)}
	r, err := New(Options{Store: records, Book: func() *policy.Book { return book }, Now: c.Now, Hashing: hashing.New(secret.Cost{Memory: 64, Passes: 1, Threads: 1}, nil), Limiter: &throttle.Limiter{}, Endings: &ending.List{}, Activity: activity.New(activity.Options{Store: records, Now: c.Now})})
	if err != nil {
		t.Fatal(err)
	}
	if _, err := r.Add(context.Background(), "test", NewAccount{Name: "Ines", Password: "seven-brass-prisms", Roles: []string{"keeper"}}); err != nil {
		t.Fatal(err)
	}
	return r, records, c
}

func signIn(t *testing.T, r *Register, remember bool) string {
	t.Helper()
	in, err := r.SignIn(context.Background(), "ines", "seven-brass-prisms", Origin{Network: "192.0.2.7", Agent: strings.Repeat("x", 1000)}, remember)
	token, v := in.Token, in.Visitor
	if err != nil || v.Account != "ines" || !slices.Equal(v.Roles, []string{"keeper"}) {
		t.Fatalf("%+v %v", v, err)
	}
	return token
}

func alive(t *testing.T, r *Register, token string) bool {
	t.Helper()
	v, _, err := r.Visitor(context.Background(), token, nil)
	if err != nil {
		t.Fatal(err)
	}
	return v.SignedIn
}

// Whether somebody is still there can be asked without that being a use of the session.
func TestLook(t *testing.T) {
	r, records, c := register(t)
	token := signIn(t, r, false)
	look := func(used bool) bool {
		t.Helper()
		v, err := r.Look(ctx, token, used)
		if err != nil || v.SignedIn && !slices.Equal(v.Roles, []string{"keeper"}) {
			t.Fatal(v, err)
		}
		return v.SignedIn
	}
	for range 3 {
		c.pass(29 * time.Minute)
		if !look(true) {
			t.Fatal("the session is used, and has ended")
		}
	}
	c.pass(29 * time.Minute)
	if !look(false) {
		t.Error("the session has ended too early")
	}
	c.pass(2 * time.Minute)
	if look(false) || look(true) {
		t.Error("being asked for has kept the session")
	}

	token = signIn(t, r, false)
	if again, err := New(Options{Store: records, Book: r.book, Now: c.Now, Hashing: r.hashing, Limiter: &throttle.Limiter{}, Endings: &ending.List{}, Activity: activity.New(activity.Options{Store: records, Now: c.Now})}); err != nil {
		t.Fatal(err)
	} else if r = again; !look(false) {
		t.Error("a session that is in the records only is not found")
	}
	// Another token of the same session counts as long as it does for requests.
	if err := r.Grant(ctx, "test", "ines", policy.Steward, time.Time{}, time.Time{}); err != nil {
		t.Fatal(err)
	}
	if v, err := r.Look(ctx, token, false); err != nil || !slices.Contains(v.Roles, policy.Steward) {
		t.Errorf("a role that was just granted: %+v %v", v, err)
	}
	if _, fresh, err := r.Visitor(ctx, token, nil); err != nil || fresh == nil {
		t.Error(fresh, err)
	}
	if v, err := r.Look(ctx, token, false); err != nil || !v.SignedIn {
		t.Errorf("just after the renewal: %+v %v", v, err)
	}
	if err := r.SignOut(ctx, token, ""); err != nil {
		t.Fatal(err)
	}
	if look(false) {
		t.Error("signed out, and still there")
	}
	for _, token := range []string{"", "x", strings.Repeat("A", 43)} {
		if v, err := r.Look(ctx, token, true); err != nil || v.SignedIn {
			t.Errorf("%q: %+v %v", token, v, err)
		}
	}
}

func TestSessionsEndByThemselves(t *testing.T) {
	r, records, c := register(t)
	token, remembered := signIn(t, r, false), signIn(t, r, true)
	for range 20 { // used now and then, for ten hours
		c.pass(29 * time.Minute)
		if !alive(t, r, token) {
			t.Fatal("a session in use ended")
		}
	}
	// What was used last survives a restart.
	if err := r.Flush(context.Background()); err != nil {
		t.Fatal(err)
	}
	again, err := New(Options{Store: records, Book: r.book, Now: c.Now, Hashing: r.hashing, Limiter: &throttle.Limiter{}, Endings: &ending.List{}, Activity: activity.New(activity.Options{Store: records, Now: c.Now})})
	if err != nil {
		t.Fatal(err)
	}
	c.pass(20 * time.Minute)
	if !alive(t, again, token) {
		t.Error("the session did not survive a restart")
	}
	c.pass(30 * time.Minute)
	if alive(t, again, token) {
		t.Error("an idle session goes on")
	}
	c.pass(25 * time.Hour)
	if !alive(t, r, remembered) {
		t.Error("a remembered session ended when it was idle")
	}
	c.pass(29 * 24 * time.Hour)
	if alive(t, r, remembered) {
		t.Error("a remembered session has no end")
	}
	third := signIn(t, r, false)
	for range 30 {
		c.pass(25 * time.Minute)
		alive(t, r, third)
	}
	if alive(t, r, third) {
		t.Error("a session in use has no end")
	}
}

func TestProofAges(t *testing.T) {
	r, _, c := register(t)
	token := signIn(t, r, false)
	c.pass(7 * time.Minute)
	if v, _, _ := r.Visitor(context.Background(), token, nil); v.ProofAge != 7*time.Minute {
		t.Errorf("proof age %v", v.ProofAge)
	}
	if _, err := r.ProveAgain(context.Background(), token, "wrong", Origin{}); !errors.Is(err, ErrWrong) {
		t.Errorf("a wrong password: %v", err)
	}
	fresh, err := r.ProveAgain(context.Background(), token, "seven-brass-prisms", Origin{})
	if err != nil || fresh.Token == token {
		t.Fatal(fresh, err)
	}
	if v, _, _ := r.Visitor(context.Background(), fresh.Token, nil); v.ProofAge != 0 || !v.SignedIn {
		t.Errorf("after proving again: %+v", v)
	}
	if _, err := r.ProveAgain(context.Background(), "no token", "seven-brass-prisms", Origin{}); !errors.Is(err, ErrWrong) {
		t.Errorf("without a session: %v", err)
	}
}

// Many changes and many requests at once: when a change has been answered, the next
// request sees it.
func TestChangesUnderLoad(t *testing.T) {
	r, _, _ := register(t)
	token := signIn(t, r, false)
	stop := make(chan struct{})
	var busy sync.WaitGroup
	for range 4 {
		busy.Go(func() {
			for {
				select {
				case <-stop:
					return
				default:
					r.Visitor(context.Background(), token, nil)
				}
			}
		})
	}
	for i := range 60 {
		var err error
		if i%2 == 0 {
			err = r.Revoke(context.Background(), "test", "ines", "keeper")
		} else {
			err = r.Grant(context.Background(), "test", "ines", "keeper", time.Time{}, time.Time{})
		}
		if err != nil {
			t.Fatal(err)
		}
		if v, _, _ := r.Visitor(context.Background(), token, nil); len(v.Roles) != i%2 {
			t.Fatalf("change %d is not seen: %v", i, v.Roles)
		}
	}
	close(stop)
	busy.Wait()
}

// What is kept in memory of a session holds exactly as long as the session: it is worked out once, and
// compared here with what session.Alive says at each time.
func TestEntriesAreAliveLikeTheirSessions(t *testing.T) {
	random := rand.New(rand.NewPCG(14, 12))
	noon := time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)
	durations := []string{"0", "30m", "12h", "30d"}
	alive := 0
	for range 3000 {
		pick := func() string { return durations[random.IntN(len(durations))] }
		text := fmt.Sprintf("doors: [{path: /, admit: public}]\nsessions: {idle: %s, lifetime: %s, remembered: %s}", pick(), pick(), pick())
		book, findings := policy.Parse("doors.yaml", []byte(text))
		if book == nil {
			t.Fatal(findings)
		}
		moment := func() time.Time {
			return noon.Add(time.Duration(random.Int64N(int64(80*24*time.Hour))).Truncate(time.Second) - 40*24*time.Hour)
		}
		s := &session.Session{MadeAt: moment(), SeenAt: moment(), Remembered: random.IntN(2) == 0}
		a := &account.Account{Name: "ines"}
		e := newEntry(s, a, book, noon)
		for _, at := range []time.Time{moment(), s.MadeAt, s.SeenAt, s.SeenAt.Add(30 * time.Minute), s.MadeAt.Add(12 * time.Hour), s.MadeAt.Add(30 * 24 * time.Hour), s.MadeAt.Add(-session.Slack), s.SeenAt.Add(-session.Slack)} {
			for _, off := range []time.Duration{-time.Second, 0, time.Second} {
				want := s.Alive(at.Add(off), s.SeenAt, session.Limits(e.limits))
				if got := e.alive(at.Add(off).UnixMilli()); got != want {
					t.Fatalf("%s: made %v, seen %v, remembered %v, at %v: %v, want %v", text, s.MadeAt, s.SeenAt, s.Remembered, at.Add(off), got, want)
				}
				if want {
					alive++
				}
			}
		}
	}
	if alive < 5000 {
		t.Errorf("only %d were alive", alive)
	}
}
