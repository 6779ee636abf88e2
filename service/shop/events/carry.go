package events

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"ostiarius/core/account"
	kind "ostiarius/core/activity"
	"ostiarius/core/event"
	"ostiarius/core/pass"
	"ostiarius/core/policy"
	"ostiarius/core/purchase"
	"ostiarius/core/words"
	"ostiarius/service/base/mistake"
	"ostiarius/service/held/passes"
	"ostiarius/store"
)

// unpaid is why an event is kept that says nothing without the payment of its order; it is carried out when that comes.
const unpaid = "nothing is known of its order yet; it is carried out when the payment comes"

// carryOut carries out one event, or keeps it and says why it cannot be done. The error says that the records cannot be read or written.
func (b *Inbox) carryOut(ctx context.Context, told event.Record, actor string) error {
	b.working.Lock()
	defer b.working.Unlock()
	var err error
	for range 5 { // something else may change meanwhile
		var w *work
		if w, err = b.workOut(ctx, told, actor); err == nil {
			err = b.o.Passes.Sale().Together(ctx, w.passIDs(), w.changePass, func(changes []store.PassChange) error {
				w.carried.Changed = changes
				return b.o.Store.CarryOut(ctx, w.carried)
			})
		}
		var wrong *mistake.Error
		switch {
		case err == nil:
			return b.carried(ctx, w)
		case errors.As(err, &wrong):
			return b.keep(ctx, told, wrong.Text)
		case errors.Is(err, store.ErrNone): // it is done already
			return nil
		case !errors.Is(err, store.ErrChanged):
			return err
		}
	}
	return err
}

// carried lets be carried out what waited for something that was carried out.
func (b *Inbox) carried(ctx context.Context, w *work) error {
	if len(w.carried.Payments) == 0 {
		return nil
	}
	kept, err := b.o.Store.KeptEvents(ctx, w.told.Event.Order)
	for _, k := range kept {
		if k.Problem == unpaid && err == nil {
			err = b.o.Store.KeepEvent(ctx, k.ID, event.Kept, event.Waiting, "", nil)
		}
	}
	return err
}

func (b *Inbox) keep(ctx context.Context, told event.Record, why string) error {
	if told.State == event.Kept && told.Problem == why {
		return nil
	}
	e := b.record(kind.EventKept, told.Event, why)
	err := b.o.Store.KeepEvent(ctx, told.ID, told.State, event.Kept, why, &e)
	if errors.Is(err, store.ErrNone) {
		return nil
	}
	return err
}

func (b *Inbox) record(of kind.Kind, e event.Event, detail string) store.Activity {
	return store.Activity{
		At: b.o.Now(), Kind: of, Account: e.Buyer.Address, AccountID: store.NoAccount, Actor: "shop",
		Detail: fmt.Sprintf("%s, order %s: %s", e.Type, e.Order, detail),
	}
}

// A work is what an event comes to, while it is worked out.
type work struct {
	b       *Inbox
	book    *policy.Book
	told    event.Record
	actor   string
	now     time.Time
	at      time.Time        // when it happened, as far as is known
	order   store.Order      // as it is known
	known   bool             // whether it is
	facts   store.Bought     // of the order
	owner   *account.Account // who has what was bought, nil for nobody yet
	carried store.Carried
	longer  map[string]int // passes that were paid for once more, and how many times
}

// workOut works out what an event comes to. The error is a *mistake.Error that says why it cannot be carried out.
func (b *Inbox) workOut(ctx context.Context, told event.Record, actor string) (*work, error) {
	w := &work{
		b: b, book: b.o.Book(), told: told, actor: actor, now: b.o.Now().UTC().Truncate(time.Millisecond), at: told.Event.At,
		longer: map[string]int{},
	}
	if w.at.IsZero() || w.at.After(told.At) { // nothing has happened that is still to come
		w.at = told.At
	}
	var err error
	w.order, w.facts, err = b.o.Store.Order(ctx, told.Event.Order)
	if w.known = err == nil; err != nil && !errors.Is(err, store.ErrNone) {
		return nil, err
	}
	w.carried = store.Carried{Event: told, At: w.now}
	switch told.Event.Type {
	case event.Paid, event.Renewed:
		err = w.paid(ctx)
	default:
		err = w.marked(ctx)
	}
	return w, err
}

