package recovery_test

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"sync"
	"testing"
	"time"

	"ostiarius/core/message"
	"ostiarius/core/throttle"
	"ostiarius/core/words"
	"ostiarius/service/rooms/house"
	"ostiarius/service/who/people"
	"ostiarius/service/who/recovery"
	"ostiarius/service/who/sessions"
	"ostiarius/service/who/signin"
)

var ctx = context.Background()

func ask(r *house.House, typed, network string) error {
	return r.Recovery.Ask(ctx, signin.Keys(typed), network, words.English)
}

// wish is what the owner of a session asks for on the page of the account.
func wish(r *house.House, token, password, address string) error {
	a, err := r.SignIn.Owner(ctx, token, password, sessions.Origin{Network: "192.0.2.7"})
	if err != nil {
		return err
	}
	return r.Recovery.AskChange(ctx, a.Name, address, "192.0.2.7", words.English)
}

// Whoever forgot a password gets a link by the name or the address, once and for an hour; nobody is told who has an
// account.
func TestRecovery(t *testing.T) {
	r, _, c := house.Open(t)
	r = r.Telling(t, message.PasswordChanged, message.AddressChanged)
	house.Add(t, r, people.NewAccount{Name: "walt", Email: "walt@marram.example", Password: "paint-and-lentil-soup"})
	house.Add(t, r, people.NewAccount{Name: "bo", Password: "kettle-moth-anvil"})
	from := sessions.Origin{Network: "192.0.2.7", Language: words.German}
	for i, typed := range []string{"walt", "Walt@Marram.example", "nobody", "nobody@marram.example", "bo", "what is this?"} {
		from.Network = "192.0.2." + string(rune('0'+i))
		if err := r.Recovery.Ask(ctx, signin.Keys(typed), from.Network, from.Language); err != nil {
			t.Fatalf("%s: %v", typed, err)
		}
	}
	if len(house.Mailed(t, r)) != 0 {
		t.Error("whoever exists is answered at once")
	}
	if err := r.Recovery.Answer(ctx); err != nil {
		t.Fatal(err)
	}
	all := house.Mailed(t, r)
	if len(all) != 2 || all[0].To != "walt@marram.example" || all[0].Kind != message.Recover || all[0].Language != words.German ||
		all[0].Until.Sub(c.Now()) != time.Hour {
		t.Fatalf("%+v", all)
	}
	if err := r.Recovery.Answer(ctx); err != nil || len(house.Mailed(t, r)) != 2 {
		t.Errorf("answered twice: %v", err)
	}
	first, second := house.TokenOf(t, all[1]), house.TokenOf(t, all[0])
	session := house.SignInAs(t, r, "walt", "paint-and-lentil-soup")
	if err := r.People.UseLink(ctx, first, "brambles-in-the-fog", "192.0.2.7", words.German); err != nil {
		t.Fatal(err)
	}
	if house.Alive(t, r, session) {
		t.Error("the session of before goes on")
	}
	if err := r.People.UseLink(ctx, second, "another-moth-anvil", "", ""); !errors.Is(err, people.ErrLink) {
		t.Errorf("the other link: %v", err)
	}
	if told := house.Mailed(t, r)[0]; told.Kind != message.PasswordChanged || told.To != "walt@marram.example" ||
		strings.Contains(told.Link, "=") {
		t.Errorf("%+v", told)
	}
	// The link ends with the hour, also where nobody has used it.
	c.Pass(2 * time.Hour)
	if err := errors.Join(ask(r, "walt", "192.0.2.77"), r.Recovery.Answer(ctx)); err != nil {
		t.Fatal(err)
	}
	late := house.TokenOf(t, house.Mailed(t, r)[0])
	c.Pass(time.Hour)
	if err := r.People.UseLink(ctx, late, "another-moth-anvil", "", ""); !errors.Is(err, people.ErrLink) {
		t.Errorf("after an hour: %v", err)
	}
}

