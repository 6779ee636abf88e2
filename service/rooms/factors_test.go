package rooms

import (
	"encoding/base32"
	"encoding/json"
	"errors"
	"fmt"
	"strings"
	"sync"
	"testing"
	"time"

	"ostiarius/core/account"
	"ostiarius/core/activity"
	"ostiarius/core/factor"
	"ostiarius/core/message"
	"ostiarius/core/onetime"
	"ostiarius/core/passkey/pretend"
	"ostiarius/core/policy"
	"ostiarius/core/throttle"
	"ostiarius/service/factors"
	"ostiarius/service/people"
	"ostiarius/service/sessions"
	"ostiarius/service/signin"
	"ostiarius/store"
)

const inesPassword = "seven-brass-prisms"

var (
	herHome = sessions.Origin{Network: "192.0.2.7", Agent: "a browser"}
	herPage = factors.Page{Origin: "https://marram.example", Host: "marram.example"}
)

func (h *house) account(t testing.TB, name string) *account.Account {
	t.Helper()
	a, err := h.People.Find(ctx, name)
	if err != nil {
		t.Fatal(err)
	}
	return a
}

// setUp gives an account an app for codes, and returns what makes them, and those that are kept.
func (h *house) setUp(t testing.TB, name string) (code func() string, kept []string) {
	t.Helper()
	a := h.account(t, name)
	fresh, err := h.Factors.NewCode(a)
	if err != nil {
		t.Fatal(err)
	}
	secret, err := base32.StdEncoding.WithPadding(base32.NoPadding).DecodeString(strings.ReplaceAll(fresh.Text, " ", ""))
	if err != nil {
		t.Fatal(err)
	}
	code = func() string { return onetime.At(secret, onetime.Step(h.now()), onetime.Digits) }
	if kept, err = h.Factors.SetCode(ctx, a, fresh.Sealed, code(), herHome); err != nil {
		t.Fatal(err)
	}
	return code, kept
}

func text(t testing.TB, q factors.Question, err error) string {
	t.Helper()
	raw, wrong := json.Marshal(q)
	if err != nil || wrong != nil {
		t.Fatal(err, wrong)
	}
	return string(raw)
}

// passkey gives an account a passkey.
func (h *house) passkey(t testing.TB, name string) *pretend.Key {
	t.Helper()
	a := h.account(t, name)
	k := pretend.New(-7, herPage.Origin, herPage.Host)
	q, err := h.Factors.AskNew(ctx, a, herPage)
	if _, err := h.Factors.Add(ctx, a, herPage, k.Make(text(t, q, err)), "her key", herHome); err != nil {
		t.Fatal(err)
	}
	return k
}

// half is the token of somebody whose password was right and who is asked for more.
func (h *house) half(t testing.TB, from sessions.Origin) string {
	t.Helper()
	_, err := h.Desk.SignIn(ctx, "ines", inesPassword, from, false)
	var second *signin.Second
	if !errors.As(err, &second) {
		t.Fatalf("not asked for a second factor: %v", err)
	}
	return second.Token
}

func (h *house) kinds(t testing.TB) (all []activity.Kind) {
	t.Helper()
	events, _, err := h.Activity.Events(ctx, store.EventQuery{Limit: 100})
	if err != nil {
		t.Fatal(err)
	}
	for _, e := range events {
		all = append(all, e.Kind)
	}
	return all
}

