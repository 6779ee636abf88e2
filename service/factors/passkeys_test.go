package factors_test

import (
	"errors"
	"strings"
	"testing"
	"time"

	"ostiarius/core/activity"
	"ostiarius/core/factor"
	"ostiarius/core/passkey/pretend"
	"ostiarius/service/factors"
	"ostiarius/service/people"
	"ostiarius/service/rooms/house"
	"ostiarius/service/signin"
)

func TestSignInWithAPasskey(t *testing.T) {
	h, _, _ := house.Open(t)
	k := h.Passkey(t, "ines")
	ask := func() string { return house.Text(t, h.Factors.AskAny(house.HerPage), nil) }
	signIn := func(answer string) (signin.SignedIn, error) {
		return h.Desk.SignInByPasskey(ctx, signin.Shown{Passkey: answer, Page: house.HerPage}, house.HerHome, false)
	}
	in, err := signIn(k.Use(ask()))
	if err != nil || in.Visitor.Account != "ines" || in.Visitor.Shown().Kinds != factor.Of(factor.Passkey) || in.Visitor.ProofAge != 0 {
		t.Fatalf("%+v %v", in.Visitor, err)
	}
	answer := k.Use(ask())
	if _, err := signIn(answer); err != nil {
		t.Fatal(err)
	}
	if _, err := signIn(answer); !errors.Is(err, factors.ErrWrong) {
		t.Errorf("the same answer twice: %v", err)
	}
	for name, change := range map[string]func(k *pretend.Key){
		"another site":           func(k *pretend.Key) { k.Origin = "https://evil.example" },
		"another party":          func(k *pretend.Key) { k.Party = "evil.example" },
		"not verified":           func(k *pretend.Key) { k.Flags = pretend.Present },
		"no owner":               func(k *pretend.Key) { k.Handle = nil },
		"another owner":          func(k *pretend.Key) { k.Handle = []byte("somebody else") },
		"a number nobody has":    func(k *pretend.Key) { k.ID = []byte("nobody has this") },
		"the key of another one": func(k *pretend.Key) { *k = *pretendLike(k) },
	} {
		forged := *k
		change(&forged)
		if in, err := signIn(forged.Use(ask())); !errors.Is(err, factors.ErrWrong) || in.Token != "" {
			t.Errorf("%s: %v", name, err)
		}
	}
	for name, question := range map[string]func() (factors.Question, error){
		"a question to make one":    func() (factors.Question, error) { return h.Factors.AskNew(ctx, h.Account(t, "ines"), house.HerPage) },
		"a question of her account": func() (factors.Question, error) { return h.Factors.AskOf(ctx, h.Account(t, "ines"), house.HerPage) },
	} {
		q, err := question()
		if _, err := signIn(k.Use(house.Text(t, q, err))); !errors.Is(err, factors.ErrWrong) {
			t.Errorf("the answer to %s: %v", name, err)
		}
	}
	for _, nonsense := range []string{"", "{", "[]", `{"id":"","response":{}}`, strings.Repeat("[", 10000)} {
		if nonsense == "" {
			continue
		}
		if _, err := signIn(nonsense); !errors.Is(err, factors.ErrWrong) {
			t.Errorf("%.20q: %v", nonsense, err)
		}
	}
	if err := h.People.SetDisabled(ctx, "test", "ines", true); err != nil {
		t.Fatal(err)
	}
	if _, err := signIn(k.Use(ask())); !errors.Is(err, signin.ErrDisabled) {
		t.Errorf("disabled: %v", err)
	}
}

func pretendLike(k *pretend.Key) *pretend.Key {
	other := pretend.New(-7, k.Origin, k.Party)
	other.ID, other.Handle = k.ID, k.Handle
	return other
}

// A question is good for five minutes, and after a start still.
func TestQuestionsEnd(t *testing.T) {
	h, _, c := house.Open(t)
	k := h.Passkey(t, "ines")
	before, late := house.Text(t, h.Factors.AskAny(house.HerPage), nil), house.Text(t, h.Factors.AskAny(house.HerPage), nil)
	h = h.Start(t)
	if _, err := h.Desk.SignInByPasskey(ctx, signin.Shown{Passkey: k.Use(before), Page: house.HerPage}, house.HerHome, false); err != nil {
		t.Errorf("after a start: %v", err)
	}
	c.Pass(5 * time.Minute)
	if _, err := h.Desk.SignInByPasskey(ctx, signin.Shown{Passkey: k.Use(late), Page: house.HerPage}, house.HerHome, false); !errors.Is(err, factors.ErrWrong) {
		t.Errorf("late: %v", err)
	}
}

// A count that does not grow tells of a copy: neither opens with it, and stewards can see why.
func TestACopiedPasskey(t *testing.T) {
	h, _, _ := house.Open(t)
	k := h.Passkey(t, "ines")
	k.Uses = 10
	use := func(k *pretend.Key) error {
		_, err := h.Desk.SignInByPasskey(ctx, signin.Shown{Passkey: k.Use(house.Text(t, h.Factors.AskAny(house.HerPage), nil)), Page: house.HerPage}, house.HerHome, false)
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
	if _, err := h.Desk.Finish(ctx, half, signin.Shown{Passkey: his.Use(question), Page: house.HerPage}, house.HerHome, false); !errors.Is(err, factors.ErrWrong) {
		t.Errorf("his passkey for her account: %v", err)
	}
	q, err = h.Factors.AskOf(ctx, h.Account(t, "walt"), house.HerPage)
	if _, err := h.Desk.Finish(ctx, half, signin.Shown{Passkey: hers.Use(house.Text(t, q, err)), Page: house.HerPage}, house.HerHome, false); !errors.Is(err, factors.ErrWrong) {
		t.Errorf("the answer to a question that he was asked: %v", err)
	}
	if in, err := h.Desk.Finish(ctx, half, signin.Shown{Passkey: hers.Use(question), Page: house.HerPage}, house.HerHome, false); err != nil || !in.Visitor.Shown().Kinds.Meets(factor.AskTwo) {
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
