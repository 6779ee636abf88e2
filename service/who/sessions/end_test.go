package sessions_test

import (
	"context"
	"strings"
	"testing"
	"time"

	"ostiarius/core/activity"
	"ostiarius/core/secret"
	"ostiarius/service/rooms/house"
	"ostiarius/service/who/people"
	"ostiarius/service/who/sessions"
	"ostiarius/store"
)

// Everybody is signed out at once, from memory and from the records, and who signs in after that stays; it is recorded, and after a start
// nobody is back.
func TestEverybodyIsSignedOut(t *testing.T) {
	h, _, c := house.Open(t)
	house.Add(t, h, people.NewAccount{Name: "walt", Password: "paint-and-lentil-soup"})
	hers, his := house.SignIn(t, h, true), house.SignInAs(t, h, "walt", "paint-and-lentil-soup")
	unused := house.SignIn(t, h, false) // not in memory
	if !house.Alive(t, h, hers) || !house.Alive(t, h, his) {
		t.Fatal("not even signed in")
	}
	c.Pass(time.Second)
	n, err := h.Sessions.EndAll(ctx, "agnes")
	if err != nil || n != 3 {
		t.Fatal(n, err)
	}
	c.Pass(time.Second)
	after := house.SignIn(t, h, false)
	for _, again := range []*house.House{h, h.Start(t)} {
		for _, token := range []string{hers, his, unused} {
			if house.Alive(t, again, token) {
				t.Error("somebody is signed in still")
			}
		}
		if !house.Alive(t, again, after) {
			t.Error("who signed in afterwards is out")
		}
	}
	events, _, err := h.Activity.Events(ctx, store.ActivityQuery{Kind: string(activity.SessionsDone), Limit: 10})
	if err != nil || len(events) != 1 || events[0].Actor != "agnes" || events[0].Detail != "all of everybody" {
		t.Errorf("%+v %v", events, err)
	}
}

// Whoever signs out ends the session in which they do, once, and no other; a token of nothing is no error.
func TestSigningOut(t *testing.T) {
	h, _, _ := house.Open(t)
	here, there := house.SignIn(t, h, false), house.SignIn(t, h, false)
	for _, token := range []string{"", "made-up", strings.Repeat("A", 43)} {
		if err := h.Sessions.End(ctx, token, ""); err != nil || h.Sessions.Handle(token) != "" && token != strings.Repeat("A", 43) {
			t.Errorf("%q: %v", token, err)
		}
	}
	handle := h.Sessions.Handle(here)
	held, n, err := h.Sessions.List(ctx, h.Account(t, "ines"), "", 0, 10)
	if err != nil || n != 2 || len(handle) != 20 || held[0].Handle() != handle && held[1].Handle() != handle {
		t.Fatalf("%+v %d %v", held, n, err)
	}
	for range 2 {
		if err := h.Sessions.End(ctx, here, "192.0.2.7"); err != nil {
			t.Fatal(err)
		}
	}
	if house.Alive(t, h, here) || !house.Alive(t, h, there) {
		t.Error("another session than the one that was meant has ended")
	}
	events, _, err := h.Activity.Events(ctx, store.ActivityQuery{Kind: string(activity.SignOut), Limit: 10})
	if err != nil || len(events) != 1 || events[0].Account != "Ines" || events[0].Network != "192.0.2.7" {
		t.Errorf("%+v %v", events, err)
	}
	for _, handle := range []string{"", "x", strings.Repeat("g", 20), strings.Repeat("a", 21), strings.Repeat("0", 20), handle} {
		if err := h.Sessions.EndOne(ctx, "agnes", handle, nil); err == nil {
			t.Errorf("a session %q was ended", handle)
		}
	}
}

