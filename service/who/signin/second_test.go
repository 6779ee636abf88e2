package signin_test

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"sync"
	"testing"
	"time"

	"ostiarius/core/activity"
	"ostiarius/core/factor"
	"ostiarius/core/message"
	"ostiarius/core/onetime"
	"ostiarius/core/passkey/pretend"
	"ostiarius/core/policy"
	"ostiarius/core/throttle"
	"ostiarius/service/base/mistake"
	"ostiarius/service/rooms/house"
	"ostiarius/service/who/factors"
	"ostiarius/service/who/people"
	"ostiarius/service/who/sessions"
	"ostiarius/service/who/signin"
	"ostiarius/store"
)

func TestSignInWithACode(t *testing.T) {
	h, _, c := house.Open(t)
	code, kept := h.SetUp(t, "ines")
	if len(kept) != onetime.Kept {
		t.Fatalf("%d codes to keep", len(kept))
	}
	if _, err := h.SignIn.Finish(ctx, h.Half(t, house.HerHome), signin.Shown{Code: code()}, house.HerHome, false); !errors.Is(err,
		factors.ErrWrong) {
		t.Errorf("the code with which it was set up, again: %v", err)
	}
	c.Pass(onetime.Lasts)
	half := h.Half(t, house.HerHome)
	in, err := h.SignIn.Finish(ctx, half, signin.Shown{Code: code()}, house.HerHome, false)
	if err != nil || !in.Visitor.SignedIn || !in.Visitor.Shown().Kinds.Covers(factor.Of(factor.Password, factor.Code)) {
		t.Fatalf("%+v %v", in.Visitor, err)
	}
	v, _, err := h.Sessions.Recognise(ctx, in.Token, nil)
	if err != nil || !v.Shown().Kinds.Meets(factor.AskTwo) || !v.Enrolled.Has(factor.Code) {
		t.Errorf("%+v %v", v, err)
	}
	if v, _, _ := h.Start(t).Sessions.Recognise(ctx, in.Token, nil); !v.Shown().Kinds.Meets(factor.AskTwo) {
		t.Errorf("after a start: %+v", v)
	}
	if _, err := h.SignIn.Finish(ctx, half, signin.Shown{Code: kept[0]}, house.HerHome, false); !errors.Is(err, signin.ErrOver) {
		t.Errorf("the same half twice: %v", err)
	}
	if _, err := h.SignIn.Finish(ctx, h.Half(t, house.HerHome), signin.Shown{Code: code()}, house.HerHome, false); !errors.Is(err,
		factors.ErrWrong) {
		t.Errorf("the same code twice: %v", err)
	}
	if in, err = h.SignIn.Finish(ctx, h.Half(t, house.HerHome), signin.Shown{Code: strings.ToUpper(kept[0])}, house.HerHome,
		false); err != nil || !in.Visitor.Shown().Kinds.Has(factor.Code) {
		t.Errorf("a code that was kept: %v", err)
	}
	if _, err := h.SignIn.Finish(ctx, h.Half(t, house.HerHome), signin.Shown{Code: kept[0]}, house.HerHome, false); !errors.Is(err,
		factors.ErrWrong) {
		t.Errorf("a kept code twice: %v", err)
	}
	h = h.Start(t)
	if _, err := h.SignIn.Finish(ctx, h.Half(t, house.HerHome), signin.Shown{Code: kept[0]}, house.HerHome, false); !errors.Is(err,
		factors.ErrWrong) {
		t.Errorf("a kept code twice, after another start: %v", err)
	}
	if _, err := h.SignIn.Finish(ctx, h.Half(t, house.HerHome), signin.Shown{Code: code()}, house.HerHome, false); !errors.Is(err,
		factors.ErrWrong) {
		t.Errorf("a code twice, after another start: %v", err)
	}
}

