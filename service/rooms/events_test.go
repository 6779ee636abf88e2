package rooms

import (
	"encoding/json"
	"errors"
	"fmt"
	"math/rand/v2"
	"strings"
	"sync"
	"testing"
	"time"

	"ostiarius/core/account"
	kind "ostiarius/core/activity"
	"ostiarius/core/event"
	"ostiarius/core/message"
	"ostiarius/core/pass"
	"ostiarius/core/signature"
	"ostiarius/service/events"
	"ostiarius/service/mistake"
	"ostiarius/service/people"
	"ostiarius/service/sessions"
	"ostiarius/store"
)

const sold = `roles: { friend: , supporter: { includes: friend } }
passes: { recordings: { title: Sound recordings, lasts: 14d, downloads: 3 } }
items:
  bell: { title: The fog bell, pass: recordings, path: /recordings/bell/** }
  month-of-bells: { pass: recordings, for: 30d }
  year: { title: A year of support, role: supporter, for: 365d, grace: 7d, after: { role: friend, for: 14d } }
  both: { role: friend, pass: recordings }
reminders: [14d, 2d]
doors:
  - { path: /recordings/**, admit: { any: [ { pass: recordings }, { role: supporter } ] } }
  - { path: /, admit: public }
`

const week = 7 * 24 * time.Hour

// A shop sells what the house has.
type shop struct {
	*house
	t      testing.TB
	clock  *clock
	secret signature.Secret
	sent   int
}

func openShop(t testing.TB) *shop {
	t.Helper()
	h, _, c := open(t)
	h.book = bookOf(t, sold)
	h = h.start(t)
	text, err := h.Events.AddSecret(ctx, "test", "", -1)
	if err != nil {
		t.Fatal(err)
	}
	secret, err := signature.ReadSecret(text)
	if err != nil {
		t.Fatal(err)
	}
	return &shop{house: h, t: t, clock: c, secret: secret}
}

// deliver brings a body, signed, under a number.
func (s *shop) deliver(id, body string) error {
	now := s.clock.Now()
	return s.Events.Take(ctx, signature.Head{ID: id, Timestamp: fmt.Sprint(now.Unix()), Signature: s.secret.Sign(id, now, []byte(body))}, []byte(body), "192.0.2.80")
}

// tell tells what happened, and has it carried out. The event is returned as it is then.
func (s *shop) tell(e event.Event) event.Record {
	s.t.Helper()
	body, err := json.Marshal(e)
	if err != nil {
		s.t.Fatal(err)
	}
	s.sent++
	if err := s.deliver(fmt.Sprint("m", s.sent), string(body)); err != nil {
		s.t.Fatal(err)
	}
	if err := s.Events.CarryOut(ctx); err != nil {
		s.t.Fatal(err)
	}
	all, _, err := s.Events.List(ctx, store.EventsQuery{Limit: 1})
	if err != nil || len(all) != 1 {
		s.t.Fatal(all, err)
	}
	return all[0]
}

func paid(order, item string) event.Event {
	return event.Event{Type: event.Paid, Order: order, Buyer: event.Buyer{Address: "mo@marram.example", Name: "Mo"}, Items: []event.Item{{Item: item}}}
}

func told(of event.Type, order string) event.Event { return event.Event{Type: of, Order: order} }

// proven makes an account whose owner has followed a link that was sent to its address.
func (s *shop) proven(name, address string) *account.Account {
	s.t.Helper()
	if _, err := s.People.Add(ctx, "test", people.NewAccount{Name: name, Email: address, Password: "seven-brass-prisms"}); err != nil {
		s.t.Fatal(err)
	}
	if err := s.People.MailLink(ctx, "test", name); err != nil {
		s.t.Fatal(err)
	}
	_, link, _ := strings.Cut(s.mails()[0].Link, "link=")
	if err := s.People.UseLink(ctx, link, "quiet-harbour-ledger", "192.0.2.7", ""); err != nil {
		s.t.Fatal(err)
	}
	return s.find(name)
}

func (s *shop) find(name string) *account.Account {
	s.t.Helper()
	a, err := s.People.Find(ctx, name)
	if err != nil {
		s.t.Fatal(err)
	}
	return a
}

// mails are the messages that wait, the newest first.
func (s *shop) mails() []message.Message {
	s.t.Helper()
	all, _, err := s.Mail.List(ctx, store.MessageQuery{Limit: 1000})
	if err != nil {
		s.t.Fatal(err)
	}
	return all
}

