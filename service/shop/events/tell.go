package events

import (
	"cmp"
	"context"
	"slices"
	"strings"
	"time"

	kind "ostiarius/core/activity"
	"ostiarius/core/event"
	"ostiarius/core/message"
	"ostiarius/core/policy"
	"ostiarius/core/purchase"
	"ostiarius/core/secret"
	"ostiarius/core/words"
	"ostiarius/service/base/mistake"
	"ostiarius/store"
)

// claimLasts is how long a link lasts with which a buyer takes what they bought.
const claimLasts = 60 * 24 * time.Hour

// tell writes to the buyer that roles are open to them that were paid for; or, as long as nobody has them, how they get them.
func (w *work) tell(open []opened) {
	var titles []string
	until := open[0].until
	for _, o := range open {
		if title := o.payment.Title; len(titles) == 0 || titles[len(titles)-1] != title {
			titles = append(titles, title)
		}
		if !o.until.IsZero() && (until.IsZero() || o.until.Before(until)) {
			until = o.until
		}
	}
	if w.owner == nil {
		w.claim(titles, until)
		return
	}
	to := cmp.Or(w.order.Address, w.owner.Email)
	if to == "" {
		return // they see it on the page of their account
	}
	m := w.mail(message.Bought, to, titles, until)
	m.AccountID = w.owner.ID
	m.Gaps["account"], m.Gaps["place"] = w.owner.Name, w.book.Prefix+"/account"
	v := policy.Visitor{SignedIn: true, Account: w.owner.Name, Roles: w.owner.Roles(w.now)}
	for _, o := range open {
		v.Roles = append(v.Roles, o.payment.Role)
	}
	w.carried.Mails = append(w.carried.Mails, m.With(w.book.After(policy.AfterPaying, &v), w.now.Add(message.Lasts)))
}

func (w *work) claim(titles []string, until time.Time) {
	token, hash := secret.NewToken()
	w.carried.Claim = &store.Claim{
		Hash: hash, Address: w.order.Address, Key: w.order.Key, Language: w.order.Language, MadeAt: w.now, Until: w.now.Add(claimLasts),
	}
	m := w.mail(message.BoughtClaim, w.order.Address, titles, until)
	w.carried.Mails = append(w.carried.Mails, m.With(w.book.Prefix+"/claim?link="+token, w.now.Add(claimLasts)))
}

func (w *work) mail(of message.Kind, to string, titles []string, until time.Time) message.Message {
	in := w.order.Language
	if w.owner != nil && w.owner.Language != "" {
		in = w.owner.Language
	}
	m := message.New(of, to, "", in, w.now)
	m.Gaps["name"], m.Gaps["title"], m.Gaps["reference"] = cmp.Or(w.order.Name, to), strings.Join(titles, ", "), w.order.Number
	m.Gaps["ends"] = w.book.Words.Say(in, "bought.ends-never", nil)
	if !until.IsZero() {
		m.Gaps["ends"] = w.book.Words.Say(in, "bought.ends-at", map[string]string{"at": words.Zoned(in, until.Local())})
	}
	return m
}

// claimAgain sends another link with which a buyer takes what they bought.
func (b *Inbox) claimAgain(ctx context.Context, actor string, told event.Record) error {
	b.working.Lock()
	defer b.working.Unlock()
	w, err := b.workOut(ctx, told, actor)
	if err != nil {
		return err
	}
	mine, err := b.o.Store.BoughtBy(ctx, 0, w.order.Key)
	if err != nil {
		return err
	}
	ordered := slices.DeleteFunc(slices.Clone(mine.Payments), func(p purchase.Payment) bool { return p.Order != w.order.Number })
	roles := purchase.OfRoles(ordered, mine.Marks)
	if !w.known || w.order.Account != 0 || len(roles) == 0 {
		return mistake.Invalid("event %d is done, and nothing of it waits for its buyer", told.ID)
	}
	w.carried = store.Carried{Event: told, At: w.now, Problem: told.Problem}
	var titles []string
	var until time.Time
	for _, terms := range roles {
		if span, has := purchase.Latest(terms); has {
			titles, until = append(titles, span.Last.Payment.Title), span.Until
		}
	}
	if len(titles) == 0 {
		return mistake.Invalid("nothing is left of order %s", w.order.Number)
	}
	w.claim(titles, until)
	w.carried.Records = []store.Activity{b.record(kind.EventRetried, told.Event, "another link is sent")}
	w.carried.Records[0].Actor = actor
	err = b.o.Store.CarryOut(ctx, w.carried)
	return err
}
