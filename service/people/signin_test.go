package people

import (
	"context"
	"crypto/rand"
	"database/sql"
	"encoding/base64"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"ostiarius/core/account"
	"ostiarius/core/policy"
	"ostiarius/core/roster"
	"ostiarius/core/secret"
	"ostiarius/core/session"
	"ostiarius/core/throttle"
	"ostiarius/service/activity"
	"ostiarius/service/ending"
	"ostiarius/service/hashing"
	"ostiarius/service/mistake"
	"ostiarius/store"
)

var ctx = context.Background()

func TestSignInByAddress(t *testing.T) {
	r, _, _ := register(t)
	address := "Ines.Orkney@Marram.example"
	if _, err := r.Edit(ctx, "test", "ines", Edit{Email: &address}); err != nil {
		t.Fatal(err)
	}
	for typed, want := range map[string]bool{
		"ines.orkney@marram.example": true, " INES ": true, "Ines.Orkney@Marram.example": true,
		"ines.orkney@elsewhere.example": false, "@": false, "": false, "ines\x00": false, "a b": false, strings.Repeat("x", 5000): false,
	} {
		in, err := r.SignIn(ctx, typed, "seven-brass-prisms", Origin{Network: "192.0.2." + fmt.Sprint(len(typed)%200)}, false)
		if want != (err == nil) || want && in.Visitor.Account != "ines" || !want && !errors.Is(err, ErrWrong) {
			t.Errorf("%q: %+v %v", typed, in, err)
		}
	}
	for _, taken := range []NewAccount{{Name: "ines.orkney@marram.example"}, {Name: "bo", Email: "INES.ORKNEY@marram.example"}} {
		var mistake *mistake.Error
		if _, err := r.Add(ctx, "test", taken); !errors.As(err, &mistake) || mistake.Kind != "taken" {
			t.Errorf("%+v: %v", taken, err)
		}
	}
}

// Strangers wait longer and longer, and lock nobody out.
func TestGuessingIsSlowed(t *testing.T) {
	r, records, c := register(t)
	known, err := r.SignIn(ctx, "ines", "seven-brass-prisms", Origin{Network: "192.0.2.7"}, false)
	if err != nil {
		t.Fatal(err)
	}
	guess := func(name, network string) error {
		_, err := r.SignIn(ctx, name, "not-this-one", Origin{Network: network}, false)
		return err
	}
	var slow *throttle.Slow
	for _, name := range []string{"ines", "nobody"} { // the same for one that there is and one that there is not
		for range 5 {
			if err := guess(name, "198.51.100.1"); !errors.Is(err, ErrWrong) {
				t.Fatalf("%s: %v", name, err)
			}
		}
		if err := guess(name, "198.51.100.1"); !errors.As(err, &slow) || slow.Wait != time.Second {
			t.Fatalf("%s: %v", name, err)
		}
	}
	// Also with the right password: else the wait would tell whether it was right.
	if _, err := r.SignIn(ctx, "ines", "seven-brass-prisms", Origin{Network: "198.51.100.1"}, false); !errors.As(err, &slow) {
		t.Fatalf("the right password: %v", err)
	}
	if _, err := r.SignIn(ctx, "ines", "seven-brass-prisms", Origin{Network: "192.0.2.8"}, false); err != nil {
		t.Errorf("the owner, from elsewhere: %v", err)
	}
	// Guessing from everywhere slows strangers, but not a browser that was there before.
	for i := range 120 {
		guess("ines", fmt.Sprintf("203.0.113.%d", i))
	}
	if err := guess("ines", "203.0.113.200"); !errors.As(err, &slow) {
		t.Errorf("from the 121st network: %v", err)
	}
	if _, err := r.SignIn(ctx, "ines", "seven-brass-prisms", Origin{Network: "203.0.113.201", Device: known.Device}, false); err != nil {
		t.Errorf("a browser that is known: %v", err)
	}
	forged := known.Device[:10] + "AAAA" + known.Device[14:]
	if _, err := r.SignIn(ctx, "ines", "seven-brass-prisms", Origin{Network: "203.0.113.202", Device: forged}, false); !errors.As(err, &slow) {
		t.Errorf("a forged mark: %v", err)
	}
	c.pass(6 * time.Minute)
	if _, err := r.SignIn(ctx, "ines", "seven-brass-prisms", Origin{Network: "203.0.113.203"}, false); err != nil {
		t.Errorf("after the longest wait: %v", err)
	}
	// One network that tries many names waits too, and all of an address of IP version 6.
	for i := range 40 {
		err = guess(fmt.Sprint("name", i), fmt.Sprintf("2001:db8:1:2::%d", i))
	}
	if !errors.As(err, &slow) {
		t.Errorf("many names from one network: %v", err)
	}
	if err := r.activity.Flush(ctx); err != nil {
		t.Fatal(err)
	}
	slowed, err := records.Events(ctx, store.EventQuery{Kind: "sign-in slowed", Limit: 1000})
	if err != nil || len(slowed) < 5 {
		t.Errorf("%d records of slowed tries: %v", len(slowed), err)
	}
}