// A term says how long a session that was just recognised holds, and when its owner last proved to be that.
func TestTerms(t *testing.T) {
	h, _, c := house.Open(t)
	begun := c.Now()
	for _, remembered := range []bool{false, true} {
		token := house.SignIn(t, h, remembered)
		if _, ok := h.Sessions.Term(token); ok {
			t.Error("a session is known that nobody has used")
		}
		house.Alive(t, h, token)
		want := sessions.Term{Proven: begun, Ends: begun.Add(12 * time.Hour), Idle: 30 * time.Minute}
		if remembered {
			want = sessions.Term{Proven: begun, Ends: begun.Add(30 * 24 * time.Hour)}
		}
		got, ok := h.Sessions.Term(token)
		if !ok || !got.Proven.Equal(want.Proven) || !got.Ends.Equal(want.Ends) || got.Idle != want.Idle {
			t.Errorf("remembered %v: %+v %v", remembered, got, ok)
		}
	}
	h.Book = house.BookOf(t, "roles: {keeper: }\ndoors: [{path: /, admit: public}]\nsessions: {idle: 0, lifetime: 0}")
	h = h.Start(t)
	token := house.SignIn(t, h, false)
	house.Alive(t, h, token)
	if got, ok := h.Sessions.Term(token); !ok || !got.Ends.IsZero() || got.Idle != 0 {
		t.Errorf("without an end: %+v %v", got, ok)
	}
	if _, ok := h.Sessions.Term("made-up"); ok {
		t.Error("a made-up session has a term")
	}
}

// What has ended by itself goes from memory and from the records, and nothing else does.
func TestEndedSessionsAreSwept(t *testing.T) {
	h, records, c := house.Open(t)
	idle, used, long := house.SignIn(t, h, false), house.SignIn(t, h, false), house.SignIn(t, h, true)
	for range 2 {
		c.Pass(20 * time.Minute)
		if !house.Alive(t, h, used) {
			t.Fatal("not alive")
		}
	}
	house.Alive(t, h, long)
	if err := h.Sessions.Flush(ctx); err != nil {
		t.Fatal(err)
	}
	if err := h.Sessions.Sweep(ctx); err != nil {
		t.Fatal(err)
	}
	for token, want := range map[string]bool{idle: false, used: true, long: true} {
		hash, _ := secret.HashToken(token)
		if _, err := records.Session(ctx, hash); (err == nil) != want {
			t.Errorf("is in the records: %v", err)
		}
	}
}

// When a session was used is written down, and kept for the next time while that does not work.
func TestUseIsWrittenDownLater(t *testing.T) {
	h, records, c := house.Open(t)
	token := house.SignIn(t, h, false)
	c.Pass(10 * time.Minute)
	house.Alive(t, h, token)
	gone, cancel := context.WithCancel(ctx)
	cancel()
	if err := h.Sessions.Flush(gone); err == nil {
		t.Fatal("written with a context that is over")
	}
	hash, _ := secret.HashToken(token)
	if s, err := records.Session(ctx, hash); err != nil || s.SeenAt.Equal(c.Now()) {
		t.Fatalf("%+v %v", s, err)
	}
	if err := h.Sessions.Flush(ctx); err != nil {
		t.Fatal(err)
	}
	if s, err := records.Session(ctx, hash); err != nil || !s.SeenAt.Equal(c.Now()) {
		t.Errorf("%+v %v", s, err)
	}
	c.Pass(25 * time.Minute)
	if !house.Alive(t, h.Start(t), token) {
		t.Error("after a start it counts as not used")
	}
}

// A state tells that an account has changed since it was asked for.
func TestStates(t *testing.T) {
	h, _, _ := house.Open(t)
	hers, other := h.Sessions.StateOf(h.Account(t, "ines").ID), h.Sessions.StateOf(99)
	if hers.Stale() || other.Stale() || h.Sessions.StateOf(h.Account(t, "ines").ID) != hers {
		t.Error("changed already")
	}
	h.Sessions.Forget(h.Account(t, "ines").ID)
	if !hers.Stale() || other.Stale() {
		t.Errorf("hers %v, another's %v", hers.Stale(), other.Stale())
	}
	if fresh := h.Sessions.StateOf(h.Account(t, "ines").ID); fresh == hers || fresh.Stale() {
		t.Error("what is read after a change is stale as well")
	}
}