// marked is that an order was refunded or cancelled, or has lapsed.
func (w *work) marked(ctx context.Context) error {
	e := w.told.Event
	what := map[event.Type]purchase.What{
		event.Refunded: purchase.Refunded, event.Lapsed: purchase.Lapsed, event.Cancelled: purchase.Cancelled,
	}[e.Type]
	items := []string{""}
	if len(e.Items) > 0 {
		items = nil
		for _, item := range e.Items {
			items = append(items, item.Item)
		}
	}
	for _, item := range items {
		w.carried.Marks = append(w.carried.Marks,
			purchase.Mark{Order: e.Order, Item: item, What: what, Seq: w.told.ID, At: w.at, Told: !e.At.IsZero()})
	}
	detail := "noted"
	if w.known {
		var gone *mistake.Error
		if err := w.findOwner(ctx); errors.As(err, &gone) {
			w.order.Account = 0 // there is nobody to take it from
		} else if err != nil {
			return err
		}
		w.carried.Order = w.order
		if w.order.Account == 0 { // nothing but marks: whoever has the address has it all the same
			w.carried.Order = store.Order{}
		}
		detail = map[event.Type]string{
			event.Refunded: "what it gave is taken back", event.Lapsed: "what it gave ends", event.Cancelled: "it runs to its end",
		}[e.Type]
	} else {
		w.carried.Problem = "its payment is not known yet; this counts when it comes"
	}
	w.recorded(detail)
	return nil
}

// findOwner finds out who has what was bought.
func (w *work) findOwner(ctx context.Context) error {
	if w.order.Account == 0 {
		return nil
	}
	a, err := w.b.o.Store.AccountByID(ctx, w.order.Account)
	if errors.Is(err, store.ErrNone) {
		return mistake.Invalid("the account that has this order is gone")
	}
	w.owner = a
	return err
}

// paid is that an order was paid for, for the first time or once more.
func (w *work) paid(ctx context.Context) error {
	if err := w.buyer(ctx); err != nil {
		return err
	}
	again := w.told.Event.Type == event.Renewed
	payments, err := w.payments(again)
	if err != nil {
		return err
	}
	if len(payments) == 0 {
		w.carried.Problem = "it was paid for before, under another number; nothing was given again"
		w.recorded("known already")
		return nil
	}
	w.carried.Order = w.order
	mine, err := w.mine(ctx, payments)
	if err != nil {
		return err
	}
	var open []opened
	for i := range payments {
		p := &payments[i]
		alike := slices.DeleteFunc(slices.Clone(mine.Payments), func(other purchase.Payment) bool {
			bounded := p.For > 0 || !p.Until.IsZero()
			return other.Role != p.Role || other.Kind != p.Kind || p.Kind != "" && (other.Item != p.Item || other.Order != p.Order && !bounded)
		})
		terms := purchase.Terms(alike, mine.Marks)
		term, has := termOf(terms, p)
		if p.Kind != "" {
			if err := w.pass(p, term, has); err != nil {
				return err
			}
			continue
		}
		switch span, lasts := purchase.Latest(terms); {
		case !has || !lasts:
		case span.Until.IsZero() || span.Until.After(w.now):
			open = append(open, opened{p, span.Until})
		default:
			w.carried.Problem = "what was paid for is over already"
		}
	}
	w.carried.Payments = payments
	if len(open) > 0 {
		w.tell(open)
	}
	var titles []string
	for _, p := range payments {
		if !slices.Contains(titles, p.Title) {
			titles = append(titles, p.Title)
		}
	}
	w.recorded(strings.Join(titles, ", "))
	return nil
}

// recorded has it recorded that the event is carried out, of whom it is about as far as that is known.
func (w *work) recorded(detail string) {
	e := w.b.record(kind.EventCarried, w.told.Event, detail)
	if e.Account = cmp.Or(w.order.Address, e.Account); w.owner != nil {
		e.Account, e.AccountID = w.owner.Name, w.owner.ID
	}
	if w.actor != "shop" {
		e.Actor = w.actor
	}
	w.carried.Records = append(w.carried.Records, e)
}