func TestSignInWithACode(t *testing.T) {
	h, _, c := open(t)
	code, kept := h.setUp(t, "ines")
	if len(kept) != onetime.Kept {
		t.Fatalf("%d codes to keep", len(kept))
	}
	if _, err := h.Desk.Finish(ctx, h.half(t, herHome), signin.Shown{Code: code()}, herHome, false); !errors.Is(err, factors.ErrWrong) {
		t.Errorf("the code with which it was set up, again: %v", err)
	}
	c.pass(onetime.Lasts)
	half := h.half(t, herHome)
	in, err := h.Desk.Finish(ctx, half, signin.Shown{Code: code()}, herHome, false)
	if err != nil || !in.Visitor.SignedIn || !in.Visitor.Shown().Kinds.Covers(factor.Of(factor.Password, factor.Code)) {
		t.Fatalf("%+v %v", in.Visitor, err)
	}
	v, _, err := h.Sessions.Recognise(ctx, in.Token, nil)
	if err != nil || !v.Shown().Kinds.Meets(factor.AskTwo) || !v.Enrolled.Has(factor.Code) {
		t.Errorf("%+v %v", v, err)
	}
	if v, _, _ := h.start(t).Sessions.Recognise(ctx, in.Token, nil); !v.Shown().Kinds.Meets(factor.AskTwo) {
		t.Errorf("after a start: %+v", v)
	}
	if _, err := h.Desk.Finish(ctx, half, signin.Shown{Code: kept[0]}, herHome, false); !errors.Is(err, signin.ErrOver) {
		t.Errorf("the same half twice: %v", err)
	}
	if _, err := h.Desk.Finish(ctx, h.half(t, herHome), signin.Shown{Code: code()}, herHome, false); !errors.Is(err, factors.ErrWrong) {
		t.Errorf("the same code twice: %v", err)
	}
	if in, err = h.Desk.Finish(ctx, h.half(t, herHome), signin.Shown{Code: strings.ToUpper(kept[0])}, herHome, false); err != nil || !in.Visitor.Shown().Kinds.Has(factor.Code) {
		t.Errorf("a code that was kept: %v", err)
	}
	if _, err := h.Desk.Finish(ctx, h.half(t, herHome), signin.Shown{Code: kept[0]}, herHome, false); !errors.Is(err, factors.ErrWrong) {
		t.Errorf("a kept code twice: %v", err)
	}
	h = h.start(t)
	if _, err := h.Desk.Finish(ctx, h.half(t, herHome), signin.Shown{Code: kept[0]}, herHome, false); !errors.Is(err, factors.ErrWrong) {
		t.Errorf("a kept code twice, after another start: %v", err)
	}
	if _, err := h.Desk.Finish(ctx, h.half(t, herHome), signin.Shown{Code: code()}, herHome, false); !errors.Is(err, factors.ErrWrong) {
		t.Errorf("a code twice, after another start: %v", err)
	}
}

// With the password alone nothing opens, whatever the way.
func TestNoWayAroundTheSecondFactor(t *testing.T) {
	h, _, c := open(t)
	_, kept := h.setUp(t, "ines")
	if v, err := h.present(ctx, "192.0.2.7", "ines", inesPassword); err != nil || v.SignedIn {
		t.Errorf("with HTTP Basic: %+v %v", v, err)
	}
	half := h.half(t, herHome)
	if v, _, err := h.Sessions.Recognise(ctx, half, nil); err != nil || v.SignedIn {
		t.Errorf("the half as a session: %+v %v", v, err)
	}
	if _, err := h.Desk.ShowMore(ctx, half, signin.Shown{Code: kept[0]}, herHome); !errors.Is(err, signin.ErrOver) {
		t.Errorf("the half as a session to add to: %v", err)
	}
	for what, change := range map[string]func() error{
		"another password":        func() error { return h.People.SetPassword(ctx, "test", "ines", inesPassword) },
		"a disabled account":      func() error { return h.People.SetDisabled(ctx, "test", "ines", true) },
		"a while":                 func() error { c.pass(11 * time.Minute); return nil },
		"the end of its password": func() error { c.pass(-time.Second); return h.People.SetPassword(ctx, "test", "ines", inesPassword) },
	} {
		half := h.half(t, herHome)
		if err := change(); err != nil {
			t.Fatal(err)
		}
		if _, err := h.Desk.Finish(ctx, half, signin.Shown{Code: kept[1]}, herHome, false); !errors.Is(err, signin.ErrOver) {
			t.Errorf("after %s: %v", what, err)
		}
		if err := h.People.SetDisabled(ctx, "test", "ines", false); err != nil {
			t.Fatal(err)
		}
	}
	h.book = bookOf(t, "doors: [{path: /, admit: public}]\nroles: {keeper: }\nfactors: {sign-in: at-doors}")
	if in, err := h.start(t).Desk.SignIn(ctx, "ines", inesPassword, herHome, false); err != nil || in.Visitor.Shown().Kinds != factor.Of(factor.Password) {
		t.Errorf("where doors ask: %+v %v", in.Visitor, err)
	}
}

