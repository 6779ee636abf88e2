package joining_test

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	rules "ostiarius/core/joining"
	"ostiarius/core/message"
	"ostiarius/core/throttle"
	"ostiarius/core/words"
	"ostiarius/service/base/mistake"
	"ostiarius/service/rooms/house"
	"ostiarius/service/who/joining"
	"ostiarius/service/who/people"
	"ostiarius/service/who/sessions"
	"ostiarius/service/who/signin"
)

var ctx = context.Background()

// Whoever joins has an account when they have shown that they read the mail of their address, and know the password that
// was chosen.
func TestJoining(t *testing.T) {
	r, c := house.Joins(t, "{ by: anybody, grants: [ { role: friend, for: 365d } ] }")
	out, err := r.Joining.Ask(ctx, house.Sigrid, house.Elsewheres)
	if err != nil || out.Account != nil || out.State != rules.Unproven {
		t.Fatalf("%+v, %v", out, err)
	}
	m := house.Mailed(t, r)[0]
	if m.Kind != message.JoinProve || m.To != house.Sigrid.Email || m.Language != words.German || m.Account != "Sigrid" {
		t.Fatalf("%+v", m)
	}
	// Before that they are told where they stand, if they know the password, and nobody else is.
	var notYet *signin.NotYet
	if _, err := r.SignIn.SignIn(ctx, "sigrid", house.Sigrid.Password, house.Elsewheres, false); !errors.As(err, &notYet) ||
		notYet.State != rules.Unproven {
		t.Errorf("signing in: %v", err)
	}
	if _, err := r.SignIn.SignIn(ctx, "sigrid", "a-wrong-one", house.Elsewheres, false); !errors.Is(err, signin.ErrWrong) ||
		errors.As(err, &notYet) && err == error(notYet) {
		t.Errorf("signing in with a wrong password: %v", err)
	}
	if v, err := r.Present(ctx, "192.0.2.7", "sigrid", house.Sigrid.Password); err != nil || v.SignedIn {
		t.Error("HTTP Basic takes who is not in yet")
	}
	token := house.LinkIn(t, m)
	if name, err := r.Joining.Applied(ctx, token); name != "Sigrid" || err != nil {
		t.Errorf("%q, %v", name, err)
	}
	if _, err := r.Joining.Prove(ctx, token, "a-wrong-one", house.Elsewheres); !errors.Is(err, joining.ErrWrong) {
		t.Errorf("with a wrong password: %v", err)
	}
	out, err = r.Joining.Prove(ctx, token, house.Sigrid.Password, house.Elsewheres)
	if err != nil || out.Account == nil || out.Next != "/rota/" {
		t.Fatalf("%+v, %v", out, err)
	}
	if got := house.Roles(t, r, "sigrid"); !slices.Equal(got, []string{"friend"}) {
		t.Errorf("the roles %q", got)
	}
	in, err := r.SignIn.Enter(ctx, out.Account, house.Elsewheres, "")
	if err != nil || !house.Alive(t, r, in.Token) || !slices.Equal(in.Visitor.Roles, []string{"friend"}) {
		t.Errorf("%+v, %v", in.Visitor, err)
	}
	if a, err := r.People.Find(ctx, "sigrid"); err != nil || a.Email != house.Sigrid.Email || a.Language != words.German {
		t.Errorf("%+v, %v", a, err)
	}
	if _, err := r.Joining.Prove(ctx, token, house.Sigrid.Password, house.Elsewheres); !errors.Is(err, joining.ErrLink) {
		t.Errorf("twice: %v", err)
	}
	c.Pass(365 * 24 * time.Hour)
	if got := house.Roles(t, r, "sigrid"); len(got) > 0 {
		t.Errorf("after a year: %q", got)
	}
}

