package signin_test

import (
	"context"
	"errors"
	"strings"
	"testing"
	"time"

	"ostiarius/core/activity"
	"ostiarius/core/factor"
	"ostiarius/core/onetime"
	"ostiarius/core/policy"
	"ostiarius/service/rooms/house"
	"ostiarius/service/who/people"
	"ostiarius/service/who/sessions"
	"ostiarius/service/who/signin"
)

// The link for the first steward is good once, for an hour, as long as it is the latest, and while there is no steward.
func TestTheFirstLink(t *testing.T) {
	h, _, c := house.Open(t)
	good := func(token string) bool {
		t.Helper()
		is, err := h.SignIn.IsFirst(ctx, token)
		if err != nil {
			t.Fatal(err)
		}
		return is
	}
	link := func() string {
		t.Helper()
		token, until, err := h.SignIn.FirstLink(ctx)
		if err != nil || !until.Equal(c.Now().Add(time.Hour)) {
			t.Fatal(until, err)
		}
		return token
	}
	if good("") || good(strings.Repeat("A", 43)) {
		t.Error("a link is good, and none was made")
	}
	early := link()
	token := link()
	if good(early) || !good(token) || good(token[:42]) || good("") {
		t.Error("a link that another one has replaced is good, or the latest isn't")
	}
	c.Pass(time.Hour - time.Second)
	if !good(token) {
		t.Error("it ended too early")
	}
	c.Pass(time.Second)
	if good(token) {
		t.Error("it has not ended")
	}
	if _, err := h.SignIn.First(ctx, token, "agnes", "amber-lantern-shelf", house.HerHome); !errors.Is(err, people.ErrLink) {
		t.Errorf("with a link that has ended: %v", err)
	}
	token = link()
	for password, says := range map[string]string{"": "the password is missing", "short": "at least 8"} {
		if _, err := h.SignIn.First(ctx, token, "agnes", password, house.HerHome); err == nil || !strings.Contains(err.Error(), says) {
			t.Errorf("%q: %v", password, err)
		}
	}
	in, err := h.SignIn.First(ctx, token, "agnes", "amber-lantern-shelf", house.HerHome)
	if err != nil || in.Visitor.Account != "agnes" || in.Remembered || in.Device == "" || !house.Alive(t, h, in.Token) ||
		house.Roles(t, h, "agnes")[0] != policy.Steward {
		t.Fatalf("%+v %v", in, err)
	}
	if h.Kinds(t)[0] != activity.SignIn {
		t.Errorf("%q", h.Kinds(t))
	}
	if _, err := h.SignIn.First(ctx, token, "edith", "amber-lantern-shelf", house.HerHome); !errors.Is(err, people.ErrLink) || good(token) {
		t.Errorf("twice: %v", err)
	}
	if _, _, err := h.SignIn.FirstLink(ctx); err == nil {
		t.Error("a link while there is a steward")
	}
	// Somebody who becomes a steward in the meantime ends it.
	other, _, _ := house.Open(t)
	token, _, err = other.SignIn.FirstLink(ctx)
	if err != nil {
		t.Fatal(err)
	}
	house.Add(t, other, people.NewAccount{Name: "agnes", Password: "amber-lantern-shelf", Roles: []string{policy.Steward}})
	if is, err := other.SignIn.IsFirst(ctx, token); is || err != nil {
		t.Error(is, err)
	}
	if _, err := other.SignIn.First(ctx, token, "edith", "amber-lantern-shelf", house.HerHome); !errors.Is(err, people.ErrLink) {
		t.Error(err)
	}
	// While the records can't be read, nothing is known.
	third, _, _ := house.Open(t)
	if token, _, err = third.SignIn.FirstLink(ctx); err != nil {
		t.Fatal(err)
	}
	gone, cancel := context.WithCancel(ctx)
	cancel()
	if is, err := third.SignIn.IsFirst(gone, token); is || err == nil {
		t.Error(is, err)
	}
	if _, err := third.SignIn.First(gone, token, "edith", "amber-lantern-shelf", house.HerHome); err == nil || errors.Is(err, people.ErrLink) {
		t.Error(err)
	}
}

// What came of the tries is counted: right, wrong and slowed.
func TestTriesAreCounted(t *testing.T) {
	h, _, _ := house.Open(t)
	if h.SignIn.Tries() != (signin.Tries{}) {
		t.Errorf("%+v", h.SignIn.Tries())
	}
	house.SignIn(t, h, false)
	house.SignIn(t, h, false)
	for range 8 {
		h.SignIn.SignIn(ctx, "ines", "not-this-one", house.HerHome, false)
	}
	if got := h.SignIn.Tries(); got != (signin.Tries{Right: 2, Wrong: 5, Slowed: 3}) {
		t.Errorf("%+v", got)
	}
}

