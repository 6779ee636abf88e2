package house

import (
	"encoding/json"
	"fmt"
	"strings"
	"testing"
	"time"

	"ostiarius/core/account"
	"ostiarius/core/event"
	"ostiarius/core/message"
	"ostiarius/core/pass"
	"ostiarius/core/signature"
	"ostiarius/service/who/people"
	"ostiarius/store"
)

// Sold is a policy of things that are sold.
const Sold = `roles: { friend: , supporter: { includes: friend } }
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

// Week is seven days.
const Week = 7 * 24 * time.Hour

// A Shop sells what the house has.
type Shop struct {
	*House
	T      testing.TB
	Clock  *Clock
	Secret signature.Secret
	Sent   int
}

// OpenShop is a house with a shop that sells what it has.
func OpenShop(t testing.TB) *Shop {
	t.Helper()
	h, _, c := Open(t)
	h.Book = BookOf(t, Sold)
	h = h.Start(t)
	text, err := h.Events.AddSecret(ctx, "test", "", -1)
	if err != nil {
		t.Fatal(err)
	}
	secret, err := signature.ReadSecret(text)
	if err != nil {
		t.Fatal(err)
	}
	return &Shop{House: h, T: t, Clock: c, Secret: secret}
}

// Deliver brings a body, signed, under a number.
func (s *Shop) Deliver(id, body string) error {
	now := s.Clock.Now()
	return s.Events.Take(ctx,
		signature.Head{ID: id, Timestamp: fmt.Sprint(now.Unix()), Signature: s.Secret.Sign(id, now, []byte(body))}, []byte(body), "192.0.2.80")
}

// Tell tells what happened, and has it carried out. The event is returned as it is then.
func (s *Shop) Tell(e event.Event) event.Record {
	s.T.Helper()
	body, err := json.Marshal(e)
	if err != nil {
		s.T.Fatal(err)
	}
	s.Sent++
	if err := s.Deliver(fmt.Sprint("m", s.Sent), string(body)); err != nil {
		s.T.Fatal(err)
	}
	if err := s.Events.CarryOut(ctx); err != nil {
		s.T.Fatal(err)
	}
	all, _, err := s.Events.List(ctx, store.EventsQuery{Limit: 1})
	if err != nil || len(all) != 1 {
		s.T.Fatal(all, err)
	}
	return all[0]
}

// Paid tells that an item was paid for in an order.
func Paid(order, item string) event.Event {
	return event.Event{
		Type: event.Paid, Order: order, Buyer: event.Buyer{Address: "mo@marram.example", Name: "Mo"}, Items: []event.Item{{Item: item}},
	}
}

// Told tells something of an order.
func Told(of event.Type, order string) event.Event { return event.Event{Type: of, Order: order} }

// Proven makes an account whose owner has followed a link that was sent to its address.
func (s *Shop) Proven(name, address string) *account.Account {
	s.T.Helper()
	if _, err := s.People.Add(ctx, "test", people.NewAccount{Name: name, Email: address, Password: "seven-brass-prisms"}); err != nil {
		s.T.Fatal(err)
	}
	if err := s.People.MailLink(ctx, "test", name); err != nil {
		s.T.Fatal(err)
	}
	_, link, _ := strings.Cut(s.Mails()[0].Link, "link=")
	if err := s.People.UseLink(ctx, link, "quiet-harbour-ledger", "192.0.2.7", ""); err != nil {
		s.T.Fatal(err)
	}
	return s.Find(name)
}

// Find is an account, or nil.
func (s *Shop) Find(name string) *account.Account {
	s.T.Helper()
	a, err := s.People.Find(ctx, name)
	if err != nil {
		s.T.Fatal(err)
	}
	return a
}

// Mails are the messages that wait, the newest first.
func (s *Shop) Mails() []message.Message {
	s.T.Helper()
	all, _, err := s.Mail.List(ctx, store.MessageQuery{Limit: 1000})
	if err != nil {
		s.T.Fatal(err)
	}
	return all
}

// Given are the passes that there are.
func (s *Shop) Given() []*pass.Pass {
	s.T.Helper()
	all, err := s.Passes.List(ctx, store.PassQuery{Limit: 1000}, "")
	if err != nil {
		s.T.Fatal(err)
	}
	return all
}

// Has says what an account has now, and until when: days from now.
func (s *Shop) Has(name string) string {
	s.T.Helper()
	now := s.Clock.Now()
	var all []string
	for _, g := range s.Find(name).Grants {
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

// Reminded are the reminders that were written, the newest first: to whom, and of what.
func (s *Shop) Reminded() (all []string) {
	s.T.Helper()
	for range 2 { // each once, however often it is looked
		if err := s.Members.Remind(ctx); err != nil {
			s.T.Fatal(err)
		}
	}
	for _, m := range s.Mails() {
		if m.Kind == message.Reminder {
			all = append(all, m.To+" "+m.Gaps["title"]+" "+m.Gaps["when"]+" "+m.Link)
		}
	}
	return all
}