// Who has a name is told, who has an address is not: its owner is told instead.
func TestJoiningTellsNoAddresses(t *testing.T) {
	for how, state := range map[string]rules.State{
		"{ by: anybody }": rules.Unproven, "{ by: approval }": rules.Unproven, "{ by: anybody, address: unproven }": "",
	} {
		r, _ := house.Joins(t, how)
		house.Add(t, r, people.NewAccount{Name: "walt", Email: "walt@marram.example", Password: "paint-and-lentil-soup"})
		known, unknown := house.Sigrid, house.Sigrid
		known.Name, known.Email, unknown.Name = "bo", "Walt@Marram.example", "mette"
		one, err := r.Joining.Ask(ctx, known, house.Elsewheres)
		other, otherErr := r.Joining.Ask(ctx, unknown, house.Elsewheres)
		if err != nil || otherErr != nil || one.State != state || other.State != state ||
			(one.Account == nil) != (other.Account == nil) || one.Account != nil && one.Account.Email != other.Account.Email {
			t.Errorf("%s: %+v, %v and %+v, %v", how, one, err, other, otherErr)
		}
		all := house.Mailed(t, r)
		if len(all) != 2 || all[1].Kind != message.JoinTaken || all[1].Account != "walt" || strings.Contains(all[1].Link, "=") {
			t.Errorf("%s: %+v", how, all)
		}
		var taken *mistake.Error
		for _, name := range []string{"WALT", "bo"} {
			again := unknown
			again.Name = name
			if _, err := r.Joining.Ask(ctx, again, house.Elsewheres); !errors.As(err, &taken) || taken.Kind != "taken" {
				t.Errorf("%s: the name %s: %v", how, name, err)
			}
		}
		// A name that looks like an address would tell whose it is.
		again := unknown
		again.Name = "walt@marram.example"
		if _, err := r.Joining.Ask(ctx, again, house.Elsewheres); !errors.As(err, &taken) || taken.Kind != "invalid" {
			t.Errorf("%s: an address as name: %v", how, err)
		}
	}
}

func TestJoiningIsRefused(t *testing.T) {
	r, _ := house.Joins(t, "{ by: anybody, terms: /terms }")
	agreed := house.Sigrid
	agreed.Agreed = true
	var wrong *mistake.Error
	for what, change := range map[string]func(*joining.Applicant){
		"a short password":  func(a *joining.Applicant) { a.Password = "short" },
		"a common one":      func(a *joining.Applicant) { a.Password = "password1" },
		"the name as one":   func(a *joining.Applicant) { a.Password = "sigridsigrid" },
		"no name":           func(a *joining.Applicant) { a.Name = " " },
		"no address":        func(a *joining.Applicant) { a.Email = "" },
		"half an address":   func(a *joining.Applicant) { a.Email = "sigrid@" },
		"a field of a mail": func(a *joining.Applicant) { a.Email = "a@marram.example\r\nBcc: b@marram.example" },
	} {
		who := agreed
		change(&who)
		if _, err := r.Joining.Ask(ctx, who, house.Elsewheres); !errors.As(err, &wrong) {
			t.Errorf("%s: %v", what, err)
		}
	}
	if _, err := r.Joining.Ask(ctx, house.Sigrid, house.Elsewheres); !errors.Is(err, joining.ErrAgree) {
		t.Errorf("without agreeing: %v", err)
	}
	if len(house.Mailed(t, r)) > 0 {
		t.Error("a mail was written")
	}
	closed, _ := house.Joins(t, "{ by: nobody }")
	invited, _ := house.Joins(t, "{ by: invitation }")
	for _, r := range []*house.House{closed, invited} {
		if _, err := r.Joining.Ask(ctx, house.Sigrid, house.Elsewheres); !errors.Is(err, joining.ErrClosed) {
			t.Errorf("where nobody joins: %v", err)
		}
	}
	var slow *throttle.Slow
	for i := range 40 {
		who := agreed
		who.Name, who.Email = fmt.Sprint("robot", i), fmt.Sprintf("robot%d@marram.example", i)
		if _, err := r.Joining.Ask(ctx, who, house.Elsewheres); err != nil && !errors.As(err, &slow) {
			t.Fatal(err)
		}
	}
	if slow == nil || len(house.Mailed(t, r)) > 20 {
		t.Errorf("a robot is slowed: %v, after %d", slow, len(house.Mailed(t, r)))
	}
}