func TestDisabledIsSaidAfterTheRightPassword(t *testing.T) {
	r, _, _ := register(t)
	if err := r.SetDisabled(ctx, "test", "ines", true); err != nil {
		t.Fatal(err)
	}
	if _, err := r.SignIn(ctx, "ines", "wrong-password", Origin{}, false); !errors.Is(err, ErrWrong) || errors.Is(err, ErrDisabled) {
		t.Errorf("a wrong password: %v", err)
	}
	if _, err := r.SignIn(ctx, "ines", "seven-brass-prisms", Origin{}, false); !errors.Is(err, ErrDisabled) {
		t.Errorf("the right password: %v", err)
	}
}

func TestHashesRise(t *testing.T) {
	r, records, _ := register(t)
	_, before, err := records.AccountByKey(ctx, "ines")
	if err != nil {
		t.Fatal(err)
	}
	dearer := secret.Cost{Memory: 128, Passes: 2, Threads: 1}
	r.hashing = hashing.New(dearer, nil)
	signIn(t, r, false)
	_, after, err := records.AccountByKey(ctx, "ines")
	if err != nil || after == before || secret.Rises(after, dearer) || !secret.Verify(after, "seven-brass-prisms") {
		t.Errorf("the hash is %q, it was %q (%v)", after, before, err)
	}
	token := signIn(t, r, false)
	if _, again, _ := records.AccountByKey(ctx, "ines"); again != after || !alive(t, r, token) {
		t.Error("a hash of enough cost was replaced, or the session ended")
	}
}

// When rights change, also by themselves, the session goes on with another token.
func TestTokensAreRenewedWithRights(t *testing.T) {
	r, _, c := register(t)
	token := signIn(t, r, false)
	if v, fresh, err := r.Visitor(ctx, token, nil); err != nil || fresh != nil || !v.SignedIn {
		t.Fatalf("%+v %v %v", v, fresh, err)
	}
	if err := r.Grant(ctx, "test", "ines", policy.Steward, c.Now().Add(time.Hour), c.Now().Add(3*time.Hour)); err != nil {
		t.Fatal(err)
	}
	if _, fresh, _ := r.Visitor(ctx, token, nil); fresh != nil {
		t.Error("renewed before the grant begins")
	}
	c.pass(29 * time.Minute)
	alive(t, r, token)
	c.pass(29 * time.Minute)
	alive(t, r, token)
	c.pass(2 * time.Minute)
	v, fresh, err := r.Visitor(ctx, token, nil)
	if err != nil || fresh == nil || fresh.Token == token || fresh.Remembered || !slices.Contains(v.Roles, policy.Steward) {
		t.Fatalf("when the grant begins: %+v %+v %v", v, fresh, err)
	}
	// What the browser had sent already still counts, with the rights that it had, and gets no token.
	if v, again, err := r.Visitor(ctx, token, nil); !v.SignedIn || again != nil || !slices.Equal(v.Roles, []string{"keeper"}) {
		t.Errorf("at once after: %+v %+v %v", v, again, err)
	}
	if v, again, _ := r.Visitor(ctx, fresh.Token, nil); !v.SignedIn || again != nil {
		t.Errorf("with the fresh token: %+v %+v", v, again)
	}
	c.pass(2 * time.Minute)
	if alive(t, r, token) {
		t.Error("the old token still counts two minutes later")
	}
	if !alive(t, r, fresh.Token) {
		t.Error("the session ended")
	}
	// Signing out with the old token, just after another renewal, ends the session.
	if err := r.Revoke(ctx, "test", "ines", "keeper"); err != nil {
		t.Fatal(err)
	}
	_, last, err := r.Visitor(ctx, fresh.Token, nil)
	if err != nil || last == nil {
		t.Fatal(last, err)
	}
	if err := r.SignOut(ctx, fresh.Token, ""); err != nil || alive(t, r, last.Token) || alive(t, r, fresh.Token) {
		t.Errorf("signed out with the old token: %v", err)
	}
}