// An opened is a role that was paid for, and until when its owner has it; zero for no end.
type opened struct {
	payment *purchase.Payment
	until   time.Time
}

func termOf(terms []purchase.Term, p *purchase.Payment) (purchase.Term, bool) {
	i := slices.IndexFunc(terms, func(t purchase.Term) bool {
		return t.Payment.Seq == p.Seq && t.Payment.Order == p.Order && t.Payment.Item == p.Item && t.Payment.Role == p.Role &&
			t.Payment.Kind == p.Kind
	})
	if i < 0 {
		return purchase.Term{}, false
	}
	return terms[i], true
}

// buyer finds out who has paid: as the order says if it is known, or else as the event does.
func (w *work) buyer(ctx context.Context) error {
	e := w.told.Event
	if !w.known {
		w.order = store.Order{Number: e.Order, MadeAt: w.told.At, Language: words.Choose("", e.Buyer.Language)}
	}
	w.order.Name = cmp.Or(w.order.Name, e.Buyer.Name)
	if w.order.Address == "" && w.order.Account == 0 {
		w.order.Address = e.Buyer.Address
	}
	if e.Buyer.Account != "" && w.order.Account == 0 {
		a, err := w.b.o.People.Find(ctx, e.Buyer.Account)
		if err != nil {
			return err
		}
		w.order.Account, w.order.Address = a.ID, cmp.Or(w.order.Address, a.Email)
	}
	if w.order.Address != "" {
		key, err := account.EmailKey(w.order.Address)
		if err != nil {
			return mistake.Of(err)
		}
		w.order.Key = key
	}
	if w.order.Account == 0 {
		if w.order.Key == "" {
			if len(w.facts.Payments) == 0 && e.Type == event.Renewed && len(e.Items) == 0 {
				return mistake.Invalid(unpaid)
			}
			return mistake.Invalid("there is no address of the buyer")
		}
		id, err := w.b.o.Store.AccountProven(ctx, w.order.Key)
		if err != nil && !errors.Is(err, store.ErrNone) {
			return err
		}
		w.order.Account = id
	}
	return w.findOwner(ctx)
}

// payments are what an event pays for.
func (w *work) payments(again bool) (all []purchase.Payment, err error) {
	e := w.told.Event
	if len(e.Items) == 0 {
		if !again {
			return nil, mistake.Invalid("it does not say what was bought")
		}
		return w.asBefore()
	}
	for _, bought := range e.Items {
		item := policy.ItemNamed(w.book, bought.Item)
		if item == nil {
			return nil, mistake.Invalid("the policy has no item %q", bought.Item)
		}
		if !again && slices.ContainsFunc(w.facts.Payments, func(p purchase.Payment) bool { return !p.Again && p.Item == item.Name }) {
			continue // the same was told under another number
		}
		title := item.Title
		if title == item.Name && bought.Name != "" {
			title = bought.Name
		}
		p := purchase.Payment{
			Order: e.Order, Item: item.Name, Title: title, Seq: w.told.ID, At: w.at, Told: !e.At.IsZero(), Again: again,
			For: purchase.Times(item.For, bought.Number), Until: e.Until,
		}
		for _, name := range item.Passes {
			one := p
			one.Kind = name
			all = append(all, one)
			w.longer[key(one)] = bought.Number
		}
		p.Grace, p.After, p.AfterFor = item.Grace, item.After.Role, item.After.For
		for _, role := range item.Roles {
			one := p
			one.Role = role
			all = append(all, one)
		}
	}
	return all, nil
}

// asBefore are the payments of an order that is paid for once more, as it says nothing else.
func (w *work) asBefore() (all []purchase.Payment, err error) {
	for _, before := range w.facts.Payments {
		p := before
		p.ID, p.Seq, p.At, p.Told, p.Again = 0, w.told.ID, w.at, !w.told.Event.At.IsZero(), true
		p.Until, p.Taken = w.told.Event.Until, time.Time{}
		all = slices.DeleteFunc(all, func(other purchase.Payment) bool { return key(other) == key(p) })
		all = append(all, p)
		w.longer[key(p)] = 1
	}
	if len(all) == 0 {
		return nil, mistake.Invalid(unpaid)
	}
	return all, nil
}