func (s *shop) passes() []*pass.Pass {
	s.t.Helper()
	all, err := s.Passes.List(ctx, store.PassQuery{Limit: 1000}, "")
	if err != nil {
		s.t.Fatal(err)
	}
	return all
}

// has says what an account has now, and until when: days from now.
func (s *shop) has(name string) string {
	s.t.Helper()
	now := s.clock.Now()
	var all []string
	for _, g := range s.find(name).Grants {
		switch {
		case !g.Active(now):
		case g.Until.IsZero():
			all = append(all, g.Role)
		default:
			all = append(all, fmt.Sprintf("%s %.0f", g.Role, g.Until.Sub(now).Hours()/24))
		}
	}
	return strings.Join(all, ", ")
}

// What is bought is there with the event, is extended from its end, runs out, and is taken back.
func TestMembershipIsBought(t *testing.T) {
	s := openShop(t)
	s.proven("mo", "Mo@Marram.example")
	check := func(what, want string) {
		t.Helper()
		if got := s.has("mo"); got != want {
			t.Errorf("%s: %q, want %q", what, got, want)
		}
	}
	if r := s.tell(paid("o1", "year")); r.State != event.Done || r.Problem != "" {
		t.Fatalf("%+v", r)
	}
	check("paid", "supporter 372")
	if m := s.mails()[0]; m.Kind != message.Bought || m.To != "mo@marram.example" || m.Gaps["title"] != "A year of support" || m.Gaps["account"] != "mo" || m.Gaps["reference"] != "o1" || m.Gaps["name"] != "Mo" {
		t.Errorf("%+v", m)
	}
	s.clock.pass(50 * 24 * time.Hour)
	s.tell(paid("o2", "year"))
	check("paid before the end", "supporter 687")
	if r := s.tell(paid("o2", "year")); r.State != event.Done || !strings.Contains(r.Problem, "nothing was given again") {
		t.Errorf("paid twice: %+v", r)
	}
	check("the same once more, under another number", "supporter 687")
	s.tell(told(event.Renewed, "o2"))
	check("renewed", "supporter 1052")
	s.tell(told(event.Cancelled, "o2"))
	check("cancelled", "supporter 1052")
	s.tell(told(event.Refunded, "o1"))
	check("the first refunded", "supporter 737")
	s.tell(told(event.Refunded, "o2"))
	check("all refunded", "")
	s.tell(paid("o3", "year"))
	s.clock.pass(372*24*time.Hour - time.Second)
	check("a second before the end", "supporter 0")
	s.clock.pass(time.Second)
	check("at the end", "friend 14")
	s.tell(paid("o4", "year"))
	check("paid after the end", "supporter 372")
	s.clock.pass(24 * time.Hour)
	s.tell(told(event.Lapsed, "o4"))
	check("lapsed", "supporter 7")
	if err := s.People.Revoke(ctx, "agnes", "mo", "supporter"); err != nil {
		t.Fatal(err)
	}
	check("taken by a steward", "")
	s.tell(told(event.Cancelled, "o4"))
	check("taken by a steward, and something else is told", "")
	s.clock.pass(time.Hour)
	s.tell(paid("o5", "year"))
	check("paid again", "supporter 372")
	if err := s.People.Grant(ctx, "agnes", "mo", "supporter", time.Time{}, time.Time{}); err != nil {
		t.Fatal(err)
	}
	s.tell(told(event.Refunded, "o5"))
	check("granted by hand, and refunded", "supporter")
}

// What comes after a role does not come back that a steward has taken.
func TestWhatComesAfterIsTaken(t *testing.T) {
	s := openShop(t)
	s.proven("mo", "mo@marram.example")
	s.tell(paid("o1", "year"))
	s.clock.pass(373 * 24 * time.Hour)
	if has := s.has("mo"); has != "friend 13" {
		t.Fatal(has)
	}
	if err := s.People.Revoke(ctx, "agnes", "mo", "friend"); err != nil {
		t.Fatal(err)
	}
	if s.tell(told(event.Cancelled, "o1")); s.has("mo") != "" {
		t.Errorf("it is back: %s", s.has("mo"))
	}
}