// With the password alone nothing opens, whatever the way.
func TestNoWayAroundTheSecondFactor(t *testing.T) {
	h, _, c := house.Open(t)
	_, kept := h.SetUp(t, "ines")
	if v, err := h.Present(ctx, "192.0.2.7", "ines", house.InesPassword); err != nil || v.SignedIn {
		t.Errorf("with HTTP Basic: %+v %v", v, err)
	}
	half := h.Half(t, house.HerHome)
	if v, _, err := h.Sessions.Recognise(ctx, half, nil); err != nil || v.SignedIn {
		t.Errorf("the half as a session: %+v %v", v, err)
	}
	if _, err := h.SignIn.ShowMore(ctx, half, signin.Shown{Code: kept[0]}, house.HerHome); !errors.Is(err, signin.ErrOver) {
		t.Errorf("the half as a session to add to: %v", err)
	}
	for what, change := range map[string]func() error{
		"another password":   func() error { return h.People.SetPassword(ctx, "test", "ines", house.InesPassword) },
		"a disabled account": func() error { return h.People.SetDisabled(ctx, "test", "ines", true) },
		"a while":            func() error { c.Pass(11 * time.Minute); return nil },
		"the end of its password": func() error {
			c.Pass(-time.Second)
			return h.People.SetPassword(ctx, "test", "ines", house.InesPassword)
		},
	} {
		half := h.Half(t, house.HerHome)
		if err := change(); err != nil {
			t.Fatal(err)
		}
		if _, err := h.SignIn.Finish(ctx, half, signin.Shown{Code: kept[1]}, house.HerHome, false); !errors.Is(err, signin.ErrOver) {
			t.Errorf("after %s: %v", what, err)
		}
		if err := h.People.SetDisabled(ctx, "test", "ines", false); err != nil {
			t.Fatal(err)
		}
	}
	h.Book = house.BookOf(t, "doors: [{path: /, admit: public}]\nroles: {keeper: }\nfactors: {sign-in: at-doors}")
	if in, err := h.Start(t).SignIn.SignIn(ctx, "ines", house.InesPassword, house.HerHome, false); err != nil ||
		in.Visitor.Shown().Kinds != factor.Of(factor.Password) {
		t.Errorf("where doors ask: %+v %v", in.Visitor, err)
	}
}

// Codes cannot be tried: who does waits, and a browser that is known to be hers does not wait for others.
func TestCodesAreSlowed(t *testing.T) {
	h, _, c := house.Open(t)
	code, _ := h.SetUp(t, "ines")
	c.Pass(onetime.Lasts)
	in, err := h.SignIn.Finish(ctx, h.Half(t, house.HerHome), signin.Shown{Code: code()}, house.HerHome, false)
	if err != nil {
		t.Fatal(err)
	}
	c.Pass(onetime.Lasts)
	var slow *throttle.Slow
	stranger := sessions.Origin{Network: "198.51.100.9"}
	for n := 0; !errors.As(err, &slow); n++ {
		if n > 10 {
			t.Fatal("not slowed")
		}
		stranger.Network = "198.51.100." + string(rune('1'+n%9)) // from elsewhere each time
		_, err = h.SignIn.Finish(ctx, h.Half(t, stranger), signin.Shown{Code: "000000"}, stranger, false)
	}
	hers := house.HerHome
	hers.Device = in.Device
	if _, err := h.SignIn.Finish(ctx, h.Half(t, hers), signin.Shown{Code: code()}, hers, false); err != nil {
		t.Errorf("in her own browser: %v", err)
	}
}

