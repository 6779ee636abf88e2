package sessions_test

import (
	"errors"
	"slices"
	"sync"
	"testing"
	"time"

	"github.com/jmoiron/sqlx"

	"ostiarius/core/policy"
	"ostiarius/core/policy/read"
	"ostiarius/service/base/ending"
	"ostiarius/service/rooms/house"
)

// While the records are locked, whoever is signed in goes on, also where the session is to get another token; nobody gets more than
// the token that they brought has, nor less than nothing.
func TestSessionsGoOnWhileRecordsAreLocked(t *testing.T) {
	h, records, _ := house.Open(t)
	gains, loses := house.SignIn(t, h, false), house.SignIn(t, h, false)
	other, err := sqlx.Open("sqlite", "file:"+records.Path())
	if err != nil {
		t.Fatal(err)
	}
	defer other.Close()
	other.SetMaxOpenConns(1)
	look := func(when, token string, renewed bool, roles ...string) {
		t.Helper()
		var under sync.WaitGroup
		for range 5 { // at once
			under.Go(func() {
				v, fresh, err := h.Sessions.Recognise(ctx, token, nil)
				if err != nil || !v.SignedIn || !slices.Equal(v.Roles, roles) || fresh != nil && !renewed {
					t.Errorf("%s: %+v %v %v, want %v", when, v, fresh, err, roles)
				}
			})
		}
		under.Wait()
	}
	if err := h.People.Grant(ctx, "test", "ines", policy.Steward, time.Time{}, time.Time{}); err != nil {
		t.Fatal(err)
	}
	h = h.Start(t)
	if _, err := other.Exec("BEGIN IMMEDIATE"); err != nil {
		t.Fatal(err)
	}
	look("a role more", gains, false, "keeper")
	if _, err := other.Exec("ROLLBACK"); err != nil {
		t.Fatal(err)
	}
	if err := h.People.Revoke(ctx, "test", "ines", "keeper"); err != nil {
		t.Fatal(err)
	}
	h = h.Start(t)
	if _, err := other.Exec("BEGIN IMMEDIATE"); err != nil {
		t.Fatal(err)
	}
	look("a role less", loses, false)
	if _, err := other.Exec("ROLLBACK"); err != nil {
		t.Fatal(err)
	}
	_, fresh, err := h.Sessions.Recognise(ctx, gains, nil)
	if err != nil || fresh == nil {
		t.Errorf("not renewed afterwards: %v %v", fresh, err)
	}
}

// After a start those who are signed in are known without asking the records, and under another policy too.
func TestSessionsAreWarm(t *testing.T) {
	h, records, c := house.Open(t)
	token, stale := house.SignIn(t, h, false), house.SignIn(t, h, false)
	if err := h.Sessions.End(ctx, stale, ""); err != nil {
		t.Fatal(err)
	}
	h = h.Start(t)
	if err := h.Sessions.Warm(ctx); err != nil {
		t.Fatal(err)
	}
	records.Close()
	for _, text := range []string{"", "sessions: {idle: 20m}\n", "sessions: {idle: 40m}\n"} {
		if text != "" {
			book, findings := read.Parse("doors.yaml", []byte(text+"roles: {keeper: }\ndoors: [{path: /, admit: signed-in}]"))
			if book == nil {
				t.Fatal(findings)
			}
			h.Book = book
		}
		if v, err := h.Sessions.Look(ctx, token, true); err != nil || v.Account != "ines" || !slices.Equal(v.Roles, []string{"keeper"}) {
			t.Errorf("under %q: %+v %v", text, v, err)
		}
	}
	c.Pass(30 * time.Minute)
	if v, err := h.Sessions.Look(ctx, token, false); err != nil || !v.SignedIn {
		t.Errorf("it ended before its time: %v", err)
	}
	h.Book, _ = read.Parse("doors.yaml", []byte("sessions: {idle: 20m}\nroles: {keeper: }\ndoors: [{path: /, admit: signed-in}]"))
	if v, err := h.Sessions.Look(ctx, token, false); err != nil || v.SignedIn {
		t.Errorf("it holds for longer than the policy says: %v", err)
	}
	if v, err := h.Sessions.Look(ctx, stale, false); err == nil || v.SignedIn {
		t.Errorf("one that has ended: %+v", v)
	}
}

// What is read at the start is what needs no fresh token: who has other roles by now gets one with the next request.
func TestOtherRightsAreNotWarm(t *testing.T) {
	h, _, _ := house.Open(t)
	token := house.SignIn(t, h, false)
	if err := h.People.Grant(ctx, "test", "ines", policy.Steward, time.Time{}, time.Time{}); err != nil {
		t.Fatal(err)
	}
	h = h.Start(t)
	if err := h.Sessions.Warm(ctx); err != nil {
		t.Fatal(err)
	}
	if v, fresh, err := h.Sessions.Recognise(ctx, token, nil); err != nil || !v.SignedIn || fresh == nil {
		t.Errorf("%+v %v %v", v, fresh, err)
	}
}

// Who signs out is out at once, also while the records cannot be read.
func TestSigningOutWithoutRecords(t *testing.T) {
	h, records, _ := house.Open(t)
	token := house.SignIn(t, h, false)
	if !house.Alive(t, h, token) {
		t.Fatal("not signed in")
	}
	records.Close()
	var unwritten *ending.Unwritten
	if err := h.Sessions.End(ctx, token, ""); !errors.As(err, &unwritten) {
		t.Errorf("it is not said that this is not written down: %v", err)
	}
	if v, _, _ := h.Sessions.Recognise(ctx, token, nil); v.SignedIn {
		t.Error("the session goes on")
	}
}