func TestSessionsByRole(t *testing.T) {
	r, _, c := register(t)
	book, findings := policy.Parse("doors.yaml", []byte("roles: {keeper: , guest: }\ndoors: [{path: /, admit: public}]\nsessions: {idle: 30m, lifetime: 12h, roles: {keeper: {idle: 5m}, steward: {idle: 0, lifetime: 1h}}}"))
	if book == nil {
		t.Fatal(findings)
	}
	r.book = func() *policy.Book { return book }
	token := signIn(t, r, false)
	c.pass(4 * time.Minute)
	if !alive(t, r, token) {
		t.Error("ended early")
	}
	c.pass(6 * time.Minute)
	if alive(t, r, token) {
		t.Error("a keeper's session goes on after 6 minutes")
	}
	if err := r.Grant(ctx, "test", "ines", policy.Steward, time.Time{}, time.Time{}); err != nil {
		t.Fatal(err)
	}
	if s := book.SessionsFor([]string{"keeper", "steward"}); s.Idle != 5*time.Minute || s.Lifetime != time.Hour {
		t.Errorf("of both roles the shortest: %+v", s)
	}
	if s := book.SessionsFor([]string{"guest"}); s.Idle != 30*time.Minute || s.Lifetime != 12*time.Hour {
		t.Errorf("of none of them: %+v", s)
	}
	if s := book.LongestSessions(); s.Idle != 0 || s.Lifetime != 12*time.Hour {
		t.Errorf("the longest: %+v", s)
	}
}

// Of a clock that goes back nobody profits, and nobody waits longer than the rule's longest.
func TestClockGoesBack(t *testing.T) {
	r, _, c := register(t)
	token := signIn(t, r, false)
	for range 6 {
		r.SignIn(ctx, "ines", "not-this-one", Origin{Network: "198.51.100.1"}, false)
	}
	link, _, err := r.Link(ctx, "test", "ines")
	if err != nil {
		t.Fatal(err)
	}
	if err := r.Grant(ctx, "test", "ines", policy.Steward, time.Time{}, time.Time{}); err != nil {
		t.Fatal(err)
	}
	c.pass(-time.Second) // clocks are set right all the time
	v, _, err := r.Visitor(ctx, token, nil)
	if err != nil || !v.SignedIn || v.ProofAge != session.Unknown {
		t.Errorf("a second before: %+v %v", v, err)
	}
	if slices.Contains(v.Roles, policy.Steward) {
		t.Error("a role counts before it was granted")
	}
	c.pass(-48 * time.Hour)
	if alive(t, r, token) {
		t.Error("a session counts before it was made")
	}
	if _, ok, err := r.LinkedAccount(ctx, link); ok || err != nil {
		t.Errorf("a link counts before it was made: %v", err)
	}
	if err := r.UseLink(ctx, link, "brambles-in-the-fog", ""); !errors.Is(err, ErrWrong) {
		t.Errorf("a link is used before it was made: %v", err)
	}
	var slow *throttle.Slow
	if _, err := r.SignIn(ctx, "ines", "seven-brass-prisms", Origin{Network: "198.51.100.1"}, false); !errors.As(err, &slow) || slow.Wait > time.Second {
		t.Errorf("the failures are forgotten, or the wait is longer: %v", err)
	}
	c.pass(slow.Wait)
	if _, err := r.SignIn(ctx, "ines", "seven-brass-prisms", Origin{Network: "198.51.100.1"}, false); err != nil {
		t.Errorf("after the wait: %v", err)
	}
	// Credentials that were right a moment ago are looked at again.
	header := []string{basicHeader("ines", "seven-brass-prisms")}
	present := func() (v policy.Visitor) {
		if _, err := r.Present(ctx, header, policy.Wanted{Accounts: true}, func() Origin { return Origin{} }, &v); err != nil {
			t.Fatal(err)
		}
		return v
	}
	if !present().SignedIn {
		t.Fatal("not signed in")
	}
	sum := r.basic.seal("account", header[0])
	c.pass(-time.Minute)
	if r.basic.get(sum, c.Now()) != nil {
		t.Error("what is remembered counts before it was proven")
	}
}

func basicHeader(user, password string) string {
	return "Basic " + base64.StdEncoding.EncodeToString([]byte(user+":"+password))
}

