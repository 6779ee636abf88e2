package events_test

import (
	"encoding/json"
	"errors"
	"fmt"
	"math/rand/v2"
	"strings"
	"sync"
	"testing"
	"time"

	kind "ostiarius/core/activity"
	"ostiarius/core/event"
	"ostiarius/core/message"
	"ostiarius/core/pass"
	"ostiarius/core/signature"
	"ostiarius/service/base/mistake"
	"ostiarius/service/rooms/house"
	"ostiarius/service/shop/events"
	"ostiarius/service/who/people"
	"ostiarius/service/who/sessions"
	"ostiarius/store"
)

// What is bought is there with the event, is extended from its end, runs out, and is taken back.
func TestMembershipIsBought(t *testing.T) {
	s := house.OpenShop(t)
	s.Proven("mo", "Mo@Marram.example")
	check := func(what, want string) {
		t.Helper()
		if got := s.Has("mo"); got != want {
			t.Errorf("%s: %q, want %q", what, got, want)
		}
	}
	if r := s.Tell(house.Paid("o1", "year")); r.State != event.Done || r.Problem != "" {
		t.Fatalf("%+v", r)
	}
	check("paid", "supporter 372")
	if m := s.Mails()[0]; m.Kind != message.Bought || m.To != "mo@marram.example" || m.Gaps["title"] != "A year of support" ||
		m.Gaps["account"] != "mo" || m.Gaps["reference"] != "o1" || m.Gaps["name"] != "Mo" {
		t.Errorf("%+v", m)
	}
	s.Clock.Pass(50 * 24 * time.Hour)
	s.Tell(house.Paid("o2", "year"))
	check("paid before the end", "supporter 687")
	if r := s.Tell(house.Paid("o2", "year")); r.State != event.Done || !strings.Contains(r.Problem, "nothing was given again") {
		t.Errorf("paid twice: %+v", r)
	}
	check("the same once more, under another number", "supporter 687")
	s.Tell(house.Told(event.Renewed, "o2"))
	check("renewed", "supporter 1052")
	s.Tell(house.Told(event.Cancelled, "o2"))
	check("cancelled", "supporter 1052")
	s.Tell(house.Told(event.Refunded, "o1"))
	check("the first refunded", "supporter 737")
	s.Tell(house.Told(event.Refunded, "o2"))
	check("all refunded", "")
	s.Tell(house.Paid("o3", "year"))
	s.Clock.Pass(372*24*time.Hour - time.Second)
	check("a second before the end", "supporter 0")
	s.Clock.Pass(time.Second)
	check("at the end", "friend 14")
	s.Tell(house.Paid("o4", "year"))
	check("paid after the end", "supporter 372")
	s.Clock.Pass(24 * time.Hour)
	s.Tell(house.Told(event.Lapsed, "o4"))
	check("lapsed", "supporter 7")
	if err := s.People.Revoke(ctx, "agnes", "mo", "supporter"); err != nil {
		t.Fatal(err)
	}
	check("taken by a steward", "")
	s.Tell(house.Told(event.Cancelled, "o4"))
	check("taken by a steward, and something else is told", "")
	s.Clock.Pass(time.Hour)
	s.Tell(house.Paid("o5", "year"))
	check("paid again", "supporter 372")
	if err := s.People.Grant(ctx, "agnes", "mo", "supporter", time.Time{}, time.Time{}); err != nil {
		t.Fatal(err)
	}
	s.Tell(house.Told(event.Refunded, "o5"))
	check("granted by hand, and refunded", "supporter")
}

// What comes after a role does not come back that a steward has taken.
func TestWhatComesAfterIsTaken(t *testing.T) {
	s := house.OpenShop(t)
	s.Proven("mo", "mo@marram.example")
	s.Tell(house.Paid("o1", "year"))
	s.Clock.Pass(373 * 24 * time.Hour)
	if has := s.Has("mo"); has != "friend 13" {
		t.Fatal(has)
	}
	if err := s.People.Revoke(ctx, "agnes", "mo", "friend"); err != nil {
		t.Fatal(err)
	}
	if s.Tell(house.Told(event.Cancelled, "o1")); s.Has("mo") != "" {
		t.Errorf("it is back: %s", s.Has("mo"))
	}
}