// An area opens in a session that is open, with the next request; and closes by the clock alone.
func TestAnAreaFollowsWhatWasPaid(t *testing.T) {
	s := openShop(t)
	s.book = bookOf(t, sold+"sessions: { idle: 0, lifetime: 0 }\n")
	s.house.Rooms = s.house.start(t).Rooms
	s.proven("mo", "mo@marram.example")
	in, err := s.Desk.SignIn(ctx, "mo", "quiet-harbour-ledger", sessions.Origin{Network: "192.0.2.7"}, false)
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
	s.tell(paid("o1", "year"))
	check("paid", "supporter")
	s.clock.pass(372*24*time.Hour - time.Minute)
	check("a minute before the end", "supporter")
	s.clock.pass(time.Minute)
	check("at the end", "friend")
	s.clock.pass(14 * 24 * time.Hour)
	check("after what comes after", "")
	s.tell(paid("o2", "year"))
	check("paid again", "supporter")
	s.tell(told(event.Refunded, "o2"))
	check("refunded", "")
}

// A shop of another shape.
func TestAShopOfAnotherShape(t *testing.T) {
	s := openShop(t)
	s.book = bookOf(t, sold+"events:\n  fields: { type: /event, order: /sale/no, address: /sale/client/mail, items: /sale/lines, item: /sku, number: /qty }\n  types: { sale.settled: paid, sale.returned: refunded }\n")
	s.house.Rooms = s.house.start(t).Rooms
	for i, body := range []string{
		`{"event":"sale.settled","sale":{"no":7,"client":{"mail":"mo@marram.example"},"lines":[{"sku":"bell","qty":2}]}}`, `{"event":"sale.parked","sale":{"no":7}}`, `{"event":"paid","sale":{"no":8}}`,
	} {
		if err := s.deliver(fmt.Sprint("m", i), body); err != nil {
			t.Fatal(err)
		}
	}
	if err := s.Events.CarryOut(ctx); err != nil {
		t.Fatal(err)
	}
	_, counts, err := s.Events.List(ctx, store.EventsQuery{Limit: 1})
	if err != nil || counts[event.Done] != 1 || counts[event.Ignored] != 2 || len(s.passes()) != 1 || s.passes()[0].Allowed != 6 || s.passes()[0].Reference != "7" {
		t.Errorf("%v %v %+v", counts, err, s.passes())
	}
}

// Passes are sent, prolonged and taken back as what was paid for them.
func TestPassIsBought(t *testing.T) {
	s := openShop(t)
	s.tell(paid("o1", "bell"))
	all, mails := s.passes(), s.mails()
	if len(all) != 1 || all[0].Address != "mo@marram.example" || all[0].Reference != "o1" || all[0].Allowed != 3 || strings.Join(all[0].Paths, " ") != "/recordings/bell" || len(mails) != 1 || mails[0].Kind != message.PassIssued {
		t.Fatalf("%+v %+v", all, mails)
	}
	s.clock.pass(week)
	s.tell(told(event.Renewed, "o1"))
	if p := s.passes()[0]; p.Allowed != 6 || !p.Until.Equal(s.clock.Now().Add(3*week)) {
		t.Errorf("renewed: %+v", p)
	}
	twice := paid("o2", "bell")
	twice.Items[0].Number = 2
	s.tell(twice)
	if p := s.passes()[0]; p.Allowed != 6 || p.Reference != "o2" {
		t.Errorf("two: %+v", p)
	}
	s.tell(told(event.Refunded, "o1"))
	states := map[string]pass.State{}
	for _, p := range s.passes() {
		states[p.Reference] = s.Passes.StateOf(p)
	}
	if states["o1"] != pass.Revoked || states["o2"] != pass.Waiting {
		t.Errorf("the first refunded: %v", states)
	}
	s.tell(told(event.Lapsed, "o2"))
	if state := s.Passes.StateOf(s.passes()[0]); state != pass.Ended {
		t.Errorf("lapsed: %v", state)
	}
	s.tell(paid("o3", "month-of-bells"))
	s.clock.pass(week)
	s.tell(paid("o4", "month-of-bells"))
	if p := s.passes()[0]; !p.Until.Equal(s.clock.Now().Add(60*24*time.Hour - week)) {
		t.Errorf("paid before the end: until %v", p.Until)
	}
	s.tell(told(event.Refunded, "o5"))
	before := len(s.mails())
	if r := s.tell(paid("o5", "bell")); r.State != event.Done || len(s.mails()) != before {
		t.Errorf("refunded before it was paid for: %+v", r)
	}
}