// A try counts from its beginning, whatever the client does then, and in one place whatever the
// way and however the account is spelled.
func TestEveryTryCounts(t *testing.T) {
	from := Origin{Network: "198.51.100.1"}
	gone, hangUp := context.WithCancel(ctx)
	hangUp()
	var slow *throttle.Slow
	r, records, _ := register(t)
	email := "ines@marram.example"
	if _, err := r.Edit(ctx, "test", "ines", Edit{Email: &email}); err != nil {
		t.Fatal(err)
	}
	token := signIn(t, r, false)
	ways := []func(ctx context.Context) error{
		func(ctx context.Context) error { _, err := r.SignIn(ctx, "ines", "no", from, false); return err },
		func(ctx context.Context) error {
			_, err := r.SignIn(ctx, "INES", "no", from, false)
			return err
		},
		func(ctx context.Context) error { _, err := r.SignIn(ctx, "\uff29nes", "no", from, false); return err },
		func(ctx context.Context) error { _, err := r.ProveAgain(ctx, token, "no", from); return err },
		func(ctx context.Context) error {
			_, err := r.ChangePassword(ctx, token, "no", "brambles-in-the-fog", from)
			return err
		},
		func(ctx context.Context) error {
			_, err := r.Present(ctx, []string{basicHeader("Ines", fmt.Sprint("no", rand.Text()))}, policy.Wanted{Accounts: true}, func() Origin { return from }, &policy.Visitor{})
			return err
		},
	}
	for i, first := range ways {
		r.limiter.Forget()
		for n := range 5 {
			if err := ways[(i+n)%len(ways)](ctx); errors.As(err, &slow) {
				t.Fatalf("way %d, try %d: slowed", i, n)
			}
		}
		if err := first(ctx); !errors.As(err, &slow) {
			t.Errorf("way %d: the sixth try goes on: %v", i, err)
		}
	}
	// Whoever hangs up has tried: while others are looked at, and while nobody is.
	for i, way := range ways {
		r.limiter.Forget()
		busy := occupy(r, 1)
		for range 5 {
			if i != 5 { // for HTTP Basic others may wait for the answer
				way(gone)
			} else {
				way(ctx)
			}
		}
		busy()
		way(gone)
		if err := way(ctx); !errors.As(err, &slow) {
			t.Errorf("way %d: tries of clients that hang up do not count: %v", i, err)
		}
	}
	// An address counts by itself, so that nobody learns whose it is, in whatever spelling.
	r.limiter.Forget()
	for i, spelt := range []string{email, "INES@marram.example", "ines@MARRAM.EXAMPLE", " Ines@Marram.Example", email, email} {
		if _, err := r.SignIn(ctx, spelt, "no", from, false); errors.As(err, &slow) != (i == 5) {
			t.Errorf("%q, try %d: %v", spelt, i, err)
		}
	}
	if err := ways[0](ctx); errors.As(err, &slow) {
		t.Error("the name is slowed with the address, which tells that they belong together")
	}
	// Over all networks it is one account.
	r.limiter.Forget()
	for i := range 80 {
		r.SignIn(ctx, []string{"ines", email}[i%2], "no", Origin{Network: fmt.Sprintf("203.0.113.%d", i)}, false)
	}
	for _, spelt := range []string{"ines", email} {
		r.SignIn(ctx, spelt, "no", Origin{Network: "203.0.113.200"}, false)
		if _, err := r.SignIn(ctx, spelt, "no", Origin{Network: "203.0.113.201"}, false); !errors.As(err, &slow) {
			t.Errorf("%q, from everywhere: %v", spelt, err)
		}
	}
	// A letter that folds to another one has no account of its own, nor counters.
	if _, _, err := records.AccountBySignIn(ctx, signInKeys("\u0130nes@marram.example")); !errors.Is(err, store.ErrNone) {
		t.Errorf("a dotted capital I is an i: %v", err)
	}
}

// occupy has the pool at work, with so many waiting, until it is told to stop.
func occupy(r *Register, waiting int) (stop func()) {
	gone, hangUp := context.WithCancel(ctx)
	var working sync.WaitGroup
	working.Go(func() { r.hashing.Compare(ctx, nil, 300, "x") }) // which takes a while
	for range waiting {
		working.Go(func() { r.hashing.Compare(gone, nil, 1, "x") })
	}
	return func() {
		hangUp()
		working.Wait()
	}
}

