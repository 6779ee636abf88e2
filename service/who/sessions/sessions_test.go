package sessions_test

import (
	"context"
	"errors"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"ostiarius/core/account"
	"ostiarius/core/activity"
	"ostiarius/core/factor"
	"ostiarius/core/policy"
	"ostiarius/service/base/ending"
	"ostiarius/service/base/mistake"
	"ostiarius/service/rooms/house"
	"ostiarius/service/who/people"
	"ostiarius/service/who/sessions"
	"ostiarius/service/who/signin"
	"ostiarius/store"
)

var ctx = context.Background()

// Whether somebody is still there can be asked without that being a use of the session.
func TestLook(t *testing.T) {
	r, _, c := house.Open(t)
	token := house.SignIn(t, r, false)
	look := func(used bool) bool {
		t.Helper()
		v, err := r.Sessions.Look(ctx, token, used)
		if err != nil || v.SignedIn && !slices.Equal(v.Roles, []string{"keeper"}) {
			t.Fatal(v, err)
		}
		return v.SignedIn
	}
	for range 3 {
		c.Pass(29 * time.Minute)
		if !look(true) {
			t.Fatal("the session is used, and has ended")
		}
	}
	c.Pass(29 * time.Minute)
	if !look(false) {
		t.Error("the session has ended too early")
	}
	c.Pass(2 * time.Minute)
	if look(false) || look(true) {
		t.Error("being asked for has kept the session")
	}

	token = house.SignIn(t, r, false)
	if r = r.Start(t); !look(false) {
		t.Error("a session that is in the records only is not found")
	}
	// Another token of the same session counts as long as it does for requests.
	if err := r.People.Grant(ctx, "test", "ines", policy.Steward, time.Time{}, time.Time{}); err != nil {
		t.Fatal(err)
	}
	if v, err := r.Sessions.Look(ctx, token, false); err != nil || !slices.Contains(v.Roles, policy.Steward) {
		t.Errorf("a role that was just granted: %+v %v", v, err)
	}
	if _, fresh, err := r.Sessions.Recognise(ctx, token, nil); err != nil || fresh == nil {
		t.Error(fresh, err)
	}
	if v, err := r.Sessions.Look(ctx, token, false); err != nil || !v.SignedIn {
		t.Errorf("just after the renewal: %+v %v", v, err)
	}
	if err := r.Sessions.End(ctx, token, ""); err != nil {
		t.Fatal(err)
	}
	if look(false) {
		t.Error("signed out, and still there")
	}
	for _, token := range []string{"", "x", strings.Repeat("A", 43)} {
		if v, err := r.Sessions.Look(ctx, token, true); err != nil || v.SignedIn {
			t.Errorf("%q: %+v %v", token, v, err)
		}
	}
}

func TestSessionsEndByThemselves(t *testing.T) {
	r, _, c := house.Open(t)
	token, remembered := house.SignIn(t, r, false), house.SignIn(t, r, true)
	for range 20 { // used now and then, for ten hours
		c.Pass(29 * time.Minute)
		if !house.Alive(t, r, token) {
			t.Fatal("a session in use ended")
		}
	}
	// What was used last survives a restart.
	if err := r.Sessions.Flush(context.Background()); err != nil {
		t.Fatal(err)
	}
	again := r.Start(t)
	c.Pass(20 * time.Minute)
	if !house.Alive(t, again, token) {
		t.Error("the session did not survive a restart")
	}
	c.Pass(30 * time.Minute)
	if house.Alive(t, again, token) {
		t.Error("an idle session goes on")
	}
	c.Pass(25 * time.Hour)
	if !house.Alive(t, r, remembered) {
		t.Error("a remembered session ended when it was idle")
	}
	c.Pass(29 * 24 * time.Hour)
	if house.Alive(t, r, remembered) {
		t.Error("a remembered session has no end")
	}
	third := house.SignIn(t, r, false)
	for range 30 {
		c.Pass(25 * time.Minute)
		house.Alive(t, r, third)
	}
	if house.Alive(t, r, third) {
		t.Error("a session in use has no end")
	}
}