// Codes cannot be tried: who does waits, and a browser that is known to be hers does not wait for others.
func TestCodesAreSlowed(t *testing.T) {
	h, _, c := open(t)
	code, _ := h.setUp(t, "ines")
	c.pass(onetime.Lasts)
	in, err := h.Desk.Finish(ctx, h.half(t, herHome), signin.Shown{Code: code()}, herHome, false)
	if err != nil {
		t.Fatal(err)
	}
	c.pass(onetime.Lasts)
	var slow *throttle.Slow
	stranger := sessions.Origin{Network: "198.51.100.9"}
	for n := 0; !errors.As(err, &slow); n++ {
		if n > 10 {
			t.Fatal("not slowed")
		}
		stranger.Network = "198.51.100." + string(rune('1'+n%9)) // from elsewhere each time
		_, err = h.Desk.Finish(ctx, h.half(t, stranger), signin.Shown{Code: "000000"}, stranger, false)
	}
	hers := herHome
	hers.Device = in.Device
	if _, err := h.Desk.Finish(ctx, h.half(t, hers), signin.Shown{Code: code()}, hers, false); err != nil {
		t.Errorf("in her own browser: %v", err)
	}
}

// Whoever has the password gets any number of marks of a browser with it. They give no more tries at codes: not where doors ask for
// the second factor, nor if they are from before it was set up.
func TestMarksGiveNoMoreTriesAtCodes(t *testing.T) {
	h, _, c := open(t)
	h.book = bookOf(t, "doors: [{path: /, admit: public}]\nroles: {keeper: }\nfactors: {sign-in: at-doors}")
	h = h.start(t)
	from := func(n int) sessions.Origin { return sessions.Origin{Network: fmt.Sprintf("198.51.100.%d", n)} }
	var marks []string
	sign := func(n int) string {
		in, err := h.Desk.SignIn(ctx, "ines", inesPassword, from(n), false)
		if err != nil {
			t.Fatal(err)
		}
		marks = append(marks, in.Device)
		return in.Token
	}
	for n := range 10 {
		sign(n)
	}
	code, _ := h.setUp(t, "ines")
	for n := range 10 {
		sign(n + 10)
	}
	tried := 0
	for n, mark := range marks {
		hers := from(n)
		hers.Device = mark
		token := sign(n + 20)
		for range 5 {
			_, err := h.Desk.ShowMore(ctx, token, signin.Shown{Code: "000000"}, hers)
			if errors.Is(err, factors.ErrWrong) {
				tried++
			} else if slow := (*throttle.Slow)(nil); !errors.As(err, &slow) {
				t.Fatal(err)
			}
		}
	}
	if tried > throttle.Pair.Free+1 {
		t.Errorf("%d tries at once", tried)
	}
	// In a browser in which the second factor was shown, its owner doesn't wait for others.
	c.pass(24*time.Hour + time.Minute)
	a := h.account(t, "ines")
	hers := herHome
	hers.Device = h.Desk.Mark(a, factor.Of(factor.Code))
	token := sign(100)
	for range 8 {
		h.Desk.ShowMore(ctx, token, signin.Shown{Code: "000000"}, from(1))
	}
	if _, err := h.Desk.ShowMore(ctx, token, signin.Shown{Code: code()}, hers); err != nil {
		t.Errorf("in her own browser: %v", err)
	}
}

// One code, ten at once: it opens once.
func TestACodeCountsOnceAlsoAtOnce(t *testing.T) {
	h, _, c := open(t)
	code, kept := h.setUp(t, "ines")
	for what, typed := range map[string]string{"of the app": "", "that was kept": kept[3]} {
		c.pass(onetime.Lasts)
		if typed == "" {
			typed = code()
		}
		halves := make([]string, 3)
		for i := range halves {
			halves[i] = h.half(t, herHome)
		}
		var opened sync.Map
		var wait sync.WaitGroup
		for i, half := range halves {
			wait.Go(func() {
				if _, err := h.Desk.Finish(ctx, half, signin.Shown{Code: typed}, herHome, false); err == nil {
					opened.Store(i, true)
				}
			})
		}
		wait.Wait()
		n := 0
		opened.Range(func(any, any) bool { n++; return true })
		if n != 1 {
			t.Errorf("a code %s opened %d times", what, n)
		}
	}
}