// Strangers behind the same address keep nobody out whose browser is known.
func TestKnownBrowsersHaveAReserve(t *testing.T) {
	r, _, c := register(t)
	in, err := r.SignIn(ctx, "ines", "seven-brass-prisms", Origin{Network: "192.0.2.7"}, false)
	if err != nil {
		t.Fatal(err)
	}
	for i := range 300 {
		r.SignIn(ctx, fmt.Sprint("name", i%7), "not-this-one", Origin{Network: "192.0.2.7"}, false)
		r.SignIn(ctx, "ines", "not-this-one", Origin{Network: "192.0.2.7"}, false)
		c.pass(time.Second)
	}
	var slow *throttle.Slow
	if _, err := r.SignIn(ctx, "ines", "seven-brass-prisms", Origin{Network: "192.0.2.7"}, false); !errors.As(err, &slow) {
		t.Fatalf("nobody is slowed: %v", err)
	}
	known := Origin{Network: "192.0.2.7", Device: in.Device}
	if _, err := r.SignIn(ctx, "ines", "seven-brass-prisms", known, false); err != nil {
		t.Errorf("the owner, with a browser that is known: %v", err)
	}
	if _, err := r.ProveAgain(ctx, in.Token, "seven-brass-prisms", known); err != nil {
		t.Errorf("proving again: %v", err)
	}
	for range 5 {
		r.SignIn(ctx, "ines", "not-this-one", known, false)
	}
	if _, err := r.SignIn(ctx, "ines", "seven-brass-prisms", known, false); !errors.As(err, &slow) {
		t.Errorf("whoever has the browser guesses freely: %v", err)
	}
}

// Whoever has an old token cannot follow the renewals, and is found out by using it.
func TestOldTokens(t *testing.T) {
	for _, way := range []string{"rights", "proof"} {
		r, records, c := register(t)
		stolen := signIn(t, r, false)
		c.pass(5 * time.Minute)
		alive(t, r, stolen)
		var fresh *Renewal
		var err error
		if way == "rights" {
			if err := r.Grant(ctx, "test", "ines", policy.Steward, time.Time{}, time.Time{}); err != nil {
				t.Fatal(err)
			}
			_, fresh, err = r.Visitor(ctx, stolen, nil)
		} else {
			fresh, err = r.ProveAgain(ctx, stolen, "seven-brass-prisms", Origin{})
		}
		if err != nil || fresh == nil {
			t.Fatal(way, fresh, err)
		}
		for range 5 { // whoever polls with it learns and gets nothing
			v, followed, err := r.Visitor(ctx, stolen, nil)
			if err != nil || followed != nil || !slices.Equal(v.Roles, []string{"keeper"}) || v.ProofAge < 5*time.Minute {
				t.Errorf("%s: the token before: %+v %v %v", way, v, followed, err)
			}
			if again, err := r.ProveAgain(ctx, stolen, "seven-brass-prisms", Origin{}); again != nil || err != nil {
				t.Errorf("%s: the token before leads to another: %v", way, err)
			}
			c.pass(5 * time.Second)
		}
		if !alive(t, r, fresh.Token) {
			t.Errorf("%s: the session has ended", way)
		}
		c.pass(2 * time.Minute)
		if alive(t, r, fresh.Token); !alive(t, r, fresh.Token) {
			t.Fatalf("%s: the session has ended", way)
		}
		// Also by a process that has been started since.
		if way == "proof" {
			if err := r.Flush(ctx); err != nil {
				t.Fatal(err)
			}
			book := r.book()
			if r, err = New(Options{Store: records, Book: func() *policy.Book { return book }, Now: c.Now, Hashing: r.hashing, Limiter: &throttle.Limiter{}, Endings: &ending.List{}, Activity: activity.New(activity.Options{Store: records, Now: c.Now})}); err != nil {
				t.Fatal(err)
			}
		}
		if v, _, err := r.Visitor(ctx, stolen, func() string { return "203.0.113.9" }); v.SignedIn || err != nil {
			t.Errorf("%s: an old token signs in: %v", way, err)
		}
		if alive(t, r, fresh.Token) {
			t.Errorf("%s: the session goes on although one of its tokens was stolen", way)
		}
		events, err := r.activity.Events(ctx, store.EventQuery{Kind: "session ended", Limit: 10})
		if err != nil || len(events) != 1 || events[0].Network != "203.0.113.9" || !strings.Contains(events[0].Detail, "stolen") {
			t.Errorf("%s: %+v %v", way, events, err)
		}
	}
	// An answer that never arrived is no theft: nobody has the fresh token.
	r, _, c := register(t)
	lost := signIn(t, r, false)
	if err := r.Grant(ctx, "test", "ines", policy.Steward, time.Time{}, time.Time{}); err != nil {
		t.Fatal(err)
	}
	r.Visitor(ctx, lost, nil)
	c.pass(2 * time.Minute)
	if alive(t, r, lost) {
		t.Error("it counts for more than a minute")
	}
	if events, _ := r.activity.Events(ctx, store.EventQuery{Kind: "session ended", Limit: 10}); len(events) != 0 {
		t.Errorf("%+v", events)
	}
}

