package events

import (
	"context"
	"errors"
	"slices"
	"time"

	"ostiarius/core/account"
	"ostiarius/core/purchase"
	"ostiarius/service/base/mistake"
)

// A Bought is something that somebody has bought, as they are told of it.
type Bought struct {
	Title string
	Order string
	At    time.Time // of the latest payment for it
	Until time.Time // zero for no end
	Over  bool      // it has ended or was taken back
	Ends  bool      // nothing more will be paid: it was cancelled
}

// Bought returns what the owner of an account has bought, the latest first.
func (b *Inbox) Bought(ctx context.Context, a *account.Account) ([]Bought, error) {
	facts, err := b.o.Store.BoughtBy(ctx, a.ID, "")
	if err != nil {
		return nil, err
	}
	now := b.o.Now()
	open := map[int64]purchase.Term{} // by payment
	for _, terms := range purchase.OfRoles(facts.Payments, facts.Marks) {
		for _, t := range terms {
			open[t.Payment.ID] = t
		}
	}
	at := map[string]int{}
	var all []Bought
	for _, p := range facts.Payments {
		one := Bought{Title: p.Title, Order: p.Order, At: p.At, Over: true}
		if t, has := open[p.ID]; has {
			one.Until, one.Over = t.Until, !t.Open.IsZero() && !t.Open.After(now)
		} else if p.Pass != "" {
			is, err := b.o.Passes.Is(ctx, p.Pass)
			if err == nil {
				state := b.o.Passes.StateOf(is)
				one.Until, one.Over = is.Until, !state.Opens()
			} else if wrong := (*mistake.Error)(nil); !errors.As(err, &wrong) { // it may be swept away by now
				return nil, err
			}
		}
		one.Ends = slices.ContainsFunc(facts.Marks, func(m purchase.Mark) bool {
			return m.What == purchase.Cancelled && m.Order == p.Order && (m.Item == "" || m.Item == p.Item)
		})
		key := p.Order + "\n" + p.Title // what was paid for several times, or opens several things, is told once
		if i, told := at[key]; told {
			if one.At.After(all[i].At) {
				all[i].At = one.At
			}
			if !one.Over && (all[i].Over || one.Until.IsZero() || !all[i].Until.IsZero() && one.Until.After(all[i].Until)) {
				all[i].Until, all[i].Over = one.Until, false
			}
			continue
		}
		at[key] = len(all)
		all = append(all, one)
	}
	slices.SortStableFunc(all, func(x, y Bought) int { return y.At.Compare(x.At) })
	return all, nil
}