// Nobody's mailbox is filled by those who want to join with its address, wherever they come from.
func TestJoiningFillsNoMailbox(t *testing.T) {
	r, _ := house.Joins(t, "{ by: anybody }")
	for i := range 12 {
		who := house.Sigrid
		who.Name = fmt.Sprint("s", i)
		if out, err := r.Joining.Ask(ctx, who, sessions.Origin{Network: fmt.Sprintf("198.51.100.%d", i)}); err != nil ||
			out.State != rules.Unproven {
			t.Fatalf("%+v, %v", out, err)
		}
	}
	if n := len(house.Mailed(t, r)); n != message.MostCaused {
		t.Errorf("%d messages", n)
	}
	if all, err := r.Joining.Applications(ctx); err != nil || len(all) != rules.MostUnproven {
		t.Errorf("%d applications wait: %v", len(all), err)
	}
}

// Which names are taken is told now and then, and not to whoever tries them all.
func TestNamesAreNotTriedOut(t *testing.T) {
	r, _ := house.Joins(t, "{ by: anybody }")
	var slow *throttle.Slow
	told := 0
	for range 60 {
		who := house.Sigrid
		who.Name = "ines"
		_, err := r.Joining.Ask(ctx, who, house.Elsewheres)
		var taken *mistake.Error
		switch {
		case errors.As(err, &taken):
			told++
		case !errors.As(err, &slow):
			t.Fatal(err)
		}
	}
	if slow == nil || told > 15 {
		t.Errorf("told %d times, %v", told, slow)
	}
}

// Ten who want the same name at once make one application, and ten who follow one link make one account.
func TestJoiningAtOnce(t *testing.T) {
	r, _ := house.Joins(t, "{ by: anybody }")
	ten := func(do func(i int) error) (done int) {
		var wait sync.WaitGroup
		var mu sync.Mutex
		for i := range 10 {
			wait.Go(func() {
				if do(i) == nil {
					mu.Lock()
					done++
					mu.Unlock()
				}
			})
		}
		wait.Wait()
		return done
	}
	if n := ten(func(i int) error {
		who := house.Sigrid
		who.Email = fmt.Sprintf("s%d@marram.example", i)
		_, err := r.Joining.Ask(ctx, who, sessions.Origin{Network: fmt.Sprintf("198.51.100.%d", i)})
		return err
	}); n != 1 || len(house.Mailed(t, r)) != 1 {
		t.Fatalf("%d applications, %d messages", n, len(house.Mailed(t, r)))
	}
	token := house.LinkIn(t, house.Mailed(t, r)[0])
	if n := ten(func(int) error {
		_, err := r.Joining.Prove(ctx, token, house.Sigrid.Password, house.Elsewheres)
		return err
	}); n != 1 {
		t.Errorf("%d accounts", n)
	}
}