// What is taken away counts at once, also while the records cannot be written, and is written down
// when they can be.
func TestTakingAwayNeedsNoRecords(t *testing.T) {
	r, records, _ := register(t)
	here, there := signIn(t, r, false), signIn(t, r, false)
	header := []string{basicHeader("ines", "seven-brass-prisms")}
	if _, err := r.Present(ctx, header, policy.Wanted{Accounts: true}, func() Origin { return Origin{} }, &policy.Visitor{}); err != nil {
		t.Fatal(err)
	}
	remembered := func() bool { return r.basic.get(r.basic.seal("account", header[0]), r.now()) != nil }
	if !remembered() {
		t.Fatal("HTTP Basic does not work")
	}
	unlock := lock(t, records)
	var unwritten *ending.Unwritten
	if err := r.SignOut(ctx, here, ""); !errors.As(err, &unwritten) || alive(t, r, here) || !alive(t, r, there) {
		t.Errorf("signed out: %v", err)
	}
	if err := r.SetDisabled(ctx, "test", "ines", true); !errors.As(err, &unwritten) || !strings.Contains(err.Error(), "could not be written down yet") || alive(t, r, there) || remembered() {
		t.Errorf("disabled: %v", err)
	}
	if said := fmt.Sprint(r.endings.Words()); said != "[that Ines has signed out that Ines is disabled]" {
		t.Error(said)
	}
	unlock()
	for len(r.endings.Words()) > 0 {
		r.endings.TryAgain(ctx)
	}
	a, err := r.Show(ctx, "ines")
	if err != nil || !a.Disabled {
		t.Errorf("%+v %v", a, err)
	}
	if events, err := r.activity.Events(ctx, store.EventQuery{Kind: "account disabled", Limit: 10}); len(events) != 1 || err != nil {
		t.Errorf("%+v %v", events, err)
	}
}

// lock keeps others from writing the records until it is told to stop.
func lock(t *testing.T, records *store.Store) (unlock func()) {
	t.Helper()
	db, err := sql.Open("sqlite", "file:"+records.Path())
	if err != nil {
		t.Fatal(err)
	}
	db.SetMaxOpenConns(1)
	if _, err := db.Exec("BEGIN IMMEDIATE"); err != nil {
		t.Fatal(err)
	}
	return func() {
		db.Exec("ROLLBACK")
		db.Close()
	}
}

func TestChangePassword(t *testing.T) {
	r, _, _ := register(t)
	here, there := signIn(t, r, true), signIn(t, r, false)
	from := Origin{Network: "192.0.2.7"}
	if _, err := r.ChangePassword(ctx, here, "not-mine", "kettle-moth-anvil", from); !errors.Is(err, ErrWrong) {
		t.Errorf("a wrong password: %v", err)
	}
	var mistake *mistake.Error
	if _, err := r.ChangePassword(ctx, here, "seven-brass-prisms", "password1", from); !errors.As(err, &mistake) {
		t.Errorf("a common password: %v", err)
	}
	in, err := r.ChangePassword(ctx, here, "seven-brass-prisms", "kettle-moth-anvil", from)
	if err != nil || !in.Remembered || alive(t, r, here) || alive(t, r, there) || !alive(t, r, in.Token) {
		t.Fatalf("%+v %v", in, err)
	}
	if _, err := r.SignIn(ctx, "ines", "seven-brass-prisms", from, false); !errors.Is(err, ErrWrong) {
		t.Errorf("the old password: %v", err)
	}
	if _, err := r.SignIn(ctx, "ines", "kettle-moth-anvil", from, false); err != nil {
		t.Errorf("the new password: %v", err)
	}
}