// Whose address is not proven gets nothing by itself, but by the link that is sent there.
func TestWhoGetsWhatWasBought(t *testing.T) {
	s := openShop(t)
	if _, err := s.People.Add(ctx, "test", people.NewAccount{Name: "mo", Email: "mo@marram.example", Password: "seven-brass-prisms"}); err != nil {
		t.Fatal(err)
	}
	s.tell(paid("o1", "year"))
	if has := s.has("mo"); has != "" {
		t.Errorf("an address that somebody has typed: %s", has)
	}
	m := s.mails()[0]
	if m.Kind != message.BoughtClaim || m.To != "mo@marram.example" || !strings.HasPrefix(m.Link, "/door/claim?link=") {
		t.Fatalf("%+v", m)
	}
	_, link, _ := strings.Cut(m.Link, "link=")
	if _, err := s.Joining.TakeAlong(ctx, link, "Ines", "192.0.2.7"); err != nil { // she reads that mail
		t.Fatal(err)
	}
	if s.has("Ines") != "keeper, supporter 372" || s.has("mo") != "" {
		t.Errorf("%s; %s", s.has("Ines"), s.has("mo"))
	}
	if _, err := s.Joining.TakeAlong(ctx, link, "mo", "192.0.2.7"); err == nil {
		t.Error("a link is followed twice")
	}
	// Their own address, by such a link: from then on by itself.
	s.tell(paid("o2", "year"))
	_, link, _ = strings.Cut(s.mails()[0].Link, "link=")
	if _, err := s.Joining.TakeAlong(ctx, link, "mo", "192.0.2.7"); err != nil || s.has("mo") != "supporter 372" {
		t.Errorf("%s %v", s.has("mo"), err)
	}
	s.tell(paid("o3", "year"))
	if s.has("mo") != "supporter 737" || s.mails()[0].Kind != message.Bought {
		t.Errorf("%s", s.has("mo"))
	}
	// Another address is not proven.
	other := "other@marram.example"
	if _, err := s.People.Edit(ctx, "test", "mo", people.Edit{Email: &other}); err != nil {
		t.Fatal(err)
	}
	elsewhere := paid("o4", "year")
	elsewhere.Buyer.Address = other
	if s.tell(elsewhere); s.has("mo") != "supporter 737" {
		t.Errorf("with another address: %s", s.has("mo"))
	}
	// By the name of the account, as the shop says.
	named := paid("o5", "both")
	named.Buyer = event.Buyer{Account: "MO", Address: "somebody@else.example"}
	if s.tell(named); s.has("mo") != "friend, supporter 737" || s.passes()[0].Address != "somebody@else.example" {
		t.Errorf("by name: %s", s.has("mo"))
	}
	nobody := paid("o6", "year")
	nobody.Buyer = event.Buyer{Account: "nobody"}
	if r := s.tell(nobody); r.State != event.Kept {
		t.Errorf("an unknown account: %+v", r)
	}
}

