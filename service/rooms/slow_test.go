package rooms

import (
	"errors"
	"fmt"
	"slices"
	"sync"
	"testing"
	"time"

	"github.com/jmoiron/sqlx"

	"ostiarius/core/basic"
	"ostiarius/core/policy"
	"ostiarius/core/throttle"
	"ostiarius/service/hashing"
	"ostiarius/service/keyrings"
	"ostiarius/service/people"
	"ostiarius/service/sessions"
	"ostiarius/service/signin"
	"ostiarius/store"
)

// Strangers everywhere who guess do not keep the owner out where the password was right before, also after the next start.
func TestOwnersAreKnownAtTheirPlaces(t *testing.T) {
	h, _, _ := open(t)
	h.book, _ = policy.Parse("doors.yaml", []byte("roles: {keeper: }\nkeyrings: {outer: }\ndoors: [{path: /, admit: {keyring: outer}}]"))
	if _, err := h.Keyrings.Add(ctx, "test", "outer", keyrings.NewEntry{Name: "smith", Password: "creaky-third-step"}); err != nil {
		t.Fatal(err)
	}
	for _, way := range []struct {
		name string
		try  func(password, from string) error
		good string
	}{
		{"a keyring", func(password, from string) error {
			_, ok, err := h.Keyrings.Open(ctx, "outer", basic.Credentials{User: "smith", Password: password}, from)
			if err == nil && !ok {
				err = signin.ErrWrong
			}
			return err
		}, "creaky-third-step"},
		{"an account", func(password, from string) error {
			_, _, err := h.Desk.Prove(ctx, "ines", password, sessions.Origin{Network: from})
			return err
		}, "seven-brass-prisms"},
	} {
		var slow *throttle.Slow
		if err := way.try(way.good, "192.0.2.7"); err != nil {
			t.Fatalf("%s: %v", way.name, err)
		}
		h = h.start(t)
		for i := range 85 {
			way.try("not-this-one", fmt.Sprintf("203.0.113.%d", i))
		}
		if err := way.try(way.good, "203.0.113.200"); !errors.As(err, &slow) {
			t.Errorf("%s: strangers are not slowed: %v", way.name, err)
		}
		if err := way.try(way.good, "192.0.2.7"); err != nil {
			t.Errorf("%s: the owner, where it was right before: %v", way.name, err)
		}
		for range 10 { // strangers in the owner's network are slowed there too
			way.try("not-this-one", "192.0.2.7")
		}
		if err := way.try(way.good, "192.0.2.7"); !errors.As(err, &slow) {
			t.Errorf("%s: guessing where it is known: %v", way.name, err)
		}
	}
	// Whoever gets the name later is known nowhere.
	if err := h.Keyrings.Remove(ctx, "test", "outer", "smith"); err != nil {
		t.Fatal(err)
	}
	if knows, err := h.records.KnowsPlace(ctx, store.PlaceOfEntry("outer", "smith"), throttle.NetworkNamed("192.0.2.7"), time.Time{}); knows || err != nil {
		t.Error(knows, err)
	}
}

// Many people of one office may sign in at the same time; many who guess there may not.
func TestAnOfficeSignsInAtOnce(t *testing.T) {
	h, _, _ := open(t)
	const many = 36
	for i := range many {
		if _, err := h.People.Add(ctx, "test", people.NewAccount{Name: fmt.Sprint("clerk", i), Password: "seven-brass-prisms"}); err != nil {
			t.Fatal(err)
		}
	}
	try := func(password string) (all []error) {
		all = make([]error, many)
		var under sync.WaitGroup
		for i := range all {
			under.Go(func() {
				for {
					if _, _, all[i] = h.Desk.Prove(ctx, fmt.Sprint("clerk", i), password, sessions.Origin{Network: "192.0.2.7"}); !errors.Is(all[i], hashing.ErrBusy) {
						return
					}
				}
			})
		}
		under.Wait()
		return all
	}
	for i, err := range try("seven-brass-prisms") {
		if err != nil {
			t.Errorf("clerk%d: %v", i, err)
		}
	}
	try("not-this-one")
	var slow *throttle.Slow
	for i, err := range try("not-this-one") {
		if !errors.As(err, &slow) {
			t.Errorf("after 36 failures, clerk%d: %v", i, err)
		}
	}
}

// While the records are locked, whoever is signed in goes on, also where the session is to get another token; nobody gets more than the token
// that they brought has, nor less than nothing.
func TestSessionsGoOnWhileRecordsAreLocked(t *testing.T) {
	h, records, _ := open(t)
	gains, loses := signIn(t, h, false), signIn(t, h, false)
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
	h = h.start(t)
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
	h = h.start(t)
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
	h, records, c := open(t)
	token, stale := signIn(t, h, false), signIn(t, h, false)
	if err := h.Sessions.End(ctx, stale, ""); err != nil {
		t.Fatal(err)
	}
	h = h.start(t)
	if err := h.Sessions.Warm(ctx); err != nil {
		t.Fatal(err)
	}
	records.Close()
	for _, text := range []string{"", "sessions: {idle: 20m}\n", "sessions: {idle: 40m}\n"} {
		if text != "" {
			book, findings := policy.Parse("doors.yaml", []byte(text+"roles: {keeper: }\ndoors: [{path: /, admit: signed-in}]"))
			if book == nil {
				t.Fatal(findings)
			}
			h.book = book
		}
		if v, err := h.Sessions.Look(ctx, token, true); err != nil || v.Account != "ines" || !slices.Equal(v.Roles, []string{"keeper"}) {
			t.Errorf("under %q: %+v %v", text, v, err)
		}
	}
	c.pass(30 * time.Minute)
	if v, err := h.Sessions.Look(ctx, token, false); err != nil || !v.SignedIn {
		t.Errorf("it ended before its time: %v", err)
	}
	h.book, _ = policy.Parse("doors.yaml", []byte("sessions: {idle: 20m}\nroles: {keeper: }\ndoors: [{path: /, admit: signed-in}]"))
	if v, err := h.Sessions.Look(ctx, token, false); err != nil || v.SignedIn {
		t.Errorf("it holds for longer than the policy says: %v", err)
	}
	if v, err := h.Sessions.Look(ctx, stale, false); err == nil || v.SignedIn {
		t.Errorf("one that has ended: %+v", v)
	}
}