func TestLinksWorkOnce(t *testing.T) {
	r, records, c := register(t)
	if _, err := r.Add(ctx, "test", NewAccount{Name: "bo"}); err != nil {
		t.Fatal(err)
	}
	if _, err := r.SignIn(ctx, "bo", "", Origin{}, false); !errors.Is(err, ErrWrong) {
		t.Errorf("without a password: %v", err)
	}
	first, _, err := r.Link(ctx, "test", "bo")
	if err != nil {
		t.Fatal(err)
	}
	second, until, err := r.Link(ctx, "test", "bo")
	if err != nil || until.Sub(c.Now()) != 72*time.Hour {
		t.Fatal(until, err)
	}
	if name, ok, err := r.LinkedAccount(ctx, first); name != "bo" || !ok || err != nil {
		t.Errorf("%q %v %v", name, ok, err)
	}
	var mistake *mistake.Error
	if err := r.UseLink(ctx, first, "short", ""); !errors.As(err, &mistake) {
		t.Errorf("a short password: %v", err)
	}
	if err := r.UseLink(ctx, first, "kettle-moth-anvil", ""); err != nil {
		t.Fatal(err)
	}
	for _, used := range []string{first, second, "", "nonsense"} { // setting a password ends all links
		if err := r.UseLink(ctx, used, "another-moth-anvil", ""); !errors.Is(err, ErrWrong) {
			t.Errorf("link %q again: %v", used, err)
		}
	}
	if _, err := r.SignIn(ctx, "bo", "kettle-moth-anvil", Origin{}, false); err != nil {
		t.Error(err)
	}
	late, _, err := r.Link(ctx, "test", "bo")
	if err != nil {
		t.Fatal(err)
	}
	c.pass(73 * time.Hour)
	if _, ok, _ := r.LinkedAccount(ctx, late); ok {
		t.Error("a link has no end")
	}
	if err := r.Sweep(ctx); err != nil {
		t.Fatal(err)
	}
	events, _ := records.Events(ctx, store.EventQuery{Limit: 1000})
	for _, e := range events {
		if strings.Contains(fmt.Sprint(e), first) || strings.Contains(fmt.Sprint(e), "moth") {
			t.Errorf("a secret is in the activity: %+v", e)
		}
	}
}

func TestSessionsAreListedAndEnded(t *testing.T) {
	r, _, c := register(t)
	if _, err := r.Add(ctx, "test", NewAccount{Name: "bo", Password: "kettle-moth-anvil"}); err != nil {
		t.Fatal(err)
	}
	one := signIn(t, r, false)
	c.pass(time.Minute)
	two := signIn(t, r, true)
	bo, err := r.SignIn(ctx, "bo", "kettle-moth-anvil", Origin{Agent: "A Browser/1.0"}, false)
	if err != nil {
		t.Fatal(err)
	}
	all, total, err := r.Sessions(ctx, "", "", 0, 10)
	if err != nil || total != 3 || len(all) != 3 {
		t.Fatalf("%d sessions, %v", total, err)
	}
	if found, _, _ := r.Sessions(ctx, "", "browser", 0, 10); len(found) != 1 || found[0].Name != "bo" {
		t.Errorf("by the browser's name: %+v", found)
	}
	var mistake *mistake.Error
	if err := r.EndSession(ctx, "bo", r.Handle(one), "bo"); !errors.As(err, &mistake) || !alive(t, r, one) {
		t.Errorf("somebody else's session: %v", err)
	}
	for _, handle := range []string{"", "x", "%", strings.Repeat("0", 20), one} {
		if err := r.EndSession(ctx, "agnes", handle, ""); !errors.As(err, &mistake) {
			t.Errorf("%q: %v", handle, err)
		}
	}
	if err := r.EndSession(ctx, "agnes", r.Handle(one), ""); err != nil || alive(t, r, one) || !alive(t, r, two) {
		t.Errorf("ending one: %v", err)
	}
	three := signIn(t, r, false)
	if n, err := r.EndSessions(ctx, "ines", "ines", three); n != 1 || err != nil || alive(t, r, two) || !alive(t, r, three) || !alive(t, r, bo.Token) {
		t.Errorf("ending all others: %d %v", n, err)
	}
	c.pass(40 * time.Minute)
	if _, total, _ := r.Sessions(ctx, "", "", 0, 10); total != 0 {
		t.Errorf("%d sessions that have ended are listed", total)
	}
}

