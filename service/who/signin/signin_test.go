package signin_test

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"ostiarius/core/policy"
	"ostiarius/core/secret"
	"ostiarius/core/session"
	"ostiarius/core/throttle"
	"ostiarius/service/base/hashing"
	"ostiarius/service/base/mistake"
	"ostiarius/service/rooms/house"
	"ostiarius/service/who/people"
	"ostiarius/service/who/sessions"
	"ostiarius/service/who/signin"
	"ostiarius/store"
)

var ctx = context.Background()

func TestSignInByAddress(t *testing.T) {
	r, _, _ := house.Open(t)
	address := "Ines.Orkney@Marram.example"
	if _, err := r.People.Edit(ctx, "test", "ines", people.Edit{Email: &address}); err != nil {
		t.Fatal(err)
	}
	for typed, want := range map[string]bool{
		"ines.orkney@marram.example": true, " INES ": true, "Ines.Orkney@Marram.example": true,
		"ines.orkney@elsewhere.example": false, "@": false, "": false, "ines\x00": false, "a b": false, strings.Repeat("x", 5000): false,
	} {
		in, err := r.SignIn.SignIn(ctx, typed, "seven-brass-prisms", sessions.Origin{Network: "192.0.2." + fmt.Sprint(len(typed)%200)}, false)
		if want != (err == nil) || want && in.Visitor.Account != "ines" || !want && !errors.Is(err, signin.ErrWrong) {
			t.Errorf("%q: %+v %v", typed, in, err)
		}
	}
	for _, taken := range []people.NewAccount{{Name: "ines.orkney@marram.example"}, {Name: "bo", Email: "INES.ORKNEY@marram.example"}} {
		var mistake *mistake.Error
		if _, err := r.People.Add(ctx, "test", taken); !errors.As(err, &mistake) || mistake.Kind != "taken" {
			t.Errorf("%+v: %v", taken, err)
		}
	}
}

// Strangers wait longer and longer, and lock nobody out.
func TestGuessingIsSlowed(t *testing.T) {
	r, records, c := house.Open(t)
	known, err := r.SignIn.SignIn(ctx, "ines", "seven-brass-prisms", sessions.Origin{Network: "192.0.2.7"}, false)
	if err != nil {
		t.Fatal(err)
	}
	guess := func(name, network string) error {
		_, err := r.SignIn.SignIn(ctx, name, "not-this-one", sessions.Origin{Network: network}, false)
		return err
	}
	var slow *throttle.Slow
	for _, name := range []string{"ines", "nobody"} { // the same for one that there is and one that there is not
		for range 5 {
			if err := guess(name, "198.51.100.1"); !errors.Is(err, signin.ErrWrong) {
				t.Fatalf("%s: %v", name, err)
			}
		}
		if err := guess(name, "198.51.100.1"); !errors.As(err, &slow) || slow.Wait != time.Second {
			t.Fatalf("%s: %v", name, err)
		}
	}
	// Also with the right password: else the wait would tell whether it was right.
	if _, err := r.SignIn.SignIn(ctx, "ines", "seven-brass-prisms", sessions.Origin{Network: "198.51.100.1"}, false); !errors.As(err, &slow) {
		t.Fatalf("the right password: %v", err)
	}
	if _, err := r.SignIn.SignIn(ctx, "ines", "seven-brass-prisms", sessions.Origin{Network: "192.0.2.8"}, false); err != nil {
		t.Errorf("the owner, from elsewhere: %v", err)
	}
	// Guessing from everywhere slows strangers, but not a browser that was there before.
	for i := range 120 {
		guess("ines", fmt.Sprintf("203.0.113.%d", i))
	}
	if err := guess("ines", "203.0.113.200"); !errors.As(err, &slow) {
		t.Errorf("from the 121st network: %v", err)
	}
	if _, err := r.SignIn.SignIn(ctx, "ines", "seven-brass-prisms", sessions.Origin{Network: "203.0.113.201", Device: known.Device},
		false); err != nil {
		t.Errorf("a browser that is known: %v", err)
	}
	forged := known.Device[:10] + "AAAA" + known.Device[14:]
	if _, err := r.SignIn.SignIn(ctx, "ines", "seven-brass-prisms", sessions.Origin{Network: "203.0.113.202", Device: forged},
		false); !errors.As(err, &slow) {
		t.Errorf("a forged mark: %v", err)
	}
	c.Pass(6 * time.Minute)
	if _, err := r.SignIn.SignIn(ctx, "ines", "seven-brass-prisms", sessions.Origin{Network: "203.0.113.203"}, false); err != nil {
		t.Errorf("after the longest wait: %v", err)
	}
	// One network that tries many names waits too, and all of an address of IP version 6.
	for i := range 40 {
		err = guess(fmt.Sprint("name", i), fmt.Sprintf("2001:db8:1:2::%d", i))
	}
	if !errors.As(err, &slow) {
		t.Errorf("many names from one network: %v", err)
	}
	if err := r.Activity.Flush(ctx); err != nil {
		t.Fatal(err)
	}
	slowed, err := records.AllEvents(ctx, store.ActivityQuery{Kind: "sign-in slowed", Limit: 1000})
	if err != nil || len(slowed) < 5 {
		t.Errorf("%d records of slowed tries: %v", len(slowed), err)
	}
}