// Whoever is signed in types the password once more: it is theirs, for the session that it is typed in, and the session gets another token.
func TestPasswordOnceMore(t *testing.T) {
	h, _, c := house.Open(t)
	house.Add(t, h, people.NewAccount{Name: "walt", Password: "paint-and-lentil-soup"})
	token := house.SignIn(t, h, true)
	c.Pass(time.Hour)
	for what, try := range map[string]struct{ token, password string }{
		"a wrong password": {token, "not-this-one"}, "somebody else's": {token, "paint-and-lentil-soup"}, "no password": {token, ""},
		"no session": {"", house.InesPassword}, "another's session": {strings.Repeat("A", 43), house.InesPassword},
	} {
		if fresh, err := h.SignIn.ProveAgain(ctx, try.token, try.password, house.HerHome); fresh != nil || !errors.Is(err, signin.ErrWrong) {
			t.Errorf("%s: %+v %v", what, fresh, err)
		}
		if a, err := h.SignIn.Owner(ctx, try.token, try.password, sessions.Origin{Network: "192.0.2.8"}); !errors.Is(err, signin.ErrWrong) {
			t.Errorf("%s: %+v %v", what, a, err)
		}
	}
	if v, _, err := h.Sessions.Recognise(ctx, token, nil); err != nil || v.ProofAge != time.Hour {
		t.Errorf("a proof that failed counts: %+v %v", v, err)
	}
	if a, err := h.SignIn.Owner(ctx, token, house.InesPassword, house.HerHome); err != nil || a.Name != "Ines" {
		t.Errorf("%+v %v", a, err)
	}
	fresh, err := h.SignIn.ProveAgain(ctx, token, house.InesPassword, house.HerHome)
	if err != nil || fresh == nil || fresh.Token == token || !fresh.Remembered {
		t.Fatalf("%+v %v", fresh, err)
	}
	if v, _, err := h.Sessions.Recognise(ctx, fresh.Token, nil); err != nil || v.ProofAge != 0 || v.Account != "ines" {
		t.Errorf("%+v %v", v, err)
	}
	if kinds := h.Kinds(t); kinds[0] != activity.ProvenAgain || kinds[2] != activity.ProofFailed {
		t.Errorf("%q", kinds)
	}
	if err := h.People.SetDisabled(ctx, "test", "ines", true); err != nil {
		t.Fatal(err)
	}
	if _, err := h.SignIn.ProveAgain(ctx, fresh.Token, house.InesPassword, house.HerHome); !errors.Is(err, signin.ErrWrong) {
		t.Errorf("whose account is disabled: %v", err)
	}
}