// Whoever has the password gets any number of marks of a browser with it. They give no more tries at codes: not where doors ask for
// the second factor, nor if they are from before it was set up.
func TestMarksGiveNoMoreTriesAtCodes(t *testing.T) {
	h, _, c := house.Open(t)
	h.Book = house.BookOf(t, "doors: [{path: /, admit: public}]\nroles: {keeper: }\nfactors: {sign-in: at-doors}")
	h = h.Start(t)
	from := func(n int) sessions.Origin { return sessions.Origin{Network: fmt.Sprintf("198.51.100.%d", n)} }
	var marks []string
	sign := func(n int) string {
		in, err := h.SignIn.SignIn(ctx, "ines", house.InesPassword, from(n), false)
		if err != nil {
			t.Fatal(err)
		}
		marks = append(marks, in.Device)
		return in.Token
	}
	for n := range 10 {
		sign(n)
	}
	code, _ := h.SetUp(t, "ines")
	for n := range 10 {
		sign(n + 10)
	}
	tried := 0
	for n, mark := range marks {
		hers := from(n)
		hers.Device = mark
		token := sign(n + 20)
		for range 5 {
			_, err := h.SignIn.ShowMore(ctx, token, signin.Shown{Code: "000000"}, hers)
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
	c.Pass(24*time.Hour + time.Minute)
	a := h.Account(t, "ines")
	hers := house.HerHome
	hers.Device = h.SignIn.Mark(a, factor.Of(factor.Code))
	token := sign(100)
	for range 8 {
		h.SignIn.ShowMore(ctx, token, signin.Shown{Code: "000000"}, from(1))
	}
	if _, err := h.SignIn.ShowMore(ctx, token, signin.Shown{Code: code()}, hers); err != nil {
		t.Errorf("in her own browser: %v", err)
	}
}

// One code, ten at once: it opens once.
func TestACodeCountsOnceAlsoAtOnce(t *testing.T) {
	h, _, c := house.Open(t)
	code, kept := h.SetUp(t, "ines")
	for what, typed := range map[string]string{"of the app": "", "that was kept": kept[3]} {
		c.Pass(onetime.Lasts)
		if typed == "" {
			typed = code()
		}
		halves := make([]string, 3)
		for i := range halves {
			halves[i] = h.Half(t, house.HerHome)
		}
		var opened sync.Map
		var wait sync.WaitGroup
		for i, half := range halves {
			wait.Go(func() {
				if _, err := h.SignIn.Finish(ctx, half, signin.Shown{Code: typed}, house.HerHome, false); err == nil {
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
	h, _, c := house.Open(t)
	h.Book = house.BookOf(t,
		"doors: [{path: /, admit: public}]\nroles: {keeper: }\nfactors: {remember: 30d}\nsessions: {lifetime: 0, idle: 0}")
	h = h.Start(t)
	code, _ := h.SetUp(t, "ines")
	remember := func() sessions.Origin {
		t.Helper()
		c.Pass(onetime.Lasts)
		in, err := h.SignIn.Finish(ctx, h.Half(t, house.HerHome), signin.Shown{Code: code()}, house.HerHome, true)
		if err != nil || in.Known == "" || in.KnownFor != 30*24*time.Hour {
			t.Fatalf("%+v %v", in, err)
		}
		from := house.HerHome
		from.Known = in.Known
		return from
	}
	from := remember()
	in, err := h.SignIn.SignIn(ctx, "ines", house.InesPassword, from, false)
	if err != nil || in.Visitor.Shown().Kinds != factor.Of(factor.Password) {
		t.Fatalf("%+v %v", in.Visitor, err)
	}
	if _, err := h.People.Add(ctx, "test", people.NewAccount{Name: "walt", Password: house.InesPassword}); err != nil {
		t.Fatal(err)
	}
	h.SetUp(t, "walt")
	var second *signin.Second
	if _, err := h.SignIn.SignIn(ctx, "walt", house.InesPassword, from, false); !errors.As(err, &second) {
		t.Errorf("another account in that browser: %v", err)
	}
	held, err := h.Factors.Of(ctx, h.Account(t, "ines"))
	if err != nil || len(held.Browsers) != 1 || held.Browsers[0].Agent != "a browser" {
		t.Fatalf("%+v %v", held.Browsers, err)
	}
	if err := h.Factors.Forget(ctx, h.Account(t, "walt"), held.Browsers[0].Handle(), house.HerHome); err == nil {
		t.Error("he has forgotten her browser")
	}
	if err := h.Factors.Forget(ctx, h.Account(t, "ines"), held.Browsers[0].Handle(), house.HerHome); err != nil {
		t.Fatal(err)
	}
	h.Half(t, from)
	from = remember()
	if err := h.People.SetPassword(ctx, "test", "ines", house.InesPassword); err != nil {
		t.Fatal(err)
	}
	h.Half(t, from)
	from = remember()
	c.Pass(30 * 24 * time.Hour)
	h.Half(t, from)
}

// What was shown later adds to a session, under another token; what it had shown stays when the password changes.
func TestShowMore(t *testing.T) {
	h, _, c := house.Open(t)
	h.Book = house.BookOf(t, "doors: [{path: /, admit: public}]\nroles: {keeper: }\nfactors: {sign-in: at-doors}")
	h = h.Start(t)
	code, _ := h.SetUp(t, "ines")
	k := h.Passkey(t, "ines")
	token := house.SignIn(t, h, false)
	c.Pass(time.Hour / 4)
	fresh, err := h.SignIn.ShowMore(ctx, token, signin.Shown{Code: code()}, house.HerHome)
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
	c.Pass(time.Minute)
	q, err := h.Factors.AskOf(ctx, h.Account(t, "ines"), house.HerPage)
	again, err := h.SignIn.ShowMore(ctx, fresh.Token, signin.Shown{Passkey: k.Use(house.Text(t, q, err)), Page: house.HerPage}, house.HerHome)
	if err != nil {
		t.Fatal(err)
	}
	if got := ages(again.Token); got != "user:ines,role:keeper,factor:password@16m+passkey+code@1m,enrolled:passkey+code" {
		t.Error(got)
	}
	in, err := h.SignIn.ChangePassword(ctx, again.Token, house.InesPassword, "kettle-moth-anvil", house.HerHome)
	if err != nil || ages(in.Token) != "user:ines,role:keeper,factor:password+passkey+code@1m,enrolled:passkey+code" {
		t.Errorf("%s %v", ages(in.Token), err)
	}
	if _, err := policy.ParseVisitor(ages(in.Token)); err != nil {
		t.Error(err)
	}
}

func TestSignInWithAPasskey(t *testing.T) {
	h, _, _ := house.Open(t)
	k := h.Passkey(t, "ines")
	ask := func() string { return house.Text(t, h.Factors.AskAny(house.HerPage), nil) }
	signIn := func(answer string) (signin.SignedIn, error) {
		return h.SignIn.SignInByPasskey(ctx, signin.Shown{Passkey: answer, Page: house.HerPage}, house.HerHome, false)
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

func TestChangePassword(t *testing.T) {
	r, _, _ := house.Open(t)
	here, there := house.SignIn(t, r, true), house.SignIn(t, r, false)
	from := sessions.Origin{Network: "192.0.2.7"}
	if _, err := r.SignIn.ChangePassword(ctx, here, "not-mine", "kettle-moth-anvil", from); !errors.Is(err, signin.ErrWrong) {
		t.Errorf("a wrong password: %v", err)
	}
	var mistake *mistake.Error
	if _, err := r.SignIn.ChangePassword(ctx, here, "seven-brass-prisms", "password1", from); !errors.As(err, &mistake) {
		t.Errorf("a common password: %v", err)
	}
	in, err := r.SignIn.ChangePassword(ctx, here, "seven-brass-prisms", "kettle-moth-anvil", from)
	if err != nil || !in.Remembered || house.Alive(t, r, here) || house.Alive(t, r, there) || !house.Alive(t, r, in.Token) {
		t.Fatalf("%+v %v", in, err)
	}
	if _, err := r.SignIn.SignIn(ctx, "ines", "seven-brass-prisms", from, false); !errors.Is(err, signin.ErrWrong) {
		t.Errorf("the old password: %v", err)
	}
	if _, err := r.SignIn.SignIn(ctx, "ines", "kettle-moth-anvil", from, false); err != nil {
		t.Errorf("the new password: %v", err)
	}
}

// What a sign-in leaves behind: a browser that is known, or remembered if that was asked for; a session until the browser is closed, unless
// it was asked for more; and a record that says with what.
func TestWhatASignInLeavesBehind(t *testing.T) {
	h, _, c := house.Open(t)
	latest := func() string {
		t.Helper()
		events, _, err := h.Activity.Events(ctx, store.ActivityQuery{Kind: string(activity.SignIn), Limit: 1})
		if err != nil || len(events) != 1 {
			t.Fatal(events, err)
		}
		return events[0].Detail
	}
	code, _ := h.SetUp(t, "ines")
	c.Pass(onetime.Lasts)
	in, err := h.SignIn.Finish(ctx, h.Half(t, house.HerHome), signin.Shown{Code: code()}, house.HerHome, false)
	if err != nil || in.Known != "" || in.KnownFor != 0 || in.Remembered || !h.SignIn.Knows(in.Device, h.Account(t, "ines")) ||
		latest() != "with the password and a code" {
		t.Errorf("%+v %v, %q", in, err, latest())
	}
	var second *signin.Second
	_, err = h.SignIn.ByElsewhere(ctx, h.Account(t, "ines"), "harbour", house.HerHome,
		func(context.Context, signin.SignedIn) error { return nil })
	if !errors.As(err, &second) {
		t.Fatal(err)
	}
	c.Pass(onetime.Lasts)
	in, err = h.SignIn.Finish(ctx, second.Token, signin.Shown{Code: code()}, house.HerHome, false)
	if err != nil || in.Remembered || latest() != "with the account elsewhere and a code" {
		t.Errorf("%+v %v, %q", in, err, latest())
	}
	changed, err := h.SignIn.ChangePassword(ctx, in.Token, house.InesPassword, "kettle-moth-anvil", house.HerHome)
	if err != nil || !h.SignIn.Knows(changed.Device, h.Account(t, "ines")) || h.SignIn.Knows(in.Device, h.Account(t, "ines")) {
		t.Errorf("after another password its browser is known: %v", err)
	}
	k := h.Passkey(t, "ines")
	before := h.SignIn.Tries()
	answer := k.Use(house.Text(t, h.Factors.AskAny(house.HerPage), nil))
	for _, remember := range []bool{true, false} { // the second time the question was answered already
		in, err = h.SignIn.SignInByPasskey(ctx, signin.Shown{Passkey: answer, Page: house.HerPage}, house.HerHome, remember)
		if (err == nil) != remember || in.Remembered != remember {
			t.Errorf("%+v %v", in, err)
		}
	}
	if got := h.SignIn.Tries(); got.Right != before.Right+1 || got.Wrong != before.Wrong+1 || latest() != "with a passkey" {
		t.Errorf("%+v, then %+v, %q", before, got, latest())
	}
}

// The owner is told of a sign-in in a browser that was not seen before, and not of the first one of all.
func TestOwnersAreToldOfSignIns(t *testing.T) {
	h, _, _ := house.Open(t)
	address := "ines@marram.example"
	if _, err := h.People.Edit(ctx, "test", "ines", people.Edit{Email: &address}); err != nil {
		t.Fatal(err)
	}
	h = h.Telling(t, message.SignedIn)
	device := ""
	for i, want := range []int{0, 0, 1, 2} {
		from := house.HerHome
		if i == 1 {
			from.Device = device
		}
		in, err := h.SignIn.SignIn(ctx, "ines", house.InesPassword, from, false)
		if err != nil {
			t.Fatal(err)
		}
		device = in.Device
		if mails := house.Mailed(t, h); len(mails) != want || want > 0 && mails[0].Kind != message.SignedIn {
			t.Errorf("sign-in %d: %+v", i, mails)
		}
	}
}

// Who wants to join and is not in yet learns where they stand by the right password, and by no other; for everybody else there is no such
// name. Right tries cost nothing.
func TestSigningInBeforeJoining(t *testing.T) {
	h, _ := house.Joins(t, "{ by: approval, grants: [ { role: friend } ] }")
	if _, err := h.Joining.Ask(ctx, house.Sigrid, house.Elsewheres); err != nil {
		t.Fatal(err)
	}
	for i := range 12 {
		_, err := h.SignIn.SignIn(ctx, "sigrid", house.Sigrid.Password, house.Elsewheres, false)
		var not *signin.NotYet
		if !errors.As(err, &not) || not.State == "" || !errors.Is(err, signin.ErrWrong) {
			t.Fatalf("try %d: %v", i, err)
		}
	}
	var not *signin.NotYet
	if _, err := h.SignIn.SignIn(ctx, "sigrid", "not-this-one", house.Elsewheres, false); !errors.Is(err, signin.ErrWrong) ||
		errors.As(err, &not) {
		t.Errorf("with another password: %v", err)
	}
	if a, err := h.People.Find(ctx, "sigrid"); err == nil {
		t.Errorf("there is an account: %+v", a)
	}
}

// Tries at a name and at the address of the same account count apart from one network, and together over all.
func TestNamesAndAddressesCountApart(t *testing.T) {
	h, _, _ := house.Open(t)
	address := "ines@marram.example"
	if _, err := h.People.Edit(ctx, "test", "ines", people.Edit{Email: &address}); err != nil {
		t.Fatal(err)
	}
	try := func(name string) error {
		_, err := h.SignIn.SignIn(ctx, name, "not-this-one", house.HerHome, false)
		return err
	}
	for _, name := range []string{"ines", address, "other@marram.example", "another@marram.example"} {
		for i := range throttle.Pair.Free + 1 {
			if err := try(name); !errors.Is(err, signin.ErrWrong) {
				t.Errorf("%s, try %d: %v", name, i, err)
			}
		}
		var slow *throttle.Slow
		if err := try(name); !errors.As(err, &slow) {
			t.Errorf("%s is not slowed: %v", name, err)
		}
	}
}
