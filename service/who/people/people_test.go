package people_test

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"ostiarius/core/account"
	"ostiarius/core/roster"
	"ostiarius/core/secret"
	"ostiarius/service/base/ending"
	"ostiarius/service/base/mistake"
	"ostiarius/service/rooms/house"
	"ostiarius/service/who/people"
	"ostiarius/service/who/sessions"
	"ostiarius/service/who/signin"
	"ostiarius/store"
	"ostiarius/store/fresh"
)

var ctx = context.Background()

// What is taken away counts at once, also while the records cannot be written, and is written down
// when they can be.
func TestTakingAwayNeedsNoRecords(t *testing.T) {
	r, records, _ := house.Open(t)
	here, there := house.SignIn(t, r, false), house.SignIn(t, r, false)
	if v, err := r.Present(ctx, "192.0.2.7", "ines", "seven-brass-prisms"); err != nil || !v.SignedIn {
		t.Fatal(v, err)
	}
	unlock := lock(t, records)
	var unwritten *ending.Unwritten
	if err := r.Sessions.End(ctx, here, ""); !errors.As(err, &unwritten) || house.Alive(t, r, here) || !house.Alive(t, r, there) {
		t.Errorf("signed out: %v", err)
	}
	if err := r.People.SetDisabled(ctx, "test", "ines", true); !errors.As(err, &unwritten) ||
		!strings.Contains(err.Error(), "could not be written down yet") || house.Alive(t, r, there) {
		t.Errorf("disabled: %v", err)
	}
	if said := fmt.Sprint(r.Endings.Words()); said != "[that Ines has signed out that Ines is disabled]" {
		t.Error(said)
	}
	unlock()
	if v, err := r.Present(ctx, "192.0.2.7", "ines", "seven-brass-prisms"); err != nil || v.SignedIn {
		t.Errorf("what was verified before still counts: %+v %v", v, err)
	}
	for len(r.Endings.Words()) > 0 {
		r.Endings.TryAgain(ctx)
	}
	a, err := r.People.Find(ctx, "ines")
	if err != nil || !a.Disabled {
		t.Errorf("%+v %v", a, err)
	}
	if events, _, err := r.Activity.Events(ctx, store.ActivityQuery{Kind: "account disabled", Limit: 10}); len(events) != 1 || err != nil {
		t.Errorf("%+v %v", events, err)
	}
}