// What cannot be carried out is kept, and can be later.
func TestEventsAreKept(t *testing.T) {
	s := openShop(t)
	s.proven("mo", "mo@marram.example")
	for _, c := range []struct{ what, why string }{{"bells", `no item "bells"`}, {"", "no address"}} {
		e := paid("k"+c.what, c.what)
		if c.what == "" {
			e = paid("k", "year")
			e.Buyer = event.Buyer{}
		}
		if r := s.tell(e); r.State != event.Kept || !strings.Contains(r.Problem, c.why) {
			t.Errorf("%q: %+v", c.what, r)
		}
	}
	if r := s.tell(told(event.Renewed, "o1")); r.State != event.Kept {
		t.Errorf("renewed before it was paid for, without anything else: %+v", r)
	}
	if remarks, err := s.Events.Remarks(ctx); err != nil || len(remarks) != 1 || !strings.HasPrefix(remarks[0], "3 events") {
		t.Errorf("%v %v", remarks, err)
	}
	s.tell(paid("o1", "year"))
	if s.has("mo") != "supporter 737" {
		t.Errorf("renewed and then paid: %s", s.has("mo"))
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
	s.book = bookOf(t, strings.Replace(sold, "  bell:", "  bells:", 1))
	s.house.Rooms = s.house.start(t).Rooms
	if err := s.Events.Retry(ctx, "agnes", bells.ID); err != nil || len(s.passes()) != 1 {
		t.Errorf("tried again when there is such an item: %v", err)
	}
	if err := s.Events.Retry(ctx, "agnes", bells.ID); !errors.As(err, &wrong) || len(s.passes()) != 1 {
		t.Errorf("and once more: %v", err)
	}
}

// Nothing is taken that is not signed rightly, and the same is taken once.
func TestEventsAreSigned(t *testing.T) {
	s := openShop(t)
	body := `{"type":"paid","order":"o1","buyer":{"address":"mo@marram.example"},"items":[{"item":"bell"}]}`
	for range 3 {
		if err := s.deliver("m1", body); err != nil {
			t.Fatal(err)
		}
		if err := s.Events.CarryOut(ctx); err != nil {
			t.Fatal(err)
		}
	}
	if len(s.passes()) != 1 || len(s.mails()) != 1 {
		t.Errorf("%d passes, %d mails", len(s.passes()), len(s.mails()))
	}
	theirs := signature.NewSecret()
	now := s.clock.Now()
	for what, h := range map[string]signature.Head{
		"forged": {ID: "m2", Timestamp: fmt.Sprint(now.Unix()), Signature: theirs.Sign("m2", now, []byte(body))},
		"late":   {ID: "m2", Timestamp: fmt.Sprint(now.Unix() - 301), Signature: s.secret.Sign("m2", now.Add(-301*time.Second), []byte(body))},
		"bare":   {},
	} {
		if err := s.Events.Take(ctx, h, []byte(body), "192.0.2.80"); !errors.Is(err, events.ErrRefused) {
			t.Errorf("%s: %v", what, err)
		}
	}
	if err := s.deliver("m3", `{"type":"paid"`); !errors.Is(err, events.ErrRefused) {
		t.Errorf("malformed: %v", err)
	}
	found, _, err := s.Activity.Events(ctx, store.EventQuery{Kind: string(kind.EventRefused), Limit: 10})
	if err != nil || len(found) != 4 {
		t.Errorf("recorded: %+v %v", found, err)
	}
	// Both secrets count for a day.
	before := s.secret
	text, err := s.Events.AddSecret(ctx, "agnes", "", 24*time.Hour)
	if err != nil {
		t.Fatal(err)
	}
	if err := s.deliver("m4", body); err != nil {
		t.Errorf("with the secret before: %v", err)
	}
	if s.secret, err = signature.ReadSecret(text); err != nil {
		t.Fatal(err)
	}
	if err := s.deliver("m5", body); err != nil {
		t.Errorf("with the new secret: %v", err)
	}
	s.clock.pass(24 * time.Hour)
	after := s.secret
	if s.secret = before; s.deliver("m6", body) == nil {
		t.Error("a secret counts after its end")
	}
	all, err := s.Events.Secrets(ctx)
	if err != nil || len(all) != 1 || all[0].Secret != after {
		t.Fatal(all, err)
	}
	if err := s.Events.RemoveSecret(ctx, "agnes", all[0].ID); err != nil {
		t.Fatal(err)
	}
	if s.secret = after; s.deliver("m7", body) == nil {
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
		s := openShop(t)
		s.proven("mo", "mo@marram.example")
		before := len(s.mails())
		start := s.clock.Now()
		var bodies []string
		add := func(day int, e event.Event) {
			e.At = start.Add(time.Duration(day) * 24 * time.Hour)
			body, _ := json.Marshal(e)
			bodies = append(bodies, string(body))
		}
		again := paid("o2", "year")
		again.Type = event.Renewed
		add(1, paid("o1", "year"))
		add(20, told(event.Refunded, "o1"))
		add(3, paid("o2", "year"))
		add(30, again)
		add(5, paid("o3", "year"))
		add(25, told(event.Lapsed, "o3"))
		add(6, paid("o4", "bell"))
		add(8, told(event.Cancelled, "o4"))
		s.clock.pass(40 * 24 * time.Hour)
		rand.New(rand.NewPCG(uint64(round), 7)).Shuffle(len(bodies), func(i, j int) { bodies[i], bodies[j] = bodies[j], bodies[i] })
		var all sync.WaitGroup
		for i, body := range bodies {
			for range 3 {
				all.Go(func() {
					if err := s.deliver(fmt.Sprint("m", i), body); err != nil {
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
		got := fmt.Sprintf("%s; %d passes", s.has("mo"), len(s.passes()))
		if want == "" {
			want = got
		}
		if got != want || len(s.passes()) != 1 || got == "; 1 passes" {
			t.Errorf("round %d: %s, and before %s", round, got, want)
		}
		if n := len(s.mails()) - before; n > 5 || n < 3 {
			t.Errorf("round %d: %d messages for four payments and a renewal", round, n)
		}
	}
}