// Remembered browsers are not asked at sign-in. They end: by their time, one by one, with the password; and they are no proof for a door.
func TestRememberedBrowsers(t *testing.T) {
	h, _, c := open(t)
	h.book = bookOf(t, "doors: [{path: /, admit: public}]\nroles: {keeper: }\nfactors: {remember: 30d}\nsessions: {lifetime: 0, idle: 0}")
	h = h.start(t)
	code, _ := h.setUp(t, "ines")
	remember := func() sessions.Origin {
		t.Helper()
		c.pass(onetime.Lasts)
		in, err := h.Desk.Finish(ctx, h.half(t, herHome), signin.Shown{Code: code()}, herHome, true)
		if err != nil || in.Known == "" || in.KnownFor != 30*24*time.Hour {
			t.Fatalf("%+v %v", in, err)
		}
		from := herHome
		from.Known = in.Known
		return from
	}
	from := remember()
	in, err := h.Desk.SignIn(ctx, "ines", inesPassword, from, false)
	if err != nil || in.Visitor.Shown().Kinds != factor.Of(factor.Password) {
		t.Fatalf("%+v %v", in.Visitor, err)
	}
	if _, err := h.People.Add(ctx, "test", people.NewAccount{Name: "walt", Password: inesPassword}); err != nil {
		t.Fatal(err)
	}
	h.setUp(t, "walt")
	var second *signin.Second
	if _, err := h.Desk.SignIn(ctx, "walt", inesPassword, from, false); !errors.As(err, &second) {
		t.Errorf("another account in that browser: %v", err)
	}
	held, err := h.Factors.Of(ctx, h.account(t, "ines"))
	if err != nil || len(held.Browsers) != 1 || held.Browsers[0].Agent != "a browser" {
		t.Fatalf("%+v %v", held.Browsers, err)
	}
	if err := h.Factors.Forget(ctx, h.account(t, "walt"), held.Browsers[0].Handle(), herHome); err == nil {
		t.Error("he has forgotten her browser")
	}
	if err := h.Factors.Forget(ctx, h.account(t, "ines"), held.Browsers[0].Handle(), herHome); err != nil {
		t.Fatal(err)
	}
	h.half(t, from)
	from = remember()
	if err := h.People.SetPassword(ctx, "test", "ines", inesPassword); err != nil {
		t.Fatal(err)
	}
	h.half(t, from)
	from = remember()
	c.pass(30 * 24 * time.Hour)
	h.half(t, from)
}

// A steward's reset tells the owner, and waits if the policy says so; the owner can object until then.
func TestResets(t *testing.T) {
	h, _, c := open(t)
	address := "ines@marram.example"
	if _, err := h.People.Edit(ctx, "test", "ines", people.Edit{Email: &address}); err != nil {
		t.Fatal(err)
	}
	h.book = bookOf(t, "doors: [{path: /, admit: public}]\nroles: {keeper: }\nfactors: {reset: 24h}")
	h = h.start(t)
	if _, err := h.Factors.Reset(ctx, "agnes", h.account(t, "ines")); err == nil {
		t.Error("nothing was reset")
	}
	h.setUp(t, "ines")
	h.passkey(t, "ines")
	due, err := h.Factors.Reset(ctx, "agnes", h.account(t, "ines"))
	if err != nil || !due.Equal(c.Now().Add(24*time.Hour)) {
		t.Fatal(due, err)
	}
	if m := mailed(t, h)[0]; m.Kind != message.FactorsReset || m.To != address || m.Gaps["when"] == "" {
		t.Errorf("%+v", m)
	}
	if _, err := h.Factors.Reset(ctx, "agnes", h.account(t, "ines")); err == nil {
		t.Error("a second one")
	}
	if err := h.Factors.DropReset(ctx, "ines", h.account(t, "ines"), herHome); err != nil {
		t.Fatal(err)
	}
	c.pass(25 * time.Hour)
	if err := h.Factors.Tend(ctx); err != nil || h.account(t, "ines").Enrolled == 0 {
		t.Fatalf("reset though she has objected: %v", err)
	}
	if _, err := h.Factors.Reset(ctx, "agnes", h.account(t, "ines")); err != nil {
		t.Fatal(err)
	}
	c.pass(24*time.Hour - time.Second)
	if err := h.Factors.Tend(ctx); err != nil || h.account(t, "ines").Enrolled == 0 {
		t.Fatalf("too early: %v", err)
	}
	c.pass(time.Second)
	if err := h.Factors.Tend(ctx); err != nil || h.account(t, "ines").Enrolled != 0 {
		t.Fatalf("not reset: %v", err)
	}
	if held, err := h.Factors.Of(ctx, h.account(t, "ines")); err != nil || held.Code != nil || held.Kept != 0 || len(held.Passkeys) != 0 || held.Reset != nil {
		t.Errorf("%+v %v", held, err)
	}
	if _, err := h.Desk.SignIn(ctx, "ines", inesPassword, herHome, false); err != nil {
		t.Errorf("with the password alone: %v", err)
	}
}