// Nobody's mailbox is filled, from one network or from many, ten at once or one by one; and who is shut out is told
// so, without a link.
func TestRecoveriesAreBounded(t *testing.T) {
	r, _, c := house.Open(t)
	house.Add(t, r, people.NewAccount{Name: "walt", Email: "walt@marram.example", Password: "paint-and-lentil-soup"})
	var wait sync.WaitGroup
	for i := range 40 {
		wait.Go(func() {
			ask(r, "walt", "198.51.100."+string(rune('1'+i%9)))
		})
	}
	wait.Wait()
	for range 3 {
		if err := r.Recovery.Answer(ctx); err != nil {
			t.Fatal(err)
		}
	}
	if n := len(house.Mailed(t, r)); n != 3 {
		t.Errorf("%d messages in an hour", n)
	}
	var slow *throttle.Slow
	for range 9 {
		if err := ask(r, "somebody", "203.0.113.4"); err != nil && !errors.As(err, &slow) {
			t.Fatal(err)
		}
	}
	if slow == nil {
		t.Error("the same is asked for again and again")
	}
	slow = nil
	for i := range 40 {
		if err := ask(r, fmt.Sprint("somebody", i), "203.0.113.77"); err != nil && !errors.As(err, &slow) {
			t.Fatal(err)
		}
	}
	if slow == nil {
		t.Error("one network asks for as many as it likes")
	}
	c.Pass(2 * time.Hour)
	if err := r.People.SetDisabled(ctx, "test", "walt", true); err != nil {
		t.Fatal(err)
	}
	if err := errors.Join(ask(r, "walt", "203.0.113.5"), r.Recovery.Answer(ctx)); err != nil {
		t.Fatal(err)
	}
	if m := house.Mailed(t, r)[0]; m.Kind != message.RecoverDisabled || m.Link != "" {
		t.Errorf("%+v", m)
	}
}

// What was asked for before the process ended is answered after it.
func TestRecoveriesOutlastTheProcess(t *testing.T) {
	r, _, _ := house.Open(t)
	house.Add(t, r, people.NewAccount{Name: "walt", Email: "walt@marram.example", Password: "paint-and-lentil-soup"})
	if err := ask(r, "walt", "192.0.2.7"); err != nil {
		t.Fatal(err)
	}
	r = r.Start(t)
	if err := r.Recovery.Answer(ctx); err != nil || len(house.Mailed(t, r)) != 1 {
		t.Errorf("%d messages, %v", len(house.Mailed(t, r)), err)
	}
}

// An address counts when its owner has followed the link that was sent there; the one before is told, and can take it
// back.
func TestAnotherAddress(t *testing.T) {
	r, _, c := house.Open(t)
	r = r.Telling(t, message.PasswordChanged, message.AddressChanged)
	house.Add(t, r, people.NewAccount{Name: "walt", Email: "walt@marram.example", Password: "paint-and-lentil-soup"})
	house.Add(t, r, people.NewAccount{Name: "bo", Email: "bo@marram.example", Password: "kettle-moth-anvil"})
	token := house.SignInAs(t, r, "walt", "paint-and-lentil-soup")
	email := func() string {
		t.Helper()
		a, err := r.People.Find(ctx, "walt")
		if err != nil {
			t.Fatal(err)
		}
		return a.Email
	}
	if err := wish(r, token, "wrong", "new@marram.example"); err == nil || len(house.Mailed(t, r)) > 0 {
		t.Errorf("with a wrong password: %v", err)
	}
	if err := wish(r, token, "paint-and-lentil-soup", "WALT@marram.example"); !errors.Is(err, recovery.ErrSameAddress) {
		t.Errorf("the same address: %v", err)
	}
	for _, bad := range []string{"", "walt", "a@b@c", "x\r\ny@marram.example", "Walt <w@marram.example>"} {
		if err := wish(r, token, "paint-and-lentil-soup", bad); err == nil {
			t.Errorf("%q is taken as an address", bad)
		}
	}
	// Of somebody else: they are told, and whoever asks is told what everybody is told.
	if err := wish(r, token, "paint-and-lentil-soup", "bo@marram.example"); err != nil {
		t.Fatal(err)
	}
	if m := house.Mailed(t, r)[0]; m.Kind != message.AddressTaken || m.To != "bo@marram.example" || m.Link != "" {
		t.Errorf("%+v", m)
	}
	if err := wish(r, token, "paint-and-lentil-soup", "first@marram.example"); err != nil {
		t.Fatal(err)
	}
	first := house.TokenOf(t, house.Mailed(t, r)[0])
	if err := wish(r, token, "paint-and-lentil-soup", "new@marram.example"); err != nil {
		t.Fatal(err)
	}
	m := house.Mailed(t, r)[0]
	if m.Kind != message.AddressProve || m.To != "new@marram.example" || email() != "walt@marram.example" {
		t.Fatalf("%+v, and the address is %s", m, email())
	}
	if _, err := r.Recovery.MakeChange(ctx, first, numberOf(t, r, "walt"), "", ""); !errors.Is(err, people.ErrLink) {
		t.Errorf("the link of a wish before: %v", err)
	}
	if _, err := r.Recovery.MakeChange(ctx, house.TokenOf(t, m), numberOf(t, r, "walt"), "", ""); err != nil ||
		email() != "new@marram.example" {
		t.Fatalf("%v, and the address is %s", err, email())
	}
	if _, err := r.Recovery.MakeChange(ctx, house.TokenOf(t, m), numberOf(t, r, "walt"), "", ""); !errors.Is(err, people.ErrLink) {
		t.Errorf("twice: %v", err)
	}
	if !house.Alive(t, r, token) {
		t.Error("the session has ended")
	}
	told := house.Mailed(t, r)[0]
	if told.Kind != message.AddressChanged || told.To != "walt@marram.example" || told.Gaps["address"] != "new@marram.example" {
		t.Fatalf("%+v", told)
	}
	// A link to set the password that went to the address before counts no longer once it is taken back.
	if err := r.People.MailLink(ctx, "test", "walt"); err != nil {
		t.Fatal(err)
	}
	stolen := house.TokenOf(t, house.Mailed(t, r)[0])
	c.Pass(6 * 24 * time.Hour)
	if _, err := r.Recovery.MakeChange(ctx, house.TokenOf(t, told), numberOf(t, r, "walt"), "", ""); err != nil ||
		email() != "walt@marram.example" {
		t.Fatalf("%v, and the address is %s", err, email())
	}
	if house.Alive(t, r, token) {
		t.Error("whoever changed the address is still signed in")
	}
	if err := r.People.UseLink(ctx, stolen, "another-moth-anvil", "", ""); !errors.Is(err, people.ErrLink) {
		t.Errorf("the link that went to the other address: %v", err)
	}
}