// Who has just signed in elsewhere gets a session, if the account may; a second factor is asked for as after a password, and what
// else there is to do is done once, when there is a session.
func TestComingFromElsewhere(t *testing.T) {
	h, _, c := house.Open(t)
	begun := 0
	var failed error
	come := func() (signin.SignedIn, error) {
		return h.SignIn.ByElsewhere(ctx, h.Account(t, "ines"), "harbour", house.HerHome, func(_ context.Context, in signin.SignedIn) error {
			if begun++; !in.Visitor.SignedIn || in.Token == "" {
				t.Errorf("%+v", in)
			}
			return failed
		})
	}
	in, err := come()
	if err != nil || in.Visitor.Shown().Kinds != factor.Of(factor.Elsewhere) || begun != 1 || h.SignIn.Tries().Right != 1 {
		t.Fatalf("%+v %v, begun %d times", in.Visitor, err, begun)
	}
	failed = errors.New("the link cannot be noted")
	if _, err := come(); !errors.Is(err, failed) {
		t.Error(err)
	}
	failed = nil
	// In the session: proven anew there, by who it is and nobody else.
	house.Add(t, h, people.NewAccount{Name: "walt", Password: "paint-and-lentil-soup"})
	c.Pass(29 * time.Minute)
	if fresh, err := h.SignIn.ProvenElsewhere(ctx, in.Token, h.Account(t, "walt").ID, "harbour", house.HerHome); fresh != nil ||
		!errors.Is(err, signin.ErrOver) {
		t.Errorf("somebody else has proven it: %+v %v", fresh, err)
	}
	if fresh, err := h.SignIn.ProvenElsewhere(ctx, "made-up", h.Account(t, "ines").ID, "harbour", house.HerHome); fresh != nil ||
		!errors.Is(err, signin.ErrOver) {
		t.Errorf("without a session: %+v %v", fresh, err)
	}
	fresh, err := h.SignIn.ProvenElsewhere(ctx, in.Token, h.Account(t, "ines").ID, "harbour", house.HerHome)
	if err != nil || fresh == nil {
		t.Fatal(fresh, err)
	}
	if v, _, err := h.Sessions.Recognise(ctx, fresh.Token, nil); err != nil || v.ProofAge != 0 {
		t.Errorf("%+v %v", v, err)
	}
	if again, err := h.SignIn.HasShown(ctx, fresh.Token, factor.Passkey, house.HerHome); err != nil || again == nil {
		t.Errorf("%+v %v", again, err)
	} else if v, _, err := h.Sessions.Recognise(ctx, again.Token, nil); err != nil || !v.Shown().Kinds.Has(factor.Passkey) {
		t.Errorf("%+v", v)
	}
	if _, err := h.SignIn.HasShown(ctx, "made-up", factor.Passkey, house.HerHome); !errors.Is(err, signin.ErrOver) {
		t.Error(err)
	}
	// With a second factor.
	code, _ := h.SetUp(t, "ines")
	c.Pass(onetime.Lasts)
	begun = 0
	var second *signin.Second
	if _, err := come(); !errors.As(err, &second) || begun != 0 || second.Can != factor.Of(factor.Code) ||
		!strings.Contains(second.Error(), "code") {
		t.Fatalf("%v, begun %d times", err, begun)
	}
	if a, err := h.SignIn.Half(ctx, second.Token); err != nil || a.Name != "Ines" {
		t.Errorf("%+v %v", a, err)
	}
	if _, err := h.SignIn.Half(ctx, "made-up"); !errors.Is(err, signin.ErrOver) {
		t.Error(err)
	}
	in, err = h.SignIn.Finish(ctx, second.Token, signin.Shown{Code: code()}, house.HerHome, false)
	if err != nil || begun != 1 || in.Visitor.Shown().Kinds != factor.Of(factor.Elsewhere, factor.Code) {
		t.Errorf("%+v %v, begun %d times", in.Visitor, err, begun)
	}
	if _, err := h.SignIn.Half(ctx, second.Token); !errors.Is(err, signin.ErrOver) {
		t.Errorf("the half after it was used: %v", err)
	}
	events := h.Kinds(t)
	if err := h.People.SetDisabled(ctx, "test", "ines", true); err != nil {
		t.Fatal(err)
	}
	if _, err := come(); !errors.Is(err, signin.ErrDisabled) || begun != 1 || events[0] != activity.SignIn ||
		h.Kinds(t)[0] != activity.SignInFailed {
		t.Errorf("disabled: %v", err)
	}
}

// A session that has expired accepts no proof and no new password, whatever is brought.
func TestSessionsThatHaveEndedProveNothing(t *testing.T) {
	h, _, c := house.Open(t)
	code, _ := h.SetUp(t, "ines")
	c.Pass(onetime.Lasts)
	in, err := h.SignIn.Finish(ctx, h.Half(t, house.HerHome), signin.Shown{Code: code()}, house.HerHome, false)
	if err != nil {
		t.Fatal(err)
	}
	ways := map[string]func() error{
		"a proof": func() error {
			_, err := h.SignIn.ProveAgain(ctx, in.Token, house.InesPassword, house.HerHome)
			return err
		},
		"an owner": func() error { _, err := h.SignIn.Owner(ctx, in.Token, house.InesPassword, house.HerHome); return err },
		"a code": func() error {
			_, err := h.SignIn.ShowMore(ctx, in.Token, signin.Shown{Code: code()}, house.HerHome)
			return err
		},
		"a factor": func() error { _, err := h.SignIn.HasShown(ctx, in.Token, factor.Passkey, house.HerHome); return err },
		"an account elsewhere": func() error {
			_, err := h.SignIn.ProvenElsewhere(ctx, in.Token, h.Account(t, "ines").ID, "harbour", house.HerHome)
			return err
		},
		"another password": func() error {
			_, err := h.SignIn.ChangePassword(ctx, in.Token, house.InesPassword, "kettle-moth-anvil", house.HerHome)
			return err
		},
	}
	c.Pass(30*time.Minute - time.Second)
	if err := ways["an owner"](); err != nil {
		t.Errorf("a second before: %v", err)
	}
	c.Pass(time.Second)
	for what, try := range ways {
		if err := try(); !errors.Is(err, signin.ErrWrong) && !errors.Is(err, signin.ErrOver) {
			t.Errorf("%s: %v", what, err)
		}
	}
	if house.Alive(t, h, in.Token) {
		t.Error("it is alive again")
	}
	if _, err := h.SignIn.SignIn(ctx, "ines", "kettle-moth-anvil", house.HerHome, false); !errors.Is(err, signin.ErrWrong) {
		t.Errorf("the password was changed: %v", err)
	}
}
