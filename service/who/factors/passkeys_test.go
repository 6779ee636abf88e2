package factors_test

import (
	"errors"
	"testing"
	"time"

	"ostiarius/core/activity"
	"ostiarius/core/factor"
	"ostiarius/core/passkey/pretend"
	"ostiarius/service/rooms/house"
	"ostiarius/service/who/factors"
	"ostiarius/service/who/people"
	"ostiarius/service/who/signin"
)

// A question is good for five minutes, and after a start still.
func TestQuestionsEnd(t *testing.T) {
	h, _, c := house.Open(t)
	k := h.Passkey(t, "ines")
	before, late := house.Text(t, h.Factors.AskAny(house.HerPage), nil), house.Text(t, h.Factors.AskAny(house.HerPage), nil)
	h = h.Start(t)
	if _, err := h.SignIn.SignInByPasskey(ctx, signin.Shown{Passkey: k.Use(before), Page: house.HerPage}, house.HerHome, false); err != nil {
		t.Errorf("after a start: %v", err)
	}
	c.Pass(5 * time.Minute)
	if _, err := h.SignIn.SignInByPasskey(ctx, signin.Shown{Passkey: k.Use(late), Page: house.HerPage}, house.HerHome,
		false); !errors.Is(err, factors.ErrWrong) {
		t.Errorf("late: %v", err)
	}
}

// A count that does not grow tells of a copy: neither opens with it, and stewards can see why.
func TestACopiedPasskey(t *testing.T) {
	h, _, _ := house.Open(t)
	k := h.Passkey(t, "ines")
	k.Uses = 10
	use := func(k *pretend.Key) error {
		_, err := h.SignIn.SignInByPasskey(ctx,
			signin.Shown{Passkey: k.Use(house.Text(t, h.Factors.AskAny(house.HerPage), nil)), Page: house.HerPage}, house.HerHome, false)
		return err
	}
	copied := *k
	if err := use(k); err != nil {
		t.Fatal(err)
	}
	if err := use(&copied); !errors.Is(err, factors.ErrWrong) {
		t.Errorf("the copy: %v", err)
	}
	if kinds := h.Kinds(t); kinds[0] != activity.PasskeyCopied {
		t.Errorf("recorded as %q", kinds)
	}
	if err := use(k); err != nil {
		t.Errorf("the one that was ahead: %v", err)
	}
}

// A passkey is one account's, and so is the question for it: nobody adds their own to another's session, or the other's to theirs.
func TestPasskeysOfOthers(t *testing.T) {
	h, _, _ := house.Open(t)
	if _, err := h.People.Add(ctx, "test", people.NewAccount{Name: "walt", Password: house.InesPassword}); err != nil {
		t.Fatal(err)
	}
	hers, his := h.Passkey(t, "ines"), h.Passkey(t, "walt")
	q, err := h.Factors.AskOf(ctx, h.Account(t, "ines"), house.HerPage)
	question := house.Text(t, q, err)
	half := h.Half(t, house.HerHome)
	if _, err := h.SignIn.Finish(ctx, half, signin.Shown{Passkey: his.Use(question), Page: house.HerPage}, house.HerHome,
		false); !errors.Is(err, factors.ErrWrong) {
		t.Errorf("his passkey for her account: %v", err)
	}
	q, err = h.Factors.AskOf(ctx, h.Account(t, "walt"), house.HerPage)
	if _, err := h.SignIn.Finish(ctx, half, signin.Shown{Passkey: hers.Use(house.Text(t, q, err)), Page: house.HerPage}, house.HerHome,
		false); !errors.Is(err, factors.ErrWrong) {
		t.Errorf("the answer to a question that he was asked: %v", err)
	}
	if in, err := h.SignIn.Finish(ctx, half, signin.Shown{Passkey: hers.Use(question), Page: house.HerPage}, house.HerHome,
		false); err != nil || !in.Visitor.Shown().Kinds.Meets(factor.AskTwo) {
		t.Errorf("hers: %+v %v", in.Visitor, err)
	}
	a := h.Account(t, "walt")
	q, err = h.Factors.AskNew(ctx, a, house.HerPage)
	stolen := *hers
	if _, err := h.Factors.Add(ctx, a, house.HerPage, stolen.Make(house.Text(t, q, err)), "", house.HerHome); err == nil {
		t.Error("a passkey with the number of hers was added to his account")
	}
	if err := h.Factors.Remove(ctx, a, "x", house.HerHome); err == nil {
		t.Error("a passkey that nobody has was removed")
	}
}