func TestDisabledIsSaidAfterTheRightPassword(t *testing.T) {
	r, _, _ := house.Open(t)
	if err := r.People.SetDisabled(ctx, "test", "ines", true); err != nil {
		t.Fatal(err)
	}
	if _, err := r.SignIn.SignIn(ctx, "ines", "wrong-password", sessions.Origin{}, false); !errors.Is(err, signin.ErrWrong) ||
		errors.Is(err, signin.ErrDisabled) {
		t.Errorf("a wrong password: %v", err)
	}
	if _, err := r.SignIn.SignIn(ctx, "ines", "seven-brass-prisms", sessions.Origin{}, false); !errors.Is(err, signin.ErrDisabled) {
		t.Errorf("the right password: %v", err)
	}
}

func TestHashesRise(t *testing.T) {
	r, records, _ := house.Open(t)
	_, before, err := records.AccountByKey(ctx, "ines")
	if err != nil {
		t.Fatal(err)
	}
	dearer := secret.Cost{Memory: 128, Passes: 2, Threads: 1}
	r.Pool = hashing.New(dearer, nil)
	r = r.Start(t)
	house.SignIn(t, r, false)
	_, after, err := records.AccountByKey(ctx, "ines")
	if err != nil || after == before || secret.Rises(after, dearer) || !secret.Verify(after, "seven-brass-prisms") {
		t.Errorf("the hash is %q, it was %q (%v)", after, before, err)
	}
	token := house.SignIn(t, r, false)
	if _, again, _ := records.AccountByKey(ctx, "ines"); again != after || !house.Alive(t, r, token) {
		t.Error("a hash of enough cost was replaced, or the session ended")
	}
}

// Of a clock that goes back nobody profits, and nobody waits longer than the rule's longest.
func TestClockGoesBack(t *testing.T) {
	r, _, c := house.Open(t)
	token := house.SignIn(t, r, false)
	for range 6 {
		r.SignIn.SignIn(ctx, "ines", "not-this-one", sessions.Origin{Network: "198.51.100.1"}, false)
	}
	link, _, err := r.People.Link(ctx, "test", "ines")
	if err != nil {
		t.Fatal(err)
	}
	if err := r.People.Grant(ctx, "test", "ines", policy.Steward, time.Time{}, time.Time{}); err != nil {
		t.Fatal(err)
	}
	c.Pass(-time.Second) // clocks are set right all the time
	v, _, err := r.Sessions.Recognise(ctx, token, nil)
	if err != nil || !v.SignedIn || v.ProofAge != session.Unknown {
		t.Errorf("a second before: %+v %v", v, err)
	}
	if slices.Contains(v.Roles, policy.Steward) {
		t.Error("a role counts before it was granted")
	}
	c.Pass(-48 * time.Hour)
	if house.Alive(t, r, token) {
		t.Error("a session counts before it was made")
	}
	if _, ok, err := r.People.LinkedAccount(ctx, link); ok || err != nil {
		t.Errorf("a link counts before it was made: %v", err)
	}
	if err := r.People.UseLink(ctx, link, "brambles-in-the-fog", "", ""); !errors.Is(err, people.ErrLink) {
		t.Errorf("a link is used before it was made: %v", err)
	}
	var slow *throttle.Slow
	if _, err := r.SignIn.SignIn(ctx, "ines", "seven-brass-prisms", sessions.Origin{Network: "198.51.100.1"}, false); !errors.As(err,
		&slow) || slow.Wait > time.Second {
		t.Errorf("the failures are forgotten, or the wait is longer: %v", err)
	}
	c.Pass(slow.Wait)
	if _, err := r.SignIn.SignIn(ctx, "ines", "seven-brass-prisms", sessions.Origin{Network: "198.51.100.1"}, false); err != nil {
		t.Errorf("after the wait: %v", err)
	}
	// Credentials that were right a moment ago are looked at again.
	for range 2 {
		if v, err := r.Present(ctx, "192.0.2.7", "ines", "seven-brass-prisms"); err != nil || !v.SignedIn {
			t.Fatal(v, err)
		}
	}
	if n := r.Verified(t); n != 1 {
		t.Errorf("looked at %d times in one moment", n)
	}
	c.Pass(-time.Minute)
	if v, err := r.Present(ctx, "192.0.2.7", "ines", "seven-brass-prisms"); err != nil || !v.SignedIn || r.Verified(t) != 2 {
		t.Error("what is remembered counts before it was proven")
	}
}