// Who is signed in fills nobody's mailbox either.
func TestAddressesAreAskedForNowAndThen(t *testing.T) {
	r, _, _ := house.Open(t)
	house.Add(t, r, people.NewAccount{Name: "walt", Email: "walt@marram.example", Password: "paint-and-lentil-soup"})
	var slow *throttle.Slow
	for range 40 {
		if err := r.Recovery.AskChange(ctx, "walt", "victim@marram.example", "", ""); err != nil && !errors.As(err, &slow) {
			t.Fatal(err)
		}
	}
	n := 0
	for _, m := range house.Mailed(t, r) {
		if m.To == "victim@marram.example" {
			n++
		}
	}
	if slow == nil || n > 15 {
		t.Errorf("%d messages, %v", n, slow)
	}
}

// Two people who want the same address do not both get it, and an address that a steward has changed meanwhile is not
// overwritten.
func TestAddressesThatChangeMeanwhile(t *testing.T) {
	r, _, _ := house.Open(t)
	var links []string
	for _, name := range []string{"walt", "bo"} {
		house.Add(t, r, people.NewAccount{Name: name, Email: name + "@marram.example", Password: "paint-and-lentil-soup"})
		if err := r.Recovery.AskChange(ctx, name, "new@marram.example", "", ""); err != nil {
			t.Fatal(err)
		}
		links = append(links, house.TokenOf(t, house.Mailed(t, r)[0]))
	}
	if _, err := r.Recovery.MakeChange(ctx, links[0], numberOf(t, r, "walt"), "", ""); err != nil {
		t.Fatal(err)
	}
	if _, err := r.Recovery.MakeChange(ctx, links[1], numberOf(t, r, "bo"), "", ""); !errors.Is(err, people.ErrLink) {
		t.Errorf("the second: %v", err)
	}
	other := "b@marram.example"
	if err := r.Recovery.AskChange(ctx, "bo", "third@marram.example", "", ""); err != nil {
		t.Fatal(err)
	}
	link := house.TokenOf(t, house.Mailed(t, r)[0])
	if _, err := r.People.Edit(ctx, "test", "bo", people.Edit{Email: &other}); err != nil {
		t.Fatal(err)
	}
	if _, err := r.Recovery.Change(ctx, link); !errors.Is(err, people.ErrLink) {
		t.Errorf("after a steward's change: %v", err)
	}
}

// Who signs in with a browser that was not seen before is told so by mail, where the settings say that.
func TestSignInsAreTold(t *testing.T) {
	r, _, _ := house.Open(t)
	r = r.Telling(t, message.SignedIn)
	house.Add(t, r, people.NewAccount{Name: "walt", Email: "walt@marram.example", Password: "paint-and-lentil-soup"})
	from := sessions.Origin{Network: "192.0.2.7", Agent: "Mozilla/5.0 (X11; Linux x86_64; rv:140.0) Gecko/20100101 Firefox/140.0"}
	sign := func() string {
		in, err := r.SignIn.SignIn(ctx, "walt", "paint-and-lentil-soup", from, false)
		if err != nil {
			t.Fatal(err)
		}
		return in.Device
	}
	known := sign() // the first one ever says nothing new
	if len(house.Mailed(t, r)) > 0 {
		t.Errorf("%+v", house.Mailed(t, r))
	}
	sign()
	if m := house.Mailed(t, r); len(m) != 1 || m[0].Kind != message.SignedIn || m[0].Gaps["device"] != "Firefox on Linux" ||
		m[0].Gaps["network"] != "192.0.2.7" {
		t.Fatalf("%+v", m)
	}
	from.Device = known
	if sign(); len(house.Mailed(t, r)) != 1 {
		t.Error("a browser that is known is told of")
	}
}