// An area opens in a session that is open, with the next request; and closes by the clock alone.
func TestAnAreaFollowsWhatWasPaid(t *testing.T) {
	s := house.OpenShop(t)
	s.Book = house.BookOf(t, house.Sold+"sessions: { idle: 0, lifetime: 0 }\n")
	s.House.Rooms = s.House.Start(t).Rooms
	s.Proven("mo", "mo@marram.example")
	in, err := s.SignIn.SignIn(ctx, "mo", "quiet-harbour-ledger", sessions.Origin{Network: "192.0.2.7"}, false)
	if err != nil {
		t.Fatal(err)
	}
	check := func(what, want string) {
		t.Helper()
		v, fresh, err := s.Sessions.Recognise(ctx, in.Token, nil)
		if fresh != nil { // as a browser is given it
			in.Token = fresh.Token
		}
		if err != nil || !v.SignedIn || strings.Join(v.Roles, " ") != want {
			t.Errorf("%s: %q, want %q, %v %v", what, v.Roles, want, v.SignedIn, err)
		}
	}
	check("joined", "")
	s.Tell(house.Paid("o1", "year"))
	check("paid", "supporter")
	s.Clock.Pass(372*24*time.Hour - time.Minute)
	check("a minute before the end", "supporter")
	s.Clock.Pass(time.Minute)
	check("at the end", "friend")
	s.Clock.Pass(14 * 24 * time.Hour)
	check("after what comes after", "")
	s.Tell(house.Paid("o2", "year"))
	check("paid again", "supporter")
	s.Tell(house.Told(event.Refunded, "o2"))
	check("refunded", "")
}

// A shop of another shape.
func TestAShopOfAnotherShape(t *testing.T) {
	s := house.OpenShop(t)
	s.Book = house.BookOf(t, house.Sold+"events:\n  fields: { type: /event, order: /sale/no, address: /sale/client/mail, items: "+
		"/sale/lines, item: /sku, number: /qty }\n  types: { sale.settled: paid, sale.returned: refunded }\n")
	s.House.Rooms = s.House.Start(t).Rooms
	for i, body := range []string{
		`{"event":"sale.settled","sale":{"no":7,"client":{"mail":"mo@marram.example"},"lines":[{"sku":"bell","qty":2}]}}`,
		`{"event":"sale.parked","sale":{"no":7}}`, `{"event":"paid","sale":{"no":8}}`,
	} {
		if err := s.Deliver(fmt.Sprint("m", i), body); err != nil {
			t.Fatal(err)
		}
	}
	if err := s.Events.CarryOut(ctx); err != nil {
		t.Fatal(err)
	}
	_, counts, err := s.Events.List(ctx, store.EventsQuery{Limit: 1})
	if err != nil || counts[event.Done] != 1 || counts[event.Ignored] != 2 || len(s.Given()) != 1 || s.Given()[0].Allowed != 6 ||
		s.Given()[0].Reference != "7" {
		t.Errorf("%v %v %+v", counts, err, s.Given())
	}
}

