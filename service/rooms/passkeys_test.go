package rooms

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
	"ostiarius/service/signin"
)

func TestSignInWithAPasskey(t *testing.T) {
	h, _, _ := open(t)
	k := h.passkey(t, "ines")
	ask := func() string { return text(t, h.Factors.AskAny(herPage), nil) }
	signIn := func(answer string) (signin.SignedIn, error) {
		return h.Desk.SignInByPasskey(ctx, signin.Shown{Passkey: answer, Page: herPage}, herHome, false)
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
		"a question to make one":    func() (factors.Question, error) { return h.Factors.AskNew(ctx, h.account(t, "ines"), herPage) },
		"a question of her account": func() (factors.Question, error) { return h.Factors.AskOf(ctx, h.account(t, "ines"), herPage) },
	} {
		q, err := question()
		if _, err := signIn(k.Use(text(t, q, err))); !errors.Is(err, factors.ErrWrong) {
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
	h, _, c := open(t)
	k := h.passkey(t, "ines")
	before, late := text(t, h.Factors.AskAny(herPage), nil), text(t, h.Factors.AskAny(herPage), nil)
	h = h.start(t)
	if _, err := h.Desk.SignInByPasskey(ctx, signin.Shown{Passkey: k.Use(before), Page: herPage}, herHome, false); err != nil {
		t.Errorf("after a start: %v", err)
	}
	c.pass(5 * time.Minute)
	if _, err := h.Desk.SignInByPasskey(ctx, signin.Shown{Passkey: k.Use(late), Page: herPage}, herHome, false); !errors.Is(err, factors.ErrWrong) {
		t.Errorf("late: %v", err)
	}
}

// A count that does not grow tells of a copy: neither opens with it, and stewards can see why.
func TestACopiedPasskey(t *testing.T) {
	h, _, _ := open(t)
	k := h.passkey(t, "ines")
	k.Uses = 10
	use := func(k *pretend.Key) error {
		_, err := h.Desk.SignInByPasskey(ctx, signin.Shown{Passkey: k.Use(text(t, h.Factors.AskAny(herPage), nil)), Page: herPage}, herHome, false)
		return err
	}
	copied := *k
	if err := use(k); err != nil {
		t.Fatal(err)
	}
	if err := use(&copied); !errors.Is(err, factors.ErrWrong) {
		t.Errorf("the copy: %v", err)
	}
	if kinds := h.kinds(t); kinds[0] != activity.PasskeyCopied {
		t.Errorf("recorded as %q", kinds)
	}
	if err := use(k); err != nil {
		t.Errorf("the one that was ahead: %v", err)
	}
}

// A passkey is one account's, and so is the question for it: nobody adds their own to another's session, or the other's to theirs.
func TestPasskeysOfOthers(t *testing.T) {
	h, _, _ := open(t)
	if _, err := h.People.Add(ctx, "test", people.NewAccount{Name: "walt", Password: inesPassword}); err != nil {
		t.Fatal(err)
	}
	hers, his := h.passkey(t, "ines"), h.passkey(t, "walt")
	q, err := h.Factors.AskOf(ctx, h.account(t, "ines"), herPage)
	question := text(t, q, err)
	half := h.half(t, herHome)
	if _, err := h.Desk.Finish(ctx, half, signin.Shown{Passkey: his.Use(question), Page: herPage}, herHome, false); !errors.Is(err, factors.ErrWrong) {
		t.Errorf("his passkey for her account: %v", err)
	}
	q, err = h.Factors.AskOf(ctx, h.account(t, "walt"), herPage)
	if _, err := h.Desk.Finish(ctx, half, signin.Shown{Passkey: hers.Use(text(t, q, err)), Page: herPage}, herHome, false); !errors.Is(err, factors.ErrWrong) {
		t.Errorf("the answer to a question that he was asked: %v", err)
	}
	if in, err := h.Desk.Finish(ctx, half, signin.Shown{Passkey: hers.Use(question), Page: herPage}, herHome, false); err != nil || !in.Visitor.Shown().Kinds.Meets(factor.AskTwo) {
		t.Errorf("hers: %+v %v", in.Visitor, err)
	}
	a := h.account(t, "walt")
	q, err = h.Factors.AskNew(ctx, a, herPage)
	stolen := *hers
	if _, err := h.Factors.Add(ctx, a, herPage, stolen.Make(text(t, q, err)), "", herHome); err == nil {
		t.Error("a passkey with the number of hers was added to his account")
	}
	if err := h.Factors.Remove(ctx, a, "x", herHome); err == nil {
		t.Error("a passkey that nobody has was removed")
	}
}