// A steward approves, or declines with a text, and both are told by mail.
func TestApproval(t *testing.T) {
	r, c := house.Joins(t, "{ by: approval, grants: [ { role: friend } ] }")
	if _, err := r.Joining.Ask(ctx, house.Sigrid, house.Elsewheres); err != nil {
		t.Fatal(err)
	}
	var wrong *mistake.Error
	if err := r.Joining.Approve(ctx, "agnes", "sigrid"); !errors.As(err, &wrong) || !strings.Contains(wrong.Text, "has not confirmed") {
		t.Errorf("before the address is proven: %v", err)
	}
	out, err := r.Joining.Prove(ctx, house.LinkIn(t, house.Mailed(t, r)[0]), house.Sigrid.Password, house.Elsewheres)
	if err != nil || out.State != rules.Waiting || out.Account != nil {
		t.Fatalf("%+v, %v", out, err)
	}
	if remarks, err := r.Joining.Remarks(ctx); err != nil || len(remarks) != 1 || !strings.Contains(remarks[0], "1 registration is waiting") {
		t.Errorf("%q, %v", remarks, err)
	}
	var notYet *signin.NotYet
	if _, err := r.SignIn.SignIn(ctx, "sigrid", house.Sigrid.Password, house.Elsewheres, false); !errors.As(err, &notYet) ||
		notYet.State != rules.Waiting {
		t.Errorf("signing in: %v", err)
	}
	if err := r.Joining.Decline(ctx, "agnes", "Sigrid", "All watches are filled."); err != nil {
		t.Fatal(err)
	}
	if m := house.Mailed(t, r)[0]; m.Kind != message.Declined || m.Gaps["text"] != "All watches are filled." || m.To != house.Sigrid.Email {
		t.Errorf("%+v", m)
	}
	if _, err := r.SignIn.SignIn(ctx, "sigrid", house.Sigrid.Password, house.Elsewheres, false); !errors.As(err, &notYet) ||
		notYet.State != rules.Declined {
		t.Errorf("signing in: %v", err)
	}
	if err := r.Joining.Approve(ctx, "agnes", "sigrid"); err == nil {
		t.Error("who was declined is approved")
	}
	// They may ask again.
	if _, err := r.Joining.Ask(ctx, house.Sigrid, house.Elsewheres); err != nil {
		t.Fatal(err)
	}
	if _, err := r.Joining.Prove(ctx, house.LinkIn(t, house.Mailed(t, r)[0]), house.Sigrid.Password, house.Elsewheres); err != nil {
		t.Fatal(err)
	}
	c.Pass(24 * time.Hour)
	if err := r.Joining.Approve(ctx, "agnes", "sigrid"); err != nil {
		t.Fatal(err)
	}
	if m := house.Mailed(t, r)[0]; m.Kind != message.Approved || m.AccountID == 0 {
		t.Errorf("%+v", m)
	}
	if got := house.Roles(t, r, "sigrid"); !slices.Equal(got, []string{"friend"}) {
		t.Errorf("the roles %q", got)
	}
	house.SignInAs(t, r, "sigrid", house.Sigrid.Password)
}

// An invitation is good once, until its end or until it is taken back, and gives its roles.
func TestInvitations(t *testing.T) {
	r, c := house.Joins(t, "{ by: invitation, grants: [ { role: friend } ] }")
	invite := func(i joining.Invite) string {
		t.Helper()
		path, _, err := r.Joining.Invite(ctx, "agnes", i)
		if err != nil {
			t.Fatal(err)
		}
		_, token, _ := strings.Cut(path, "invitation=")
		return token
	}
	sent := invite(joining.Invite{
		Email: "sigrid@marram.example", Roles: []string{"keeper", "keeper"}, Ends: r.Time().Add(48 * time.Hour), Mail: true,
		Language: words.German,
	})
	m := house.Mailed(t, r)[0]
	if sent != "" || m.Kind != message.Invited || m.To != "sigrid@marram.example" || m.Language != words.German ||
		m.Until.Sub(r.Time()) != rules.InvitationLasts {
		t.Fatalf("%q, %+v", sent, m)
	}
	who := joining.Applicant{
		Name: "sigrid", Email: "somebody-else@marram.example", Password: house.Sigrid.Password, Invitation: house.LinkIn(t, m),
	}
	out, err := r.Joining.Ask(ctx, who, house.Elsewheres)
	if err != nil || out.Account == nil || out.Account.Email != "sigrid@marram.example" || out.Account.MadeBy != "agnes" {
		t.Fatalf("%+v, %v", out, err)
	}
	if got := house.Roles(t, r, "sigrid"); !slices.Equal(got, []string{"friend", "keeper"}) {
		t.Errorf("the roles %q", got)
	}
	c.Pass(49 * time.Hour)
	if got := house.Roles(t, r, "sigrid"); !slices.Equal(got, []string{"friend"}) {
		t.Errorf("the roles %q, two days later", got)
	}
	who.Name = "bo"
	if _, err := r.Joining.Ask(ctx, who, house.Elsewheres); !errors.Is(err, joining.ErrLink) {
		t.Errorf("twice: %v", err)
	}
	first, second := invite(joining.Invite{Email: "bo@marram.example"}), invite(joining.Invite{Email: "Bo@marram.example", Lasts: time.Hour})
	if _, err := r.Joining.Invitation(ctx, first); !errors.Is(err, joining.ErrLink) {
		t.Errorf("one in whose place is another: %v", err)
	}
	if i, err := r.Joining.Invitation(ctx, second); err != nil || i.Email != "Bo@marram.example" {
		t.Errorf("%+v, %v", i, err)
	}
	c.Pass(time.Hour)
	if _, err := r.Joining.Invitation(ctx, second); !errors.Is(err, joining.ErrLink) {
		t.Errorf("after its end: %v", err)
	}
	third := invite(joining.Invite{Email: "bo@marram.example"})
	if err := r.Joining.Revoke(ctx, "agnes", "BO@marram.example"); err != nil {
		t.Fatal(err)
	}
	who.Invitation = third
	if _, err := r.Joining.Ask(ctx, who, house.Elsewheres); !errors.Is(err, joining.ErrLink) {
		t.Errorf("one that was taken back: %v", err)
	}
	var wrong *mistake.Error
	for what, i := range map[string]joining.Invite{
		"of somebody who has an account": {Email: "sigrid@marram.example"},
		"an unknown role":                {Email: "bo@marram.example", Roles: []string{"kepper"}},
		"no address":                     {Email: "bo"}, "the past": {Email: "bo@marram.example", Ends: r.Time()},
		"for ever": {Email: "bo@marram.example", Lasts: 1 << 60},
	} {
		if _, _, err := r.Joining.Invite(ctx, "agnes", i); !errors.As(err, &wrong) {
			t.Errorf("%s: %v", what, err)
		}
	}
}

