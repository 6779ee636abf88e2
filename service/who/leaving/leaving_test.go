package leaving_test

import (
	"context"
	"encoding/json"
	"errors"
	"strings"
	"testing"
	"time"

	"ostiarius/core/message"
	"ostiarius/core/words"
	"ostiarius/service/base/mistake"
	"ostiarius/service/rooms/house"
	"ostiarius/service/who/joining"
	"ostiarius/service/who/leaving"
	"ostiarius/service/who/people"
	"ostiarius/store"
)

var ctx = context.Background()

// Who wants to go has a week to change their mind; then nothing that is kept tells who they were.
func TestLeaving(t *testing.T) {
	r, records, c := house.Open(t)
	house.Add(t, r, people.NewAccount{
		Name: "walt", Email: "walt@marram.example", Password: "paint-and-lentil-soup", Notes: "paints", Roles: []string{"keeper"},
	})
	token := house.SignInAs(t, r, "walt", "paint-and-lentil-soup")
	find := func() error { _, err := r.People.Find(ctx, "walt"); return err }
	leave := func() time.Time {
		t.Helper()
		a, err := r.People.Find(ctx, "walt")
		if err != nil {
			t.Fatal(err)
		}
		at, err := r.Leaving.Leave(ctx, a, "192.0.2.7", words.English)
		if err != nil {
			t.Fatal(err)
		}
		return at
	}
	if at := leave(); at.Sub(c.Now()) != 7*24*time.Hour {
		t.Errorf("it is deleted at %v", at)
	}
	if m := house.Mailed(t, r)[0]; m.Kind != message.Leaving || m.To != "walt@marram.example" {
		t.Errorf("%+v", m)
	}
	a, err := r.People.Find(ctx, "walt")
	if err != nil || a.LeavesAt.IsZero() || !house.Alive(t, r, token) {
		t.Fatalf("%+v, %v", a, err)
	}
	c.Pass(6 * 24 * time.Hour)
	if err := errors.Join(r.Leaving.Sweep(ctx), find()); err != nil {
		t.Fatalf("a day before: %v", err)
	}
	if err := r.Leaving.Stay(ctx, a, "192.0.2.7"); err != nil {
		t.Fatal(err)
	}
	c.Pass(6 * 24 * time.Hour)
	if err := errors.Join(r.Leaving.Sweep(ctx), find()); err != nil {
		t.Fatalf("after they have changed their mind: %v", err)
	}
	if a, err = r.People.Find(ctx, "walt"); err != nil {
		t.Fatal(err)
	}
	data, err := r.Leaving.Data(ctx, a)
	if err != nil {
		t.Fatal(err)
	}
	text, err := json.Marshal(data)
	if err != nil {
		t.Fatal(err)
	}
	for _, want := range []string{`"email":"walt@marram.example"`, `"notes":"paints"`, `"role":"keeper"`, `"kind":"sign-in"`,
		`"from":"192.0.2.7"`, `"kind":"leave withdrawn"`} {
		if !strings.Contains(string(text), want) {
			t.Errorf("what is known has no %s:\n%s", want, text)
		}
	}
	if strings.Contains(string(text), "argon2") || strings.Contains(string(text), token) {
		t.Error("it has a secret")
	}
	leave()
	c.Pass(7 * 24 * time.Hour)
	if err := r.Leaving.Sweep(ctx); err != nil {
		t.Fatal(err)
	}
	var unknown *mistake.Error
	if err := find(); !errors.As(err, &unknown) {
		t.Errorf("after a week: %v", err)
	}
	events, err := records.AllEvents(ctx, store.ActivityQuery{Limit: 1000})
	if err != nil {
		t.Fatal(err)
	}
	former := 0
	for _, e := range events {
		if said := strings.ToLower(e.Account + e.Actor + e.Detail + e.Network); strings.Contains(said, "walt") ||
			strings.Contains(e.Account+e.Actor, "former-") && strings.Contains(said, "192.0.2.7") {
			t.Errorf("%+v", e)
		}
		if strings.HasPrefix(e.Account, "former-") {
			former++
		}
	}
	if former < 5 {
		t.Errorf("only %d records are left of them", former)
	}
	if found, err := records.AllEvents(ctx, store.ActivityQuery{Words: "walt", Limit: 10}); err != nil || len(found) > 0 {
		t.Errorf("they are found: %+v, %v", found, err)
	}
	if all := house.Mailed(t, r); len(all) > 0 {
		t.Errorf("messages: %+v", all)
	}
	// Another of that name is somebody else.
	house.Add(t, r, people.NewAccount{Name: "walt", Password: "paint-and-lentil-soup", Anyway: true})
	if a, err = r.People.Find(ctx, "walt"); err != nil {
		t.Fatal(err)
	}
	if data, err := r.Leaving.Data(ctx, a); err != nil || len(data.Activity) != 1 {
		t.Errorf("%+v, %v", data.Activity, err)
	}
}

// Nor does what is recorded from before there was an account.
func TestLeavingAfterJoining(t *testing.T) {
	r, c := house.Joins(t, "{ by: anybody }")
	if _, _, err := r.Joining.Invite(ctx, "agnes",
		joining.Invite{Email: house.Sigrid.Email, Roles: []string{"friend"}, Mail: true}); err != nil {
		t.Fatal(err)
	}
	if _, err := r.Joining.Ask(ctx, house.Sigrid, house.Elsewheres); err != nil {
		t.Fatal(err)
	}
	out, err := r.Joining.Prove(ctx, house.LinkIn(t, house.Mailed(t, r)[0]), house.Sigrid.Password, house.Elsewheres)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := r.Leaving.Leave(ctx, out.Account, "", ""); err != nil {
		t.Fatal(err)
	}
	c.Pass(8 * 24 * time.Hour)
	if err := r.Leaving.Sweep(ctx); err != nil {
		t.Fatal(err)
	}
	events, err := r.Records.AllEvents(ctx, store.ActivityQuery{Limit: 100})
	if err != nil {
		t.Fatal(err)
	}
	for _, e := range events {
		if strings.Contains(strings.ToLower(e.Account+e.Actor+e.Detail), "sigrid") || e.Account != "" && e.Network == house.Elsewheres.Network {
			t.Errorf("%+v", e)
		}
	}
	if all := house.Mailed(t, r); len(all) > 0 {
		t.Errorf("messages: %+v", all)
	}
}

func TestLeavingAsThePolicySays(t *testing.T) {
	for how, want := range map[string]error{"leave: never": leaving.ErrNever, "leave: 0": nil} {
		r, _ := house.Joins(t, "{ "+how+" }")
		a, err := r.People.Find(ctx, "ines")
		if err != nil {
			t.Fatal(err)
		}
		if _, err := r.Leaving.Leave(ctx, a, "", ""); !errors.Is(err, want) {
			t.Errorf("%s: %v", how, err)
		}
		if _, err := r.People.Find(ctx, "ines"); (err == nil) != (want != nil) {
			t.Errorf("%s: then %v", how, err)
		}
	}
}