// Passes are sent, prolonged and taken back as what was paid for them.
func TestPassIsBought(t *testing.T) {
	s := house.OpenShop(t)
	s.Tell(house.Paid("o1", "bell"))
	all, mails := s.Given(), s.Mails()
	if len(all) != 1 || all[0].Address != "mo@marram.example" || all[0].Reference != "o1" || all[0].Allowed != 3 ||
		strings.Join(all[0].Paths, " ") != "/recordings/bell" || len(mails) != 1 || mails[0].Kind != message.PassIssued {
		t.Fatalf("%+v %+v", all, mails)
	}
	s.Clock.Pass(house.Week)
	s.Tell(house.Told(event.Renewed, "o1"))
	if p := s.Given()[0]; p.Allowed != 6 || !p.Until.Equal(s.Clock.Now().Add(3*house.Week)) {
		t.Errorf("renewed: %+v", p)
	}
	twice := house.Paid("o2", "bell")
	twice.Items[0].Number = 2
	s.Tell(twice)
	if p := s.Given()[0]; p.Allowed != 6 || p.Reference != "o2" {
		t.Errorf("two: %+v", p)
	}
	s.Tell(house.Told(event.Refunded, "o1"))
	states := map[string]pass.State{}
	for _, p := range s.Given() {
		states[p.Reference] = s.Passes.StateOf(p)
	}
	if states["o1"] != pass.Revoked || states["o2"] != pass.Waiting {
		t.Errorf("the first refunded: %v", states)
	}
	s.Tell(house.Told(event.Lapsed, "o2"))
	if state := s.Passes.StateOf(s.Given()[0]); state != pass.Ended {
		t.Errorf("lapsed: %v", state)
	}
	s.Tell(house.Paid("o3", "month-of-bells"))
	s.Clock.Pass(house.Week)
	s.Tell(house.Paid("o4", "month-of-bells"))
	if p := s.Given()[0]; !p.Until.Equal(s.Clock.Now().Add(60*24*time.Hour - house.Week)) {
		t.Errorf("paid before the end: until %v", p.Until)
	}
	s.Tell(house.Told(event.Refunded, "o5"))
	before := len(s.Mails())
	if r := s.Tell(house.Paid("o5", "bell")); r.State != event.Done || len(s.Mails()) != before {
		t.Errorf("refunded before it was paid for: %+v", r)
	}
}

// Whose address is not proven gets nothing by itself, but by the link that is sent there.
func TestWhoGetsWhatWasBought(t *testing.T) {
	s := house.OpenShop(t)
	if _, err := s.People.Add(ctx, "test",
		people.NewAccount{Name: "mo", Email: "mo@marram.example", Password: "seven-brass-prisms"}); err != nil {
		t.Fatal(err)
	}
	s.Tell(house.Paid("o1", "year"))
	if has := s.Has("mo"); has != "" {
		t.Errorf("an address that somebody has typed: %s", has)
	}
	m := s.Mails()[0]
	if m.Kind != message.BoughtClaim || m.To != "mo@marram.example" || !strings.HasPrefix(m.Link, "/door/claim?link=") {
		t.Fatalf("%+v", m)
	}
	_, link, _ := strings.Cut(m.Link, "link=")
	if _, err := s.Joining.TakeAlong(ctx, link, "Ines", "192.0.2.7"); err != nil { // she reads that mail
		t.Fatal(err)
	}
	if s.Has("Ines") != "keeper, supporter 372" || s.Has("mo") != "" {
		t.Errorf("%s; %s", s.Has("Ines"), s.Has("mo"))
	}
	if _, err := s.Joining.TakeAlong(ctx, link, "mo", "192.0.2.7"); err == nil {
		t.Error("a link is followed twice")
	}
	// Their own address, by such a link: from then on by itself.
	s.Tell(house.Paid("o2", "year"))
	_, link, _ = strings.Cut(s.Mails()[0].Link, "link=")
	if _, err := s.Joining.TakeAlong(ctx, link, "mo", "192.0.2.7"); err != nil || s.Has("mo") != "supporter 372" {
		t.Errorf("%s %v", s.Has("mo"), err)
	}
	s.Tell(house.Paid("o3", "year"))
	if s.Has("mo") != "supporter 737" || s.Mails()[0].Kind != message.Bought {
		t.Errorf("%s", s.Has("mo"))
	}
	// Another address is not proven.
	other := "other@marram.example"
	if _, err := s.People.Edit(ctx, "test", "mo", people.Edit{Email: &other}); err != nil {
		t.Fatal(err)
	}
	elsewhere := house.Paid("o4", "year")
	elsewhere.Buyer.Address = other
	if s.Tell(elsewhere); s.Has("mo") != "supporter 737" {
		t.Errorf("with another address: %s", s.Has("mo"))
	}
	// By the name of the account, as the shop says.
	named := house.Paid("o5", "both")
	named.Buyer = event.Buyer{Account: "MO", Address: "somebody@else.example"}
	if s.Tell(named); s.Has("mo") != "friend, supporter 737" || s.Given()[0].Address != "somebody@else.example" {
		t.Errorf("by name: %s", s.Has("mo"))
	}
	nobody := house.Paid("o6", "year")
	nobody.Buyer = event.Buyer{Account: "nobody"}
	if r := s.Tell(nobody); r.State != event.Kept {
		t.Errorf("an unknown account: %+v", r)
	}
}