// An account counts at once where the policy says so; its address does not before its link was followed.
func TestJoiningAtOnceWithoutAnAddress(t *testing.T) {
	r, _ := house.Joins(t, "{ by: anybody, address: unproven, terms: /terms, grants: [ { role: friend } ] }")
	who := house.Sigrid
	who.Agreed = true
	out, err := r.Joining.Ask(ctx, who, house.Elsewheres)
	if err != nil || out.Account == nil || out.Account.Email != "" || !slices.Equal(house.Roles(t, r, "sigrid"), []string{"friend"}) {
		t.Fatalf("%+v, %v", out, err)
	}
	m := house.Mailed(t, r)[0]
	if m.Kind != message.AddressProve || m.To != house.Sigrid.Email || m.AccountID != out.Account.ID {
		t.Fatalf("%+v", m)
	}
	if _, err := r.Recovery.MakeChange(ctx, house.TokenOf(t, m), out.Account.ID, "", ""); err != nil {
		t.Fatal(err)
	}
	if a, err := r.People.Find(ctx, "sigrid"); err != nil || a.Email != house.Sigrid.Email {
		t.Errorf("%+v, %v", a, err)
	}
}

// A form tells how long it was open, and for which service; nobody makes that up.
func TestFormsOfRobots(t *testing.T) {
	r, c := house.Joins(t, "{ by: anybody }")
	mark := r.Joining.Mark()
	if err := r.Joining.CheckForm(mark, ""); !errors.Is(err, joining.ErrRobot) {
		t.Errorf("at once: %v", err)
	}
	c.Pass(5 * time.Second)
	if err := r.Joining.CheckForm(mark, ""); err != nil {
		t.Error(err)
	}
	if err := r.Joining.CheckForm(mark, "https://elsewheres.example"); !errors.Is(err, joining.ErrRobot) {
		t.Errorf("with the field that nobody sees: %v", err)
	}
	other, _ := house.Joins(t, "{ by: anybody }")
	for what, bad := range map[string]string{
		"none": "", "of another service": other.Joining.Mark(), "cut off": mark[:20], "changed": "A" + mark[1:] + "A",
	} {
		if err := r.Joining.CheckForm(bad, ""); !errors.Is(err, joining.ErrStale) {
			t.Errorf("%s: %v", what, err)
		}
	}
	c.Pass(13 * time.Hour)
	if err := r.Joining.CheckForm(mark, ""); !errors.Is(err, joining.ErrStale) {
		t.Errorf("the next day: %v", err)
	}
}
