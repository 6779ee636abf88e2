package sessions

import (
	"errors"
	"hash/maphash"
	"testing"
	"time"

	"ostiarius/core/account"
	"ostiarius/core/policy"
	"ostiarius/core/policy/read"
	"ostiarius/core/secret"
	"ostiarius/core/session"
	"ostiarius/service/base/ending"
	"ostiarius/store/fresh"
)

func bookOf(t *testing.T, text string) *policy.Book {
	t.Helper()
	book, findings := read.Parse("doors.yaml", []byte("doors: [{path: /, admit: public}]\n"+text))
	if book == nil {
		t.Fatal(findings)
	}
	return book
}

// kept puts a session of an account into memory, and returns its token.
func kept(c *cache, account int64, book *policy.Book, now time.Time) (string, *entry) {
	token, hash := secret.NewToken()
	e := c.put(c.version(), &session.Session{Hash: hash, Account: account, MadeAt: now, SeenAt: now}, ines(account), book, now)
	c.learn(token, e)
	return token, e
}

func ines(id int64) *account.Account { return &account.Account{ID: id, Name: "ines"} }

// What is known of a session is worked out once under each policy, for all ways to it; and none of them leads to what has ended.
func TestEntriesUnderAnotherPolicy(t *testing.T) {
	c, now := newCache(), time.Date(2026, 12, 1, 12, 0, 0, 0, time.UTC)
	before, after := bookOf(t, "sessions: {idle: 30m}"), bookOf(t, "sessions: {idle: 20m}")
	token, e := kept(c, 7, before, now)
	next := c.recognise(token, after, now)
	if next == nil || next == e || next.of != after || c.byHash[e.session.Hash] != next {
		t.Fatalf("%+v", next)
	}
	if c.byToken[maphash.String(c.seed, token)] != next {
		t.Error("the token leads to what was known under the policy before")
	}
	if c.recognise(token, after, now) != next || c.get(e.session.Hash, after, now) != next {
		t.Error("it is worked out again for another way to it")
	}
	if c.counting(e, after, now) != next { // for a request that had the one before in its hands
		t.Error("what another request has worked out is not used")
	}
	third := bookOf(t, "sessions: {idle: 10m}")
	if c.counting(e, third, now) != nil {
		t.Error("what is known under another policy is taken for this one")
	}
	c.forget(7)
	if c.counting(e, after, now) != nil || c.recognise(token, after, now) != nil {
		t.Error("it counts though the account has changed")
	}
	if c.end(e.session.Hash); len(c.byHash) != 0 || len(c.byToken) != 0 {
		t.Errorf("%d and %d are left", len(c.byHash), len(c.byToken))
	}
	_, hash := secret.NewToken() // never brought since the start
	c.put(c.version(), &session.Session{Hash: hash, Account: 7, MadeAt: now, SeenAt: now}, ines(7), before, now)
	if c.get(hash, after, now) == nil || len(c.byToken) != 0 {
		t.Errorf("%d tokens are known", len(c.byToken))
	}
}

// What has ended is not recognised, whoever still knows of it.
func TestEndedEntriesAreNotRecognised(t *testing.T) {
	c, now := newCache(), time.Date(2026, 12, 1, 12, 0, 0, 0, time.UTC)
	book := bookOf(t, "")
	token, e := kept(c, 7, book, now)
	e.gone.Store(true)
	if c.recognise(token, book, now) != nil {
		t.Error("it has ended, and is recognised")
	}
	one, _ := kept(c, 8, book, now)
	two, _ := kept(c, 8, book, now)
	c.forget(8)
	if c.recognise(one, book, now) != nil || c.recognise(two, book, now) != nil {
		t.Error("of two sessions of an account that has changed, one goes on")
	}
}