func TestImport(t *testing.T) {
	r, _, c := register(t)
	yes := true
	file := []roster.Entry{
		{Line: 2, Name: "Bo", Email: "bo@marram.example", Roles: []account.Grant{{Role: "keeper", Until: c.Now().Add(time.Hour)}}},
		{Line: 3, Name: "INES", Email: "ines@marram.example", Disabled: &yes},
		{Line: 4, Name: "cy", Hash: secret.Hash("kettle-moth-anvil", secret.Cost{Memory: 64, Passes: 1, Threads: 1})},
	}
	token := signIn(t, r, false)
	dry, done, err := r.Import(ctx, "test", file, true)
	until := c.Now().Add(time.Hour).Local().Format("2006-01-02 15:04")
	if err != nil || done || fmt.Sprint(dry) != "[{2 Bo add roles keeper until "+until+"; no password yet} {3 INES change name INES, e-mail ines@marram.example, disabled} {4 cy add no roles}]" {
		t.Fatalf("%v %v %v", dry, done, err)
	}
	if _, n, _ := r.List(ctx, Query{}); n != 1 || !alive(t, r, token) {
		t.Error("a dry run changed something")
	}
	bad := append(slices.Clone(file), roster.Entry{Line: 5, Name: "b o"}, roster.Entry{Line: 6, Name: "bO"}, roster.Entry{Line: 7, Name: "dy", Roles: []account.Grant{{Role: "keper"}}}, roster.Entry{Line: 8, Name: "ey", Hash: "secret"})
	results, done, err := r.Import(ctx, "test", bad, false)
	errs := 0
	for _, result := range results {
		if result.Action == "error" {
			errs++
		}
	}
	if _, n, _ := r.List(ctx, Query{}); err != nil || done || errs != 4 || n != 1 {
		t.Fatalf("%v %v %v", results, done, err)
	}
	if _, done, err = r.Import(ctx, "test", file, false); err != nil || !done {
		t.Fatal(done, err)
	}
	if alive(t, r, token) {
		t.Error("somebody who was disabled is still signed in")
	}
	if _, err := r.SignIn(ctx, "cy", "kettle-moth-anvil", Origin{}, false); err != nil {
		t.Error(err)
	}
	taken, _, err := r.Import(ctx, "test", []roster.Entry{{Line: 2, Name: "fy", Email: "BO@marram.example"}, {Line: 3, Name: "bo@marram.example"}, {Line: 4, Name: "gy@marram.example", Email: "gy@marram.example"}, {Line: 5, Name: "Bo"}}, true)
	if err != nil || !strings.Contains(taken[0].Detail, "the address of Bo already") || taken[1].Action != "error" || taken[2].Action != "add" || taken[3].Action != "same" {
		t.Errorf("what is taken: %v %v", taken, err)
	}
	later := roster.Entry{Line: 2, Name: "hy", Roles: []account.Grant{{Role: "keeper", From: c.Now().Add(time.Hour), Until: c.Now().Add(2 * time.Hour)}}}
	if _, done, err := r.Import(ctx, "test", []roster.Entry{later}, false); err != nil || !done {
		t.Fatal(done, err)
	}
	if a, err := r.Show(ctx, "hy"); err != nil || len(a.Roles(c.Now())) != 0 || len(a.Roles(c.Now().Add(time.Hour))) != 1 {
		t.Errorf("a role that begins later: %+v, %v", a, err)
	}
	if same, _, err := r.Import(ctx, "test", []roster.Entry{later}, true); err != nil || same[0].Action != "same" {
		t.Errorf("%v %v", same, err)
	}
	again, _, err := r.Import(ctx, "test", file[:2], true)
	if err != nil || again[0].Action != "same" || again[1].Action != "same" {
		t.Errorf("the same again: %v %v", again, err)
	}
}

// An answer that nobody could be looked at counts nothing, and says nothing.
func TestBusy(t *testing.T) {
	r, _, _ := register(t)
	stop := occupy(r, 64)
	for range 20 {
		for _, name := range []string{"ines", "nobody"} {
			_, err := r.SignIn(ctx, name, "not-this-one", Origin{Network: "192.0.2.7"}, false)
			if err != nil && !errors.Is(err, hashing.ErrBusy) && !errors.Is(err, ErrWrong) {
				t.Fatalf("when the queue is full: %v", err)
			}
			if errors.Is(err, ErrWrong) { // not all of them wait already
				r.limiter.Forget()
			}
		}
	}
	stop()
	signIn(t, r, false)
}
