package service

import (
	"context"
	"encoding/json"
	"fmt"
	"strings"
	"testing"
	"time"

	"ostiarius/core/activity"
	"ostiarius/core/event"
	"ostiarius/core/message"
	"ostiarius/core/signature"
	"ostiarius/core/telling"
	"ostiarius/service/who/people"
	"ostiarius/store"
)

// sold is what leaves traces of what a shop tells, of who has what for that, and of who is told of it.
func sold(ctx context.Context, t *testing.T, s *Service, leaves func(what string, do func() error, kinds ...activity.Kind),
	wrong func(do func() error) func() error, secret func(string)) {
	books := s.rooms.Events
	var signs signature.Secret
	sent := 0
	tell := func(e event.Event) func() error {
		return func() error {
			body, err := json.Marshal(e)
			if err != nil {
				return err
			}
			sent++
			now, id := time.Now(), fmt.Sprint("m", sent)
			if err := books.Take(ctx, signature.Head{ID: id, Timestamp: fmt.Sprint(now.Unix()), Signature: signs.Sign(id, now, body)}, body,
				"192.0.2.80"); err != nil {
				return err
			}
			return books.CarryOut(ctx)
		}
	}
	paid := event.Event{Type: event.Paid, Order: "o1", Buyer: event.Buyer{Address: "ola@quay.example"}, Items: []event.Item{{Item: "year"}}}
	leaves("the one who has a role already", func() error { return s.rooms.Members.Tend(ctx) }, activity.MembershipBegun)
	leaves("an event without a secret", wrong(tell(paid)), activity.EventRefused)
	leaves("a secret", func() (err error) {
		text, err := books.AddSecret(ctx, "test", "", -1)
		secret(text)
		if err == nil {
			signs, err = signature.ReadSecret(text)
		}
		return err
	}, activity.SecretAdded)
	leaves("a payment", tell(paid), activity.EventCarried)
	leaves("another link", func() error { return books.Retry(ctx, "test", 1) }, activity.EventRetried)
	link := ""
	leaves("looking for it", func() error {
		all, _, err := s.rooms.Mail.List(ctx, store.MessageQuery{Words: string(message.BoughtClaim), Limit: 1})
		if err == nil {
			_, link, _ = strings.Cut(all[0].Link, "link=")
			secret(link)
		}
		return err
	})
	leaves("somebody", func() error {
		_, err := s.rooms.People.Add(ctx, "test", people.NewAccount{Name: "ola", Password: "copper-kettle-moss"})
		return err
	}, activity.AccountAdded)
	leaves("taking it", func() error { _, err := s.rooms.Joining.TakeAlong(ctx, link, "ola", "192.0.2.7"); return err }, activity.Claimed)
	leaves("taking it twice", wrong(func() error { _, err := s.rooms.Joining.TakeAlong(ctx, link, "ola", "192.0.2.7"); return err }))
	leaves("its beginning", func() error { return s.rooms.Members.Tend(ctx) }, activity.MembershipBegun)
	leaves("its beginning, twice", func() error { return s.rooms.Members.Tend(ctx) })
	leaves("a refund", tell(event.Event{Type: event.Refunded, Order: "o1"}), activity.EventCarried)
	leaves("its end", func() error { return s.rooms.Members.Tend(ctx) }, activity.MembershipEnded)
	other := paid
	other.Order, other.Items = "o2", []event.Item{{Item: "decade"}}
	leaves("what is not sold", tell(other), activity.EventKept)
	var kept int64
	leaves("looking for it", func() error {
		all, _, err := books.List(ctx, store.EventsQuery{State: event.Kept, Limit: 1})
		if err == nil {
			kept = all[0].ID
		}
		return err
	})
	leaves("trying again", wrong(func() error { return books.Retry(ctx, "test", kept) }))
	leaves("dropping it", func() error { return books.Drop(ctx, "test", kept) }, activity.EventDropped)
	leaves("dropping it twice", wrong(func() error { return books.Drop(ctx, "test", kept) }))
	leaves("the end of the secret", func() error { return books.RemoveSecret(ctx, "test", 1) }, activity.SecretRemoved)

	soon := time.Now().Add(time.Hour)
	leaves("a role that ends soon, since long ago", func() error {
		return s.rooms.People.Grant(ctx, "test", "ola", "keeper", time.Now().Add(-100*time.Hour), soon)
	}, activity.RoleGranted)
	leaves("an address", func() error {
		address := "ola@quay.example"
		_, err := s.rooms.People.Edit(ctx, "test", "ola", people.Edit{Email: &address})
		return err
	}, activity.AccountChanged)
	leaves("its beginning", func() error { return s.rooms.Members.Tend(ctx) }, activity.MembershipBegun)
	leaves("a reminder", func() error { return s.rooms.Members.Remind(ctx) }, activity.Reminded)
	leaves("a reminder, twice", func() error { return s.rooms.Members.Remind(ctx) })

	var target int64
	leaves("a target", func() (err error) {
		id, text, err := s.rooms.Outgoing.Add(ctx, "test", "https://desk.example/in", []telling.Kind{telling.Joined})
		target = id
		secret(text)
		return err
	}, activity.TargetAdded)
	leaves("a target elsewhere", wrong(func() error {
		_, _, err := s.rooms.Outgoing.Add(ctx, "test", "https://evil.example/in", []telling.Kind{telling.Joined})
		return err
	}))
	leaves("a test", func() error { return s.rooms.Outgoing.Test(ctx, target) })
	leaves("its end", func() error { return s.rooms.Outgoing.Remove(ctx, "test", target) }, activity.TargetRemoved)
}