// What was shown later adds to a session, under another token; what it had shown stays when the password changes.
func TestShowMore(t *testing.T) {
	h, _, c := open(t)
	h.book = bookOf(t, "doors: [{path: /, admit: public}]\nroles: {keeper: }\nfactors: {sign-in: at-doors}")
	h = h.start(t)
	code, _ := h.setUp(t, "ines")
	k := h.passkey(t, "ines")
	token := signIn(t, h, false)
	c.pass(time.Hour / 4)
	fresh, err := h.Desk.ShowMore(ctx, token, signin.Shown{Code: code()}, herHome)
	if err != nil || fresh == nil || fresh.Token == token {
		t.Fatal(fresh, err)
	}
	ages := func(token string) string {
		t.Helper()
		v, _, err := h.Sessions.Recognise(ctx, token, nil)
		if err != nil {
			t.Fatal(err)
		}
		return v.String()
	}
	if got := ages(fresh.Token); got != "user:ines,role:keeper,proof-age:15m,factor:password+code@0,enrolled:passkey+code" {
		t.Error(got)
	}
	if got := ages(token); got != "user:ines,role:keeper,proof-age:15m,enrolled:passkey+code" {
		t.Errorf("the token before, for a moment: %s", got)
	}
	c.pass(time.Minute)
	q, err := h.Factors.AskOf(ctx, h.account(t, "ines"), herPage)
	again, err := h.Desk.ShowMore(ctx, fresh.Token, signin.Shown{Passkey: k.Use(text(t, q, err)), Page: herPage}, herHome)
	if err != nil {
		t.Fatal(err)
	}
	if got := ages(again.Token); got != "user:ines,role:keeper,factor:password@16m+passkey+code@1m,enrolled:passkey+code" {
		t.Error(got)
	}
	in, err := h.Desk.ChangePassword(ctx, again.Token, inesPassword, "kettle-moth-anvil", herHome)
	if err != nil || ages(in.Token) != "user:ines,role:keeper,factor:password+passkey+code@1m,enrolled:passkey+code" {
		t.Errorf("%s %v", ages(in.Token), err)
	}
	if _, err := policy.ParseVisitor(ages(in.Token)); err != nil {
		t.Error(err)
	}
}

// The last factor takes what goes with it along.
func TestTheLastFactor(t *testing.T) {
	h, _, _ := open(t)
	_, kept := h.setUp(t, "ines")
	k := h.passkey(t, "ines")
	if err := h.Factors.RemoveCode(ctx, h.account(t, "ines"), herHome); err != nil {
		t.Fatal(err)
	}
	if held, err := h.Factors.Of(ctx, h.account(t, "ines")); err != nil || held.Kept != len(kept) {
		t.Errorf("with a passkey left: %d %v", held.Kept, err)
	}
	if _, err := h.Desk.Finish(ctx, h.half(t, herHome), signin.Shown{Code: kept[0]}, herHome, false); err != nil {
		t.Errorf("a kept code in the place of a passkey: %v", err)
	}
	held, err := h.Factors.Of(ctx, h.account(t, "ines"))
	if err != nil || len(held.Passkeys) != 1 || held.Passkeys[0].Name != "her key" || k == nil {
		t.Fatal(held, err)
	}
	if err := h.Factors.Remove(ctx, h.account(t, "ines"), held.Passkeys[0].ID, herHome); err != nil {
		t.Fatal(err)
	}
	if held, err := h.Factors.Of(ctx, h.account(t, "ines")); err != nil || held.Kept != 0 {
		t.Errorf("with nothing left: %d %v", held.Kept, err)
	}
	if _, err := h.Desk.SignIn(ctx, "ines", inesPassword, herHome, false); err != nil {
		t.Error(err)
	}
}

// The only way into an account is not removed by its owner.
func TestTheLastWayInStays(t *testing.T) {
	h, _, _ := open(t)
	if _, err := h.People.Add(ctx, "test", people.NewAccount{Name: "edda"}); err != nil { // without a password
		t.Fatal(err)
	}
	h.passkey(t, "edda")
	remove := func() error {
		held, err := h.Factors.Of(ctx, h.account(t, "edda"))
		if err != nil {
			t.Fatal(err)
		}
		return h.Factors.Remove(ctx, h.account(t, "edda"), held.Passkeys[0].ID, herHome)
	}
	if err := remove(); err == nil {
		t.Error("the last passkey of an account without a password was removed")
	}
	h.passkey(t, "edda")
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