// What cannot be carried out is kept, and can be later.
func TestEventsAreKept(t *testing.T) {
	s := house.OpenShop(t)
	s.Proven("mo", "mo@marram.example")
	for _, c := range []struct{ what, why string }{{"bells", `no item "bells"`}, {"", "no address"}} {
		e := house.Paid("k"+c.what, c.what)
		if c.what == "" {
			e = house.Paid("k", "year")
			e.Buyer = event.Buyer{}
		}
		if r := s.Tell(e); r.State != event.Kept || !strings.Contains(r.Problem, c.why) {
			t.Errorf("%q: %+v", c.what, r)
		}
	}
	if r := s.Tell(house.Told(event.Renewed, "o1")); r.State != event.Kept {
		t.Errorf("renewed before it was paid for, without anything else: %+v", r)
	}
	if remarks, err := s.Events.Remarks(ctx); err != nil || len(remarks) != 1 || !strings.HasPrefix(remarks[0], "3 events") {
		t.Errorf("%v %v", remarks, err)
	}
	s.Tell(house.Paid("o1", "year"))
	if s.Has("mo") != "supporter 737" {
		t.Errorf("renewed and then paid: %s", s.Has("mo"))
	}
	all, counts, err := s.Events.List(ctx, store.EventsQuery{State: event.Kept, Limit: 10})
	if err != nil || counts[event.Kept] != 2 || len(all) != 2 {
		t.Fatal(all, counts, err)
	}
	bells := all[1]
	var wrong *mistake.Error
	if err := s.Events.Retry(ctx, "agnes", bells.ID); !errors.As(err, &wrong) {
		t.Errorf("tried again: %v", err)
	}
	s.Book = house.BookOf(t, strings.Replace(house.Sold, "  bell:", "  bells:", 1))
	s.House.Rooms = s.House.Start(t).Rooms
	if err := s.Events.Retry(ctx, "agnes", bells.ID); err != nil || len(s.Given()) != 1 {
		t.Errorf("tried again when there is such an item: %v", err)
	}
	if err := s.Events.Retry(ctx, "agnes", bells.ID); !errors.As(err, &wrong) || len(s.Given()) != 1 {
		t.Errorf("and once more: %v", err)
	}
}

