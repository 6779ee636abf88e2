package factors_test

import (
	"context"
	"testing"
	"time"

	"ostiarius/core/message"
	"ostiarius/service/rooms/house"
	"ostiarius/service/who/people"
	"ostiarius/service/who/signin"
)

var ctx = context.Background()

// A steward's reset tells the owner, and waits if the policy says so; the owner can object until then.
func TestResets(t *testing.T) {
	h, _, c := house.Open(t)
	address := "ines@marram.example"
	if _, err := h.People.Edit(ctx, "test", "ines", people.Edit{Email: &address}); err != nil {
		t.Fatal(err)
	}
	h.Book = house.BookOf(t, "doors: [{path: /, admit: public}]\nroles: {keeper: }\nfactors: {reset: 24h}")
	h = h.Start(t)
	if _, err := h.Factors.Reset(ctx, "agnes", h.Account(t, "ines")); err == nil {
		t.Error("nothing was reset")
	}
	h.SetUp(t, "ines")
	h.Passkey(t, "ines")
	due, err := h.Factors.Reset(ctx, "agnes", h.Account(t, "ines"))
	if err != nil || !due.Equal(c.Now().Add(24*time.Hour)) {
		t.Fatal(due, err)
	}
	if m := house.Mailed(t, h)[0]; m.Kind != message.FactorsReset || m.To != address || m.Gaps["when"] == "" {
		t.Errorf("%+v", m)
	}
	if _, err := h.Factors.Reset(ctx, "agnes", h.Account(t, "ines")); err == nil {
		t.Error("a second one")
	}
	if err := h.Factors.DropReset(ctx, "ines", h.Account(t, "ines"), house.HerHome); err != nil {
		t.Fatal(err)
	}
	c.Pass(25 * time.Hour)
	if err := h.Factors.Tend(ctx); err != nil || h.Account(t, "ines").Enrolled == 0 {
		t.Fatalf("reset though she has objected: %v", err)
	}
	if _, err := h.Factors.Reset(ctx, "agnes", h.Account(t, "ines")); err != nil {
		t.Fatal(err)
	}
	c.Pass(24*time.Hour - time.Second)
	if err := h.Factors.Tend(ctx); err != nil || h.Account(t, "ines").Enrolled == 0 {
		t.Fatalf("too early: %v", err)
	}
	c.Pass(time.Second)
	if err := h.Factors.Tend(ctx); err != nil || h.Account(t, "ines").Enrolled != 0 {
		t.Fatalf("not reset: %v", err)
	}
	if held, err := h.Factors.Of(ctx, h.Account(t, "ines")); err != nil || held.Code != nil || held.Kept != 0 ||
		len(held.Passkeys) != 0 || held.Reset != nil {
		t.Errorf("%+v %v", held, err)
	}
	if _, err := h.SignIn.SignIn(ctx, "ines", house.InesPassword, house.HerHome, false); err != nil {
		t.Errorf("with the password alone: %v", err)
	}
}

// The last factor takes what goes with it along.
func TestTheLastFactor(t *testing.T) {
	h, _, _ := house.Open(t)
	_, kept := h.SetUp(t, "ines")
	k := h.Passkey(t, "ines")
	if err := h.Factors.RemoveCode(ctx, h.Account(t, "ines"), house.HerHome); err != nil {
		t.Fatal(err)
	}
	if held, err := h.Factors.Of(ctx, h.Account(t, "ines")); err != nil || held.Kept != len(kept) {
		t.Errorf("with a passkey left: %d %v", held.Kept, err)
	}
	if _, err := h.SignIn.Finish(ctx, h.Half(t, house.HerHome), signin.Shown{Code: kept[0]}, house.HerHome, false); err != nil {
		t.Errorf("a kept code in the place of a passkey: %v", err)
	}
	held, err := h.Factors.Of(ctx, h.Account(t, "ines"))
	if err != nil || len(held.Passkeys) != 1 || held.Passkeys[0].Name != "her key" || k == nil {
		t.Fatal(held, err)
	}
	if err := h.Factors.Remove(ctx, h.Account(t, "ines"), held.Passkeys[0].ID, house.HerHome); err != nil {
		t.Fatal(err)
	}
	if held, err := h.Factors.Of(ctx, h.Account(t, "ines")); err != nil || held.Kept != 0 {
		t.Errorf("with nothing left: %d %v", held.Kept, err)
	}
	if _, err := h.SignIn.SignIn(ctx, "ines", house.InesPassword, house.HerHome, false); err != nil {
		t.Error(err)
	}
}

// The only way into an account is not removed by its owner.
func TestTheLastWayInStays(t *testing.T) {
	h, _, _ := house.Open(t)
	if _, err := h.People.Add(ctx, "test", people.NewAccount{Name: "edda"}); err != nil { // without a password
		t.Fatal(err)
	}
	h.Passkey(t, "edda")
	remove := func() error {
		held, err := h.Factors.Of(ctx, h.Account(t, "edda"))
		if err != nil {
			t.Fatal(err)
		}
		return h.Factors.Remove(ctx, h.Account(t, "edda"), held.Passkeys[0].ID, house.HerHome)
	}
	if err := remove(); err == nil {
		t.Error("the last passkey of an account without a password was removed")
	}
	h.Passkey(t, "edda")
	if err := remove(); err != nil {
		t.Errorf("one of two: %v", err)
	}
	if err := h.People.SetPassword(ctx, "test", "edda", "kettle-moth-anvil"); err != nil {
		t.Fatal(err)
	}
	if err := remove(); err != nil {
		t.Errorf("with a password: %v", err)
	}
}