// Whoever signs out while the records cannot be read is signed out, if they were known to be signed in; if not, they are told that it
// did not work.
func TestSigningOutWhileNothingCanBeRead(t *testing.T) {
	h, records, _ := house.Open(t)
	known, unknown := house.SignIn(t, h, false), house.SignIn(t, h, false)
	h = h.Start(t) // which remembers nothing
	if !house.Alive(t, h, known) {
		t.Fatal("not signed in")
	}
	db, err := sql.Open("sqlite", "file:"+records.Path())
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close()
	if _, err := db.Exec("ALTER TABLE sessions RENAME TO away"); err != nil {
		t.Fatal(err)
	}
	var unwritten *ending.Unwritten
	if err := h.Sessions.End(ctx, known, ""); !errors.As(err, &unwritten) {
		t.Errorf("signed out: %v", err)
	}
	if err := h.Sessions.End(ctx, unknown, ""); err == nil || errors.As(err, &unwritten) {
		t.Errorf("signed out, of which nothing is known: %v", err)
	}
	if err := h.Sessions.End(ctx, "no token", ""); err != nil {
		t.Errorf("what is no token: %v", err)
	}
	if _, err := db.Exec("ALTER TABLE away RENAME TO sessions"); err != nil {
		t.Fatal(err)
	}
	if house.Alive(t, h, known) || !house.Alive(t, h, unknown) {
		t.Error("they come back, or the other is out")
	}
	for end := time.Now().Add(20 * time.Second); len(h.Endings.Words()) > 0 && time.Now().Before(end); time.Sleep(time.Millisecond) {
		h.Endings.TryAgain(ctx)
	}
	if h = h.Start(t); house.Alive(t, h, known) {
		t.Error("they come back with the next start")
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

func TestLinksWorkOnce(t *testing.T) {
	r, records, c := house.Open(t)
	if _, err := r.People.Add(ctx, "test", people.NewAccount{Name: "bo"}); err != nil {
		t.Fatal(err)
	}
	if _, err := r.SignIn.SignIn(ctx, "bo", "", sessions.Origin{}, false); !errors.Is(err, signin.ErrWrong) {
		t.Errorf("without a password: %v", err)
	}
	first, _, err := r.People.Link(ctx, "test", "bo")
	if err != nil {
		t.Fatal(err)
	}
	second, until, err := r.People.Link(ctx, "test", "bo")
	if err != nil || until.Sub(c.Now()) != 72*time.Hour {
		t.Fatal(until, err)
	}
	if name, ok, err := r.People.LinkedAccount(ctx, first); name != "bo" || !ok || err != nil {
		t.Errorf("%q %v %v", name, ok, err)
	}
	var mistake *mistake.Error
	if err := r.People.UseLink(ctx, first, "short", "", ""); !errors.As(err, &mistake) {
		t.Errorf("a short password: %v", err)
	}
	if err := r.People.UseLink(ctx, first, "kettle-moth-anvil", "", ""); err != nil {
		t.Fatal(err)
	}
	for _, used := range []string{first, second, "", "nonsense"} { // setting a password ends all links
		if err := r.People.UseLink(ctx, used, "another-moth-anvil", "", ""); !errors.Is(err, people.ErrLink) {
			t.Errorf("link %q again: %v", used, err)
		}
	}
	if _, err := r.SignIn.SignIn(ctx, "bo", "kettle-moth-anvil", sessions.Origin{}, false); err != nil {
		t.Error(err)
	}
	late, _, err := r.People.Link(ctx, "test", "bo")
	if err != nil {
		t.Fatal(err)
	}
	c.Pass(73 * time.Hour)
	if _, ok, _ := r.People.LinkedAccount(ctx, late); ok {
		t.Error("a link has no end")
	}
	if err := r.People.Sweep(ctx); err != nil {
		t.Fatal(err)
	}
	events, _ := records.AllEvents(ctx, store.ActivityQuery{Limit: 1000})
	for _, e := range events {
		if strings.Contains(fmt.Sprint(e), first) || strings.Contains(fmt.Sprint(e), "moth") {
			t.Errorf("a secret is in the activity: %+v", e)
		}
	}
}

func TestImport(t *testing.T) {
	r, _, c := house.Open(t)
	yes := true
	file := []roster.Entry{
		{Line: 2, Name: "Bo", Email: "bo@marram.example", Roles: []account.Grant{{Role: "keeper", Until: c.Now().Add(time.Hour)}}},
		{Line: 3, Name: "INES", Email: "ines@marram.example", Disabled: &yes},
		{Line: 4, Name: "cy", Hash: secret.Hash("kettle-moth-anvil", secret.Cost{Memory: 64, Passes: 1, Threads: 1})},
	}
	token := house.SignIn(t, r, false)
	dry, done, err := r.People.Import(ctx, "test", file, true)
	until := c.Now().Add(time.Hour).Local().Format("2006-01-02 15:04")
	if err != nil || done || fmt.Sprint(dry) != "[{2 Bo add roles keeper until "+until+
		"; no password yet} {3 INES change name INES, e-mail ines@marram.example, disabled} {4 cy add no roles}]" {
		t.Fatalf("%v %v %v", dry, done, err)
	}
	if _, n, _ := r.People.List(ctx, people.Query{}); n != 1 || !house.Alive(t, r, token) {
		t.Error("a dry run changed something")
	}
	bad := append(slices.Clone(file), roster.Entry{Line: 5, Name: "b o"}, roster.Entry{Line: 6, Name: "bO"},
		roster.Entry{Line: 7, Name: "dy", Roles: []account.Grant{{Role: "keper"}}}, roster.Entry{Line: 8, Name: "ey", Hash: "secret"})
	results, done, err := r.People.Import(ctx, "test", bad, false)
	errs := 0
	for _, result := range results {
		if result.Action == "error" {
			errs++
		}
	}
	if _, n, _ := r.People.List(ctx, people.Query{}); err != nil || done || errs != 4 || n != 1 {
		t.Fatalf("%v %v %v", results, done, err)
	}
	if _, done, err = r.People.Import(ctx, "test", file, false); err != nil || !done {
		t.Fatal(done, err)
	}
	if house.Alive(t, r, token) {
		t.Error("somebody who was disabled is still signed in")
	}
	if _, err := r.SignIn.SignIn(ctx, "cy", "kettle-moth-anvil", sessions.Origin{}, false); err != nil {
		t.Error(err)
	}
	taken, _, err := r.People.Import(ctx, "test",
		[]roster.Entry{{Line: 2, Name: "fy", Email: "BO@marram.example"}, {Line: 3, Name: "bo@marram.example"},
			{Line: 4, Name: "gy@marram.example", Email: "gy@marram.example"}, {Line: 5, Name: "Bo"}}, true)
	if err != nil || !strings.Contains(taken[0].Detail, "the address of Bo already") || taken[1].Action != "error" ||
		taken[2].Action != "add" || taken[3].Action != "same" {
		t.Errorf("what is taken: %v %v", taken, err)
	}
	later := roster.Entry{
		Line: 2, Name: "hy", Roles: []account.Grant{{Role: "keeper", From: c.Now().Add(time.Hour), Until: c.Now().Add(2 * time.Hour)}},
	}
	if _, done, err := r.People.Import(ctx, "test", []roster.Entry{later}, false); err != nil || !done {
		t.Fatal(done, err)
	}
	if a, err := r.People.Find(ctx, "hy"); err != nil || len(a.Roles(c.Now())) != 0 || len(a.Roles(c.Now().Add(time.Hour))) != 1 {
		t.Errorf("a role that begins later: %+v, %v", a, err)
	}
	if same, _, err := r.People.Import(ctx, "test", []roster.Entry{later}, true); err != nil || same[0].Action != "same" {
		t.Errorf("%v %v", same, err)
	}
	again, _, err := r.People.Import(ctx, "test", file[:2], true)
	if err != nil || again[0].Action != "same" || again[1].Action != "same" {
		t.Errorf("the same again: %v %v", again, err)
	}
}

// Whoever is leaving, disabled, or has the role no longer than it takes to leave is nobody else: the last stewards can't all leave at once.
func TestStewardsDoNotAllLeave(t *testing.T) {
	for what, others := range map[string]func(r *house.House, c *house.Clock) error{
		"one who leaves": func(r *house.House, _ *house.Clock) error {
			_, err := r.Leaving.Leave(ctx, r.Must("walt"), "", "")
			return err
		},
		"one who is disabled": func(r *house.House, _ *house.Clock) error { return r.People.SetDisabled(ctx, "test", "walt", true) },
		"one whose role ends": func(r *house.House, c *house.Clock) error {
			return r.People.Grant(ctx, "test", "walt", "steward", time.Time{}, c.Now().Add(6*24*time.Hour))
		},
	} {
		r, _, c := house.Open(t)
		for _, name := range []string{"agnes", "walt"} {
			house.Add(t, r, people.NewAccount{Name: name, Password: "paint-and-lentil-soup", Roles: []string{"steward"}})
		}
		leaves := func() error { return r.People.UnlessLast(ctx, "agnes", "steward", func() error { return nil }) }
		if err := leaves(); err != nil {
			t.Errorf("beside another: %v", err)
		}
		if err := others(r, c); err != nil {
			t.Fatal(err)
		}
		if err := leaves(); err == nil {
			t.Errorf("beside %s alone the last steward can leave", what)
		}
	}
}

// A new service has no account of anybody.
func TestNobodyIsThereAtFirst(t *testing.T) {
	all, _, err := fresh.Records(t, t.TempDir()).Accounts(ctx, store.AccountQuery{Limit: 10})
	if err != nil || len(all) > 0 {
		t.Errorf("%v %v", all, err)
	}
}