// numberOf is the number of an account, whose owner is signed in.
func numberOf(t *testing.T, r *house.House, name string) int64 {
	t.Helper()
	a, err := r.People.Find(ctx, name)
	if err != nil {
		t.Fatal(err)
	}
	return a.ID
}

// The owner of an address hears of a change when it is asked for, and takes back whatever was done since: also two changes in a row, by
// somebody who has the password.
func TestTheFirstAddressTakesEverythingBack(t *testing.T) {
	r, _, c := house.Open(t)
	r = r.Telling(t, message.AddressChanged)
	house.Add(t, r, people.NewAccount{Name: "walt", Email: "walt@marram.example", Password: "paint-and-lentil-soup"})
	to := func(kind message.Kind, address string) string {
		t.Helper()
		for _, m := range house.Mailed(t, r) {
			if m.Kind == kind && m.To == address {
				return house.TokenOf(t, m)
			}
		}
		t.Fatalf("no %s to %s", kind, address)
		return ""
	}
	change := func(address string) {
		t.Helper()
		if err := r.Recovery.AskChange(ctx, "walt", address, "", ""); err != nil {
			t.Fatal(err)
		}
		c.Pass(time.Minute)
		if _, err := r.Recovery.MakeChange(ctx, to(message.AddressProve, address), numberOf(t, r, "walt"), "", ""); err != nil {
			t.Fatal(err)
		}
		c.Pass(time.Hour)
	}
	change("second@marram.example")
	asked, changed := to(message.AddressAsked, "walt@marram.example"), to(message.AddressChanged, "walt@marram.example")
	change("third@marram.example")
	theirs := to(message.AddressAsked, "second@marram.example")
	if err := r.Recovery.AskChange(ctx, "walt", "fourth@marram.example", "", ""); err != nil {
		t.Fatal(err)
	}
	waiting := to(message.AddressProve, "fourth@marram.example")
	if _, err := r.Recovery.MakeChange(ctx, changed, 0, "", ""); err != nil {
		t.Fatal(err)
	}
	if a, err := r.People.Find(ctx, "walt"); err != nil || a.Email != "walt@marram.example" {
		t.Errorf("%+v %v", a, err)
	}
	for what, token := range map[string]string{"of who came later": theirs, "that waited": waiting, "that was used": changed} {
		if _, err := r.Recovery.Change(ctx, token); !errors.Is(err, people.ErrLink) {
			t.Errorf("the link %s: %v", what, err)
		}
	}
	if _, err := r.Recovery.Change(ctx, asked); err != nil {
		t.Errorf("the one from before: %v", err)
	}
	// What was asked for is stopped before it is done, too.
	if err := r.Recovery.AskChange(ctx, "walt", "fifth@marram.example", "", ""); err != nil {
		t.Fatal(err)
	}
	waiting = to(message.AddressProve, "fifth@marram.example")
	if _, err := r.Recovery.MakeChange(ctx, to(message.AddressAsked, "walt@marram.example"), 0, "", ""); err != nil {
		t.Fatal(err)
	}
	if _, err := r.Recovery.MakeChange(ctx, waiting, numberOf(t, r, "walt"), "", ""); !errors.Is(err, people.ErrLink) {
		t.Errorf("what was stopped: %v", err)
	}
}

// A new address is proven by the owner of the account alone: whoever gets the mail of somebody else's wish proves nothing by following it.
func TestAddressesAreProvenByTheirOwner(t *testing.T) {
	r, _, _ := house.Open(t)
	for _, name := range []string{"mallory", "bob"} {
		house.Add(t, r, people.NewAccount{Name: name, Password: "paint-and-lentil-soup"})
	}
	if err := r.Recovery.AskChange(ctx, "mallory", "bob@marram.example", "", ""); err != nil {
		t.Fatal(err)
	}
	token := house.TokenOf(t, house.Mailed(t, r)[0])
	for what, owner := range map[string]int64{"nobody": 0, "bob": numberOf(t, r, "bob")} {
		if _, err := r.Recovery.MakeChange(ctx, token, owner, "", ""); !errors.Is(err, recovery.ErrOwner) {
			t.Errorf("by %s: %v", what, err)
		}
	}
	if a, _ := r.People.Find(ctx, "mallory"); a.Email != "" {
		t.Error("the address is proven")
	}
}