// A try counts from its beginning, whatever the client does then, and in one place whatever the
// way and however the account is spelled.
func TestEveryTryCounts(t *testing.T) {
	from := sessions.Origin{Network: "198.51.100.1"}
	gone, hangUp := context.WithCancel(ctx)
	hangUp()
	var slow *throttle.Slow
	r, _, _ := house.Open(t)
	email := "ines@marram.example"
	if _, err := r.People.Edit(ctx, "test", "ines", people.Edit{Email: &email}); err != nil {
		t.Fatal(err)
	}
	token := house.SignIn(t, r, false)
	ways := []func(ctx context.Context) error{
		func(ctx context.Context) error { _, err := r.SignIn.SignIn(ctx, "ines", "no", from, false); return err },
		func(ctx context.Context) error {
			_, err := r.SignIn.SignIn(ctx, "INES", "no", from, false)
			return err
		},
		func(ctx context.Context) error {
			_, err := r.SignIn.SignIn(ctx, "\uff29nes", "no", from, false)
			return err
		},
		func(ctx context.Context) error { _, err := r.SignIn.ProveAgain(ctx, token, "no", from); return err },
		func(ctx context.Context) error {
			_, err := r.SignIn.ChangePassword(ctx, token, "no", "brambles-in-the-fog", from)
			return err
		},
		func(ctx context.Context) error {
			_, err := r.Present(ctx, from.Network, "Ines", fmt.Sprint("no", rand.Text()))
			return err
		},
	}
	for i, first := range ways {
		r.Limiter.Forget()
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
		r.Limiter.Forget()
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
	r.Limiter.Forget()
	for i, spelt := range []string{email, "INES@marram.example", "ines@MARRAM.EXAMPLE", " Ines@Marram.Example", email, email} {
		if _, err := r.SignIn.SignIn(ctx, spelt, "no", from, false); errors.As(err, &slow) != (i == 5) {
			t.Errorf("%q, try %d: %v", spelt, i, err)
		}
	}
	if err := ways[0](ctx); errors.As(err, &slow) {
		t.Error("the name is slowed with the address, which tells that they belong together")
	}
	// Over all networks it is one account.
	r.Limiter.Forget()
	for i := range 80 {
		r.SignIn.SignIn(ctx, []string{"ines", email}[i%2], "no", sessions.Origin{Network: fmt.Sprintf("203.0.113.%d", i)}, false)
	}
	for _, spelt := range []string{"ines", email} {
		r.SignIn.SignIn(ctx, spelt, "no", sessions.Origin{Network: "203.0.113.200"}, false)
		if _, err := r.SignIn.SignIn(ctx, spelt, "no", sessions.Origin{Network: "203.0.113.201"}, false); !errors.As(err, &slow) {
			t.Errorf("%q, from everywhere: %v", spelt, err)
		}
	}
	// A letter that folds to another one is another letter.
	r.Limiter.Forget()
	if _, err := r.SignIn.SignIn(ctx, "\u0130nes@marram.example", "seven-brass-prisms", from, false); !errors.Is(err, signin.ErrWrong) {
		t.Errorf("a dotted capital I is an i: %v", err)
	}
}

// Strangers behind the same address keep nobody out whose browser is known.
func TestKnownBrowsersHaveAReserve(t *testing.T) {
	r, _, c := house.Open(t)
	in, err := r.SignIn.SignIn(ctx, "ines", "seven-brass-prisms", sessions.Origin{Network: "192.0.2.7"}, false)
	if err != nil {
		t.Fatal(err)
	}
	for i := range 300 {
		r.SignIn.SignIn(ctx, fmt.Sprint("name", i%7), "not-this-one", sessions.Origin{Network: "192.0.2.7"}, false)
		r.SignIn.SignIn(ctx, "ines", "not-this-one", sessions.Origin{Network: "192.0.2.7"}, false)
		c.Pass(time.Second)
	}
	var slow *throttle.Slow
	if _, err := r.SignIn.SignIn(ctx, "ines", "seven-brass-prisms", sessions.Origin{Network: "192.0.2.7"}, false); !errors.As(err, &slow) {
		t.Fatalf("nobody is slowed: %v", err)
	}
	known := sessions.Origin{Network: "192.0.2.7", Device: in.Device}
	if _, err := r.SignIn.SignIn(ctx, "ines", "seven-brass-prisms", known, false); err != nil {
		t.Errorf("the owner, with a browser that is known: %v", err)
	}
	if _, err := r.SignIn.ProveAgain(ctx, in.Token, "seven-brass-prisms", known); err != nil {
		t.Errorf("proving again: %v", err)
	}
	for range 5 {
		r.SignIn.SignIn(ctx, "ines", "not-this-one", known, false)
	}
	if _, err := r.SignIn.SignIn(ctx, "ines", "seven-brass-prisms", known, false); !errors.As(err, &slow) {
		t.Errorf("whoever has the browser guesses freely: %v", err)
	}
}

// An answer that nobody could be looked at counts nothing, and says nothing.
func TestBusy(t *testing.T) {
	r, _, _ := house.Open(t)
	stop := occupy(r, 64)
	for range 20 {
		for _, name := range []string{"ines", "nobody"} {
			_, err := r.SignIn.SignIn(ctx, name, "not-this-one", sessions.Origin{Network: "192.0.2.7"}, false)
			if err != nil && !errors.Is(err, hashing.ErrBusy) && !errors.Is(err, signin.ErrWrong) {
				t.Fatalf("when the queue is full: %v", err)
			}
			if errors.Is(err, signin.ErrWrong) { // not all of them wait already
				r.Limiter.Forget()
			}
		}
	}
	stop()
	house.SignIn(t, r, false)
}

// occupy has the pool at work, with so many waiting, until it is told to stop.
func occupy(r *house.House, waiting int) (stop func()) {
	gone, hangUp := context.WithCancel(ctx)
	var working sync.WaitGroup
	working.Go(func() { r.Pool.Compare(ctx, nil, 300, "x") }) // which takes a while
	for range waiting {
		working.Go(func() { r.Pool.Compare(gone, nil, 1, "x") })
	}
	return func() {
		hangUp()
		working.Wait()
	}
}

// Whether or not there is such an account, and whatever it can be signed in with: the same is said, as often, and the wait is as long.
func TestNobodyIsTold(t *testing.T) {
	h, _, c := house.Open(t)
	house.Add(t, h, people.NewAccount{Name: "quill"}) // without a password
	house.Add(t, h, people.NewAccount{Name: "agnes", Password: "amber-lantern-shelf", Email: "agnes@marram.example"})
	house.Add(t, h, people.NewAccount{Name: "edith", Password: "amber-lantern-shelf"})
	if err := h.People.SetDisabled(ctx, "test", "edith", true); err != nil {
		t.Fatal(err)
	}
	told := map[string]string{}
	for i := range 16 {
		for at, name := range []string{"ines", "nobody", "quill", "edith", "agnes@marram.example", "nobody@marram.example"} {
			from := sessions.Origin{Network: fmt.Sprintf("192.0.2.%d", at)} // so that none waits for the tries at the others
			_, err := h.SignIn.SignIn(ctx, name, "not-this-one", from, false)
			var slow *throttle.Slow
			if !errors.Is(err, signin.ErrWrong) && !errors.As(err, &slow) {
				t.Fatalf("%s: %v", name, err)
			}
			told[name] += fmt.Sprintf("%d: %v\n", i, err)
		}
		c.Pass(time.Duration(i%4) * time.Second)
	}
	for name, got := range told {
		if got != told["nobody"] || !strings.Contains(got, "too many tries") {
			t.Errorf("%s is told\n%s\nand nobody\n%s", name, got, told["nobody"])
		}
	}
}