func key(p purchase.Payment) string { return p.Item + "\n" + p.Role + "\n" + p.Kind }

// mine returns what its owner has bought, with new payments; as long as nobody has it, what was bought with the address.
func (w *work) mine(ctx context.Context, payments []purchase.Payment) (store.Bought, error) {
	mine, err := w.b.o.Store.BoughtBy(ctx, w.order.Account, w.order.Key)
	if !slices.ContainsFunc(mine.Orders, func(o store.Order) bool { return o.Number == w.order.Number }) {
		mine.Payments, mine.Marks = append(mine.Payments, w.facts.Payments...), append(mine.Marks, w.facts.Marks...)
	}
	mine.Payments = append(mine.Payments, payments...)
	return mine, err
}

// pass issues the pass that was paid for, or prolongs the one that the order has.
func (w *work) pass(p *purchase.Payment, term purchase.Term, open bool) error {
	for _, before := range w.facts.Payments {
		if before.Pass != "" && before.Item == p.Item && before.Kind == p.Kind {
			p.Pass = before.Pass
			return nil
		}
	}
	if !open {
		return nil // it was refunded before it was paid for
	}
	n := passes.NewPass{Address: w.order.Address, Name: w.order.Name, Reference: p.Order, Language: w.order.Language}
	if item := policy.ItemNamed(w.book, p.Item); item != nil {
		n.Paths = item.Paths
	}
	if p.For > 0 || !p.Until.IsZero() {
		n.Until = term.Until
		if !n.Until.IsZero() && !n.Until.After(w.now) { // it came late
			return nil
		}
	}
	if d := policy.PassNamed(w.book, p.Kind); d != nil && d.Downloads > 0 {
		n.Downloads = d.Downloads * w.longer[key(*p)]
	}
	made, err := w.b.o.Passes.Sale().Make(w.actor, p.Kind, n)
	if err != nil {
		return err
	}
	p.Pass = made.Pass.ID
	w.carried.Passes = append(w.carried.Passes, made.Pass)
	w.carried.Mails = append(w.carried.Mails, made.Mail)
	w.carried.Records = append(w.carried.Records, made.Record)
	return nil
}

// passIDs are the passes that an event may change: those that the order has.
func (w *work) passIDs() (ids []string) {
	for _, p := range w.facts.Payments {
		if p.Pass != "" {
			ids = append(ids, p.Pass)
		}
	}
	return ids
}

// changePass changes a pass of the order as all that is known of it says.
func (w *work) changePass(is *pass.Pass, now time.Time) (store.PassChange, bool) {
	all := slices.Concat(w.facts.Payments, w.carried.Payments)
	var mine []purchase.Payment
	var paid *purchase.Payment // just now
	for i := range all {
		if all[i].Pass == is.ID {
			mine = append(mine, all[i])
			if i >= len(w.facts.Payments) {
				paid = &all[i]
			}
		}
	}
	terms := purchase.Terms(mine, slices.Concat(w.facts.Marks, w.carried.Marks))
	var last purchase.Term
	if len(terms) > 0 {
		last = terms[len(terms)-1]
	}
	if paid != nil {
		if last.Payment == nil { // it was refunded before it was paid for
			return store.PassChange{}, false
		}
		var until time.Time
		if paid.For > 0 || !paid.Until.IsZero() {
			if until = last.Until; until.IsZero() || !until.After(is.Until) {
				return store.PassChange{}, false
			}
		}
		return w.b.o.Passes.Sale().Prolonged(is, w.actor, until, w.longer[key(*paid)], now)
	}
	for _, m := range w.carried.Marks {
		ofIt := slices.ContainsFunc(mine, func(p purchase.Payment) bool { return m.Item == "" || m.Item == p.Item })
		left := last.Payment != nil && (last.Until.IsZero() || last.Until.After(now))
		switch {
		case !ofIt || left || m.What == purchase.Cancelled:
		case m.What == purchase.Lapsed:
			return w.b.o.Passes.Sale().Stopped(is, w.actor, now, now)
		default:
			return w.b.o.Passes.Sale().Withdrawn(is, w.actor, now)
		}
	}
	return store.PassChange{}, false
}