func TestProofAges(t *testing.T) {
	r, _, c := house.Open(t)
	token := house.SignIn(t, r, false)
	c.Pass(7 * time.Minute)
	if v, _, _ := r.Sessions.Recognise(context.Background(), token, nil); v.ProofAge != 7*time.Minute {
		t.Errorf("proof age %v", v.ProofAge)
	}
	if _, err := r.SignIn.ProveAgain(context.Background(), token, "wrong", sessions.Origin{}); !errors.Is(err, signin.ErrWrong) {
		t.Errorf("a wrong password: %v", err)
	}
	fresh, err := r.SignIn.ProveAgain(context.Background(), token, "seven-brass-prisms", sessions.Origin{})
	if err != nil || fresh.Token == token {
		t.Fatal(fresh, err)
	}
	if v, _, _ := r.Sessions.Recognise(context.Background(), fresh.Token, nil); v.ProofAge != 0 || !v.SignedIn {
		t.Errorf("after proving again: %+v", v)
	}
	if _, err := r.SignIn.ProveAgain(context.Background(), "no token", "seven-brass-prisms", sessions.Origin{}); !errors.Is(err,
		signin.ErrWrong) {
		t.Errorf("without a session: %v", err)
	}
}

// Many changes and many requests at once: when a change has been answered, the next
// request sees it.
func TestChangesUnderLoad(t *testing.T) {
	r, _, _ := house.Open(t)
	token := house.SignIn(t, r, false)
	stop := make(chan struct{})
	var busy sync.WaitGroup
	for range 4 {
		busy.Go(func() {
			for {
				select {
				case <-stop:
					return
				default:
					r.Sessions.Recognise(context.Background(), token, nil)
				}
			}
		})
	}
	for i := range 60 {
		var err error
		if i%2 == 0 {
			err = r.People.Revoke(context.Background(), "test", "ines", "keeper")
		} else {
			err = r.People.Grant(context.Background(), "test", "ines", "keeper", time.Time{}, time.Time{})
		}
		if err != nil {
			t.Fatal(err)
		}
		if v, _, _ := r.Sessions.Recognise(context.Background(), token, nil); len(v.Roles) != i%2 {
			t.Fatalf("change %d is not seen: %v", i, v.Roles)
		}
	}
	close(stop)
	busy.Wait()
}

// When rights change, also by themselves, the session goes on with another token.
func TestTokensAreRenewedWithRights(t *testing.T) {
	r, _, c := house.Open(t)
	token := house.SignIn(t, r, false)
	if v, fresh, err := r.Sessions.Recognise(ctx, token, nil); err != nil || fresh != nil || !v.SignedIn {
		t.Fatalf("%+v %v %v", v, fresh, err)
	}
	if err := r.People.Grant(ctx, "test", "ines", policy.Steward, c.Now().Add(time.Hour), c.Now().Add(3*time.Hour)); err != nil {
		t.Fatal(err)
	}
	if _, fresh, _ := r.Sessions.Recognise(ctx, token, nil); fresh != nil {
		t.Error("renewed before the grant begins")
	}
	c.Pass(29 * time.Minute)
	house.Alive(t, r, token)
	c.Pass(29 * time.Minute)
	house.Alive(t, r, token)
	c.Pass(2 * time.Minute)
	v, fresh, err := r.Sessions.Recognise(ctx, token, nil)
	if err != nil || fresh == nil || fresh.Token == token || fresh.Remembered || !slices.Contains(v.Roles, policy.Steward) {
		t.Fatalf("when the grant begins: %+v %+v %v", v, fresh, err)
	}
	// What the browser had sent already still counts, with the rights that it had, and gets no token.
	if v, again, err := r.Sessions.Recognise(ctx, token, nil); !v.SignedIn || again != nil || !slices.Equal(v.Roles, []string{"keeper"}) {
		t.Errorf("at once after: %+v %+v %v", v, again, err)
	}
	if v, again, _ := r.Sessions.Recognise(ctx, fresh.Token, nil); !v.SignedIn || again != nil {
		t.Errorf("with the fresh token: %+v %+v", v, again)
	}
	c.Pass(2 * time.Minute)
	if house.Alive(t, r, token) {
		t.Error("the old token still counts two minutes later")
	}
	if !house.Alive(t, r, fresh.Token) {
		t.Error("the session ended")
	}
	// Signing out with the old token, just after another renewal, ends the session.
	if err := r.People.Revoke(ctx, "test", "ines", "keeper"); err != nil {
		t.Fatal(err)
	}
	_, last, err := r.Sessions.Recognise(ctx, fresh.Token, nil)
	if err != nil || last == nil {
		t.Fatal(last, err)
	}
	if err := r.Sessions.End(ctx, fresh.Token, ""); err != nil || house.Alive(t, r, last.Token) || house.Alive(t, r, fresh.Token) {
		t.Errorf("signed out with the old token: %v", err)
	}
}