// Nothing is taken that is not signed rightly, and the same is taken once.
func TestEventsAreSigned(t *testing.T) {
	s := house.OpenShop(t)
	body := `{"type":"paid","order":"o1","buyer":{"address":"mo@marram.example"},"items":[{"item":"bell"}]}`
	for range 3 {
		if err := s.Deliver("m1", body); err != nil {
			t.Fatal(err)
		}
		if err := s.Events.CarryOut(ctx); err != nil {
			t.Fatal(err)
		}
	}
	if len(s.Given()) != 1 || len(s.Mails()) != 1 {
		t.Errorf("%d passes, %d mails", len(s.Given()), len(s.Mails()))
	}
	theirs := signature.NewSecret()
	now := s.Clock.Now()
	for what, h := range map[string]signature.Head{
		"forged": {ID: "m2", Timestamp: fmt.Sprint(now.Unix()), Signature: theirs.Sign("m2", now, []byte(body))},
		"late":   {ID: "m2", Timestamp: fmt.Sprint(now.Unix() - 301), Signature: s.Secret.Sign("m2", now.Add(-301*time.Second), []byte(body))},
		"bare":   {},
	} {
		if err := s.Events.Take(ctx, h, []byte(body), "192.0.2.80"); !errors.Is(err, events.ErrRefused) {
			t.Errorf("%s: %v", what, err)
		}
	}
	if err := s.Deliver("m3", `{"type":"paid"`); !errors.Is(err, events.ErrRefused) {
		t.Errorf("malformed: %v", err)
	}
	found, _, err := s.Activity.Events(ctx, store.ActivityQuery{Kind: string(kind.EventRefused), Limit: 10})
	if err != nil || len(found) != 4 {
		t.Errorf("recorded: %+v %v", found, err)
	}
	// Both secrets count for a day.
	before := s.Secret
	text, err := s.Events.AddSecret(ctx, "agnes", "", 24*time.Hour)
	if err != nil {
		t.Fatal(err)
	}
	if err := s.Deliver("m4", body); err != nil {
		t.Errorf("with the secret before: %v", err)
	}
	if s.Secret, err = signature.ReadSecret(text); err != nil {
		t.Fatal(err)
	}
	if err := s.Deliver("m5", body); err != nil {
		t.Errorf("with the new secret: %v", err)
	}
	s.Clock.Pass(24 * time.Hour)
	after := s.Secret
	if s.Secret = before; s.Deliver("m6", body) == nil {
		t.Error("a secret counts after its end")
	}
	all, err := s.Events.Secrets(ctx)
	if err != nil || len(all) != 1 || all[0].Secret != after {
		t.Fatal(all, err)
	}
	if err := s.Events.RemoveSecret(ctx, "agnes", all[0].ID); err != nil {
		t.Fatal(err)
	}
	if s.Secret = after; s.Deliver("m7", body) == nil {
		t.Error("a secret counts that was removed")
	}
	for _, e := range found {
		if strings.Contains(e.Detail, "whsec_") {
			t.Errorf("a secret is recorded: %+v", e)
		}
	}
}

// However events arrive, many at once, twice, in any order, they come to the same, and each payment brings one message.
func TestEventsAtOnceAndInAnyOrder(t *testing.T) {
	want := ""
	for round := range 6 {
		s := house.OpenShop(t)
		s.Proven("mo", "mo@marram.example")
		before := len(s.Mails())
		start := s.Clock.Now()
		var bodies []string
		add := func(day int, e event.Event) {
			e.At = start.Add(time.Duration(day) * 24 * time.Hour)
			body, _ := json.Marshal(e)
			bodies = append(bodies, string(body))
		}
		again := house.Paid("o2", "year")
		again.Type = event.Renewed
		add(1, house.Paid("o1", "year"))
		add(20, house.Told(event.Refunded, "o1"))
		add(3, house.Paid("o2", "year"))
		add(30, again)
		add(5, house.Paid("o3", "year"))
		add(25, house.Told(event.Lapsed, "o3"))
		add(6, house.Paid("o4", "bell"))
		add(8, house.Told(event.Cancelled, "o4"))
		s.Clock.Pass(40 * 24 * time.Hour)
		rand.New(rand.NewPCG(uint64(round), 7)).Shuffle(len(bodies), func(i, j int) { bodies[i], bodies[j] = bodies[j], bodies[i] })
		var all sync.WaitGroup
		for i, body := range bodies {
			for range 3 {
				all.Go(func() {
					if err := s.Deliver(fmt.Sprint("m", i), body); err != nil {
						t.Error(err)
					}
					if err := s.Events.CarryOut(ctx); err != nil {
						t.Error(err)
					}
				})
			}
		}
		all.Wait()
		if err := s.Events.CarryOut(ctx); err != nil {
			t.Fatal(err)
		}
		got := fmt.Sprintf("%s; %d passes", s.Has("mo"), len(s.Given()))
		if want == "" {
			want = got
		}
		if got != want || len(s.Given()) != 1 || got == "; 1 passes" {
			t.Errorf("round %d: %s, and before %s", round, got, want)
		}
		if n := len(s.Mails()) - before; n > 5 || n < 3 {
			t.Errorf("round %d: %d messages for four payments and a renewal", round, n)
		}
	}
}