// A token leads to the one that has taken its place, with what the first stood for; and one request replaces it, not two.
func TestReplacedTokens(t *testing.T) {
	c, now := newCache(), time.Date(2026, 12, 1, 12, 0, 0, 0, time.UTC)
	_, first := secret.NewToken()
	_, second := secret.NewToken()
	_, third := secret.NewToken()
	for _, step := range [][2]secret.TokenHash{{first, second}, {second, third}} {
		s := &session.Session{Hash: step[0], Account: 7, MadeAt: now, SeenAt: now}
		_, err := c.renew(s, step[1], now, func() error {
			if _, err := c.renew(s, third, now, func() error { return nil }); !errors.Is(err, errUnderWay) {
				t.Errorf("a second request replaces the same token: %v", err)
			}
			return nil
		})
		if err != nil {
			t.Fatal(err)
		}
	}
	if current, old := c.follow(first, now); current != third || old == nil || old.to != second {
		t.Errorf("%v %+v", current == third, old)
	}
}

// What has ended is not kept in memory.
func TestMemoryIsSwept(t *testing.T) {
	now := time.Date(2026, 12, 1, 12, 0, 0, 0, time.UTC)
	book := bookOf(t, "sessions: {idle: 30m}")
	r := New(Options{
		Store: fresh.Records(t, t.TempDir()), Book: func() *policy.Book { return book }, Now: func() time.Time { return now },
		Endings: &ending.List{},
	})
	kept(r.kept, 7, book, now)
	if err := r.Sweep(t.Context()); err != nil || len(r.kept.byHash) != 1 {
		t.Errorf("one that holds: %d are left, %v", len(r.kept.byHash), err)
	}
	now = now.Add(time.Hour)
	if err := r.Sweep(t.Context()); err != nil || len(r.kept.byHash) != 0 {
		t.Errorf("%d are left, %v", len(r.kept.byHash), err)
	}
}

// What has ended counts no longer, for whoever has it in their hands, by any of its tokens.
func TestWhatHasEndedIsForgotten(t *testing.T) {
	c, now := newCache(), time.Date(2026, 12, 1, 12, 0, 0, 0, time.UTC)
	book := bookOf(t, "")
	token, e := kept(c, 7, book, now)
	_, to := secret.NewToken()
	if _, err := c.renew(&e.session, to, now, func() error { return nil }); err != nil {
		t.Fatal(err)
	}
	if !e.gone.Load() || c.recognise(token, book, now) != nil {
		t.Error("a token that has been replaced is recognised without looking at what replaced it")
	}
	if current, _ := c.follow(e.session.Hash, now); current != to {
		t.Error("a token that has been replaced leads nowhere")
	}
	c.clear()
	if current, old := c.follow(e.session.Hash, now); current != e.session.Hash || old != nil {
		t.Error("where all sessions have ended, a token leads to the one that replaced it")
	}
	_, gone := kept(c, 8, book, now)
	c.drop(gone.session.Hash)
	late, _ := secret.NewToken()
	gone.token = ""
	if c.learn(late, gone); c.recognise(late, book, now) != nil || len(c.byToken) != 0 {
		t.Error("a session that has ended is known by the token of a request that was under way")
	}
}

// What was read before something changed is not kept.
func TestOldReadingsAreNotKept(t *testing.T) {
	now := time.Date(2026, 12, 1, 12, 0, 0, 0, time.UTC)
	book := bookOf(t, "")
	for what, change := range map[string]func(c *cache){
		"an account": func(c *cache) { c.forget(9) }, "a session": func(c *cache) { c.drop(secret.TokenHash{}) }, "all": (*cache).clear,
	} {
		c := newCache()
		before := c.version()
		change(c)
		_, hash := secret.NewToken()
		c.put(before, &session.Session{Hash: hash, Account: 7, MadeAt: now, SeenAt: now}, ines(7), book, now)
		if c.has(hash) {
			t.Errorf("%s has changed, and what was read before is kept", what)
		}
	}
}

// When sessions were used is written down every 20 seconds, and once more at the end.
func TestChores(t *testing.T) {
	all := (&Records{}).Chores()
	if len(all) != 2 || all[0].Every != 20*time.Second || !all[0].Last || all[0].Sweeps || !all[1].Sweeps || all[1].Last {
		t.Errorf("%+v", all)
	}
}