func TestSessionsByRole(t *testing.T) {
	r, _, c := house.Open(t)
	book := house.BookOf(t, "roles: {keeper: , guest: }\ndoors: [{path: /, admit: public}]\nsessions: {idle: 30m, lifetime: 12h, roles: "+
		"{keeper: {idle: 5m}, steward: {idle: 0, lifetime: 1h}}}")
	r.Book = book
	r = r.Start(t)
	token := house.SignIn(t, r, false)
	c.Pass(4 * time.Minute)
	if !house.Alive(t, r, token) {
		t.Error("ended early")
	}
	c.Pass(6 * time.Minute)
	if house.Alive(t, r, token) {
		t.Error("a keeper's session goes on after 6 minutes")
	}
	if err := r.People.Grant(ctx, "test", "ines", policy.Steward, time.Time{}, time.Time{}); err != nil {
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

// Whoever has an old token cannot follow the renewals, and is found out by using it.
func TestOldTokens(t *testing.T) {
	for _, way := range []string{"rights", "proof"} {
		r, _, c := house.Open(t)
		stolen := house.SignIn(t, r, false)
		c.Pass(5 * time.Minute)
		house.Alive(t, r, stolen)
		var fresh *sessions.Renewal
		var err error
		if way == "rights" {
			if err := r.People.Grant(ctx, "test", "ines", policy.Steward, time.Time{}, time.Time{}); err != nil {
				t.Fatal(err)
			}
			_, fresh, err = r.Sessions.Recognise(ctx, stolen, nil)
		} else {
			fresh, err = r.SignIn.ProveAgain(ctx, stolen, "seven-brass-prisms", sessions.Origin{})
		}
		if err != nil || fresh == nil {
			t.Fatal(way, fresh, err)
		}
		for range 5 { // whoever polls with it learns and gets nothing
			v, followed, err := r.Sessions.Recognise(ctx, stolen, nil)
			if err != nil || followed != nil || !slices.Equal(v.Roles, []string{"keeper"}) || v.ProofAge < 5*time.Minute {
				t.Errorf("%s: the token before: %+v %v %v", way, v, followed, err)
			}
			if again, err := r.SignIn.ProveAgain(ctx, stolen, "seven-brass-prisms", sessions.Origin{}); again != nil || err != nil {
				t.Errorf("%s: the token before leads to another: %v", way, err)
			}
			c.Pass(5 * time.Second)
		}
		if !house.Alive(t, r, fresh.Token) {
			t.Errorf("%s: the session has ended", way)
		}
		c.Pass(2 * time.Minute)
		if house.Alive(t, r, fresh.Token); !house.Alive(t, r, fresh.Token) {
			t.Fatalf("%s: the session has ended", way)
		}
		// Also by a process that has been started since.
		if way == "proof" {
			if err := r.Sessions.Flush(ctx); err != nil {
				t.Fatal(err)
			}
			r = r.Start(t)
		}
		if v, _, err := r.Sessions.Recognise(ctx, stolen, func() string { return "203.0.113.9" }); v.SignedIn || err != nil {
			t.Errorf("%s: an old token signs in: %v", way, err)
		}
		if house.Alive(t, r, fresh.Token) {
			t.Errorf("%s: the session goes on although one of its tokens was stolen", way)
		}
		events, _, err := r.Activity.Events(ctx, store.ActivityQuery{Kind: "session ended", Limit: 10})
		if err != nil || len(events) != 1 || events[0].Network != "203.0.113.9" || !strings.Contains(events[0].Detail, "stolen") {
			t.Errorf("%s: %+v %v", way, events, err)
		}
	}
	// The same where nobody knows from which address it comes.
	n, _, nc := house.Open(t)
	stolen := house.SignIn(t, n, false)
	renewed, err := n.SignIn.ProveAgain(ctx, stolen, "seven-brass-prisms", sessions.Origin{})
	if err != nil || renewed == nil {
		t.Fatal(err)
	}
	nc.Pass(2 * time.Minute)
	house.Alive(t, n, renewed.Token)
	if v, _, err := n.Sessions.Recognise(ctx, stolen, nil); v.SignedIn || err != nil || house.Alive(t, n, renewed.Token) {
		t.Errorf("an old token: %+v %v", v, err)
	}
	// An answer that never arrived is no theft: nobody has the fresh token.
	r, _, c := house.Open(t)
	lost := house.SignIn(t, r, false)
	if err := r.People.Grant(ctx, "test", "ines", policy.Steward, time.Time{}, time.Time{}); err != nil {
		t.Fatal(err)
	}
	r.Sessions.Recognise(ctx, lost, nil)
	c.Pass(2 * time.Minute)
	if house.Alive(t, r, lost) {
		t.Error("it counts for more than a minute")
	}
	if events, _, _ := r.Activity.Events(ctx, store.ActivityQuery{Kind: "session ended", Limit: 10}); len(events) != 0 {
		t.Errorf("%+v", events)
	}
}

func TestSessionsAreListedAndEnded(t *testing.T) {
	r, _, c := house.Open(t)
	if _, err := r.People.Add(ctx, "test", people.NewAccount{Name: "bo", Password: "kettle-moth-anvil"}); err != nil {
		t.Fatal(err)
	}
	account := func(name string) *account.Account {
		a, err := r.People.Find(ctx, name)
		if err != nil {
			t.Fatal(err)
		}
		return a
	}
	one := house.SignIn(t, r, false)
	c.Pass(time.Minute)
	two := house.SignIn(t, r, true)
	bo, err := r.SignIn.SignIn(ctx, "bo", "kettle-moth-anvil", sessions.Origin{Agent: "A Browser/1.0"}, false)
	if err != nil {
		t.Fatal(err)
	}
	all, total, err := r.Sessions.List(ctx, nil, "", 0, 10)
	if err != nil || total != 3 || len(all) != 3 {
		t.Fatalf("%d sessions, %v", total, err)
	}
	if found, _, _ := r.Sessions.List(ctx, nil, "browser", 0, 10); len(found) != 1 || found[0].Name != "bo" {
		t.Errorf("by the browser's name: %+v", found)
	}
	var mistake *mistake.Error
	if err := r.Sessions.EndOne(ctx, "bo", r.Sessions.Handle(one), account("bo")); !errors.As(err, &mistake) || !house.Alive(t, r, one) {
		t.Errorf("somebody else's session: %v", err)
	}
	for _, handle := range []string{"", "x", "%", strings.Repeat("0", 20), one} {
		if err := r.Sessions.EndOne(ctx, "agnes", handle, nil); !errors.As(err, &mistake) {
			t.Errorf("%q: %v", handle, err)
		}
	}
	if err := r.Sessions.EndOne(ctx, "agnes", r.Sessions.Handle(one), nil); err != nil || house.Alive(t, r, one) || !house.Alive(t, r, two) {
		t.Errorf("ending one: %v", err)
	}
	three := house.SignIn(t, r, false)
	if n, err := r.Sessions.EndOf(ctx, "ines", account("ines"), three); n != 1 || err != nil || house.Alive(t, r, two) ||
		!house.Alive(t, r, three) || !house.Alive(t, r, bo.Token) {
		t.Errorf("ending all others: %d %v", n, err)
	}
	c.Pass(40 * time.Minute)
	if _, total, _ := r.Sessions.List(ctx, nil, "", 0, 10); total != 0 {
		t.Errorf("%d sessions that have ended are listed", total)
	}
}

// When a factor was shown stays known as others are shown.
func TestEachProofHasItsTime(t *testing.T) {
	h, _, c := house.Open(t)
	token := house.SignIn(t, h, false)
	for _, by := range []factor.Kind{factor.Code, factor.Passkey} {
		c.Pass(10 * time.Minute)
		s, a, _, err := h.Sessions.Of(ctx, token)
		if err != nil {
			t.Fatal(err)
		}
		next, err := h.Sessions.Proved(ctx, token, by, s, a, store.Activity{At: c.Now(), Kind: activity.SignIn, Account: a.Name, AccountID: a.ID})
		if err != nil || next == nil {
			t.Fatal(next, err)
		}
		token = next.Token
	}
	s, _, _, err := h.Sessions.Of(ctx, token)
	if err != nil {
		t.Fatal(err)
	}
	for kind, ago := range map[factor.Kind]time.Duration{factor.Password: 20 * time.Minute, factor.Code: 10 * time.Minute, factor.Passkey: 0} {
		if got := c.Now().Sub(s.Shown[kind]); got != ago {
			t.Errorf("%s was shown %v ago, not %v", kind, ago, got)
		}
	}
}

// A token that was replaced a moment ago stands for what had been shown then, and not for what was shown to get the fresh one.
func TestOldTokensHaveNotShownMore(t *testing.T) {
	h, records, c := house.Open(t)
	token := house.SignIn(t, h, false)
	c.Pass(time.Minute)
	s, a, _, err := h.Sessions.Of(ctx, token)
	if err != nil {
		t.Fatal(err)
	}
	event := store.Activity{At: c.Now(), Kind: activity.SignIn, Account: a.Name, AccountID: a.ID}
	fresh, err := h.Sessions.Proved(ctx, token, factor.Code, s, a, event)
	if err != nil || fresh == nil {
		t.Fatal(fresh, err)
	}
	for range 2 { // from the records, and from memory
		if v, _, err := h.Sessions.Recognise(ctx, fresh.Token, nil); err != nil || !v.Shown().Kinds.Has(factor.Code) {
			t.Errorf("the fresh one has shown no code: %+v %v", v, err)
		}
		if v, _, err := h.Sessions.Recognise(ctx, token, nil); err != nil || !v.SignedIn || v.Shown().Kinds.Has(factor.Code) {
			t.Errorf("the one before has shown a code: %+v %v", v, err)
		}
	}
	records.Close()
	if next, err := h.Sessions.Proved(ctx, fresh.Token, factor.Passkey, s, a, event); err == nil || next != nil {
		t.Errorf("what could not be written down is taken for proven: %+v", next)
	}
}

// Whose account is being disabled is out at once, while that is not written down yet.
func TestDisabledIsForgottenAtOnce(t *testing.T) {
	h, _, _ := house.Open(t)
	token := house.SignIn(t, h, false)
	if !house.Alive(t, h, token) {
		t.Fatal("not signed in")
	}
	full := errors.New("the disk is full")
	h.Endings.Take(ctx, ending.Ending{Account: h.Account(t, "ines").ID, What: "that ines is disabled"},
		func(context.Context) error { return full })
	if v, _, _ := h.Sessions.Recognise(ctx, token, nil); v.SignedIn {
		t.Error("the session goes on")
	}
}
