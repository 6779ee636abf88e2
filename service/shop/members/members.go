// Package members is who has which role, since when and until when: it lists them, reminds people of ends, and has recorded that a
// membership has begun or ended.
package members

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"net/url"
	"slices"
	"time"

	kind "ostiarius/core/activity"
	"ostiarius/core/message"
	"ostiarius/core/policy"
	"ostiarius/core/purchase"
	"ostiarius/core/words"
	"ostiarius/service/base/chores"
	"ostiarius/service/base/mistake"
	"ostiarius/service/held/passes"
	"ostiarius/store"
)

// Options are what Members need.
type Options struct {
	Store  *store.Store
	Book   func() *policy.Book // the policy now in force
	Now    func() time.Time
	Passes *passes.Passes
}

// Members is who has which role.
type Members struct{ o Options }

// New returns the Members over the records in o.Store.
func New(o Options) *Members { return &Members{o} }

// List returns the members that a query means, and how many there are in all.
func (r *Members) List(ctx context.Context, q store.MemberQuery) ([]store.Member, int, error) {
	if q.Role != "" && !r.o.Book().KnownRole(q.Role) {
		return nil, 0, mistake.Invalid("unknown role %q; the policy has %v", q.Role, r.o.Book().RoleNames())
	}
	q.Now = r.o.Now()
	return r.o.Store.Members(ctx, q)
}

// A Week is how many had each role at its end.
type Week struct {
	Begins time.Time
	Counts map[string]int
}

// Weeks returns how many had each role at the end of each of the last weeks, as far as the records tell: who was taken a role from
// is not counted.
func (r *Members) Weeks(ctx context.Context, n int) ([]Week, error) {
	begun, ended, err := r.o.Store.MemberChanges(ctx)
	if err != nil {
		return nil, err
	}
	const week = 7 * 24 * time.Hour
	last := r.o.Now().UnixMilli() / week.Milliseconds()
	weeks := make([]Week, n)
	for i := range weeks {
		weeks[i] = Week{time.UnixMilli((last - int64(n-1-i)) * week.Milliseconds()).UTC(), map[string]int{}}
	}
	add := func(all []store.MemberChange, sign int) {
		for _, c := range all {
			from := max(0, int(c.Week-(last-int64(n-1))))
			for i := from; i < n; i++ {
				weeks[i].Counts[c.Role] += sign * c.N
			}
		}
	}
	add(begun, 1)
	add(ended, -1)
	return weeks, nil
}

// How many are seen to at once.
const atOnce = 200

// Tend has recorded what has begun and ended since it was last called, which other programs may be told of.
func (r *Members) Tend(ctx context.Context) error {
	now := r.o.Now()
	for _, what := range []struct {
		find  func(context.Context, time.Time, int) ([]store.Member, error)
		kind  kind.Kind
		ended bool
	}{{r.o.Store.BegunUntold, kind.MembershipBegun, false}, {r.o.Store.EndedUntold, kind.MembershipEnded, true}} {
		all, err := what.find(ctx, now, atOnce)
		for _, m := range all {
			err = errors.Join(err, r.o.Store.TellGrant(ctx, m, what.ended, m.RecordOf(what.kind, now)))
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// Remind writes to those whose role or pass ends soon, as the policy says, once for each time that it says.
func (r *Members) Remind(ctx context.Context) error {
	book, now := r.o.Book(), r.o.Now()
	for _, ahead := range slices.Backward(book.Reminders) { // the shortest first: who is reminded now is not reminded of the same twice
		all, err := r.o.Store.Ending(ctx, now, ahead, atOnce)
		if err != nil {
			return err
		}
		for _, m := range all {
			if err := r.remind(ctx, book, m, ahead, now); err != nil {
				return err
			}
		}
		ids, err := r.o.Store.EndingPasses(ctx, now, ahead, atOnce)
		if err != nil {
			return err
		}
		for _, id := range ids {
			if err := r.remindOfPass(ctx, book, id, ahead, now); err != nil {
				return err
			}
		}
	}
	return nil
}

func (r *Members) remind(ctx context.Context, book *policy.Book, m store.Member, ahead time.Duration, now time.Time) error {
	title, item, err := "", "", error(nil)
	if m.Grant.Order != "" {
		if title, item, err = r.o.Store.TitleOf(ctx, m.Grant.Order, m.Grant.Role); err != nil {
			return err
		}
	}
	until, err := r.paidUntil(ctx, m, now)
	if err != nil {
		return err
	}
	mail := r.mail(book, m.Email, m.Account, cmp.Or(title, m.Grant.Role), words.Choose("", string(m.Language)), until, now)
	mail.Account, mail.AccountID = m.Account, m.ID
	mail.Link = book.Prefix + "/account"
	if policy.ItemNamed(book, item) != nil {
		mail.Link = book.Prefix + "/join?item=" + url.QueryEscape(item)
	}
	err = r.o.Store.Remind(ctx, fmt.Sprintf("account %d %s", m.ID, m.Grant.Role), m.Grant.Until, ahead, []message.Message{mail},
		store.Activity{
			At: now, Kind: kind.Reminded, Account: m.Account, AccountID: m.ID,
			Detail: "role " + m.Grant.Role + " ends at " + m.Grant.Until.UTC().Format(time.RFC3339),
		})
	return err
}

// paidUntil returns the end that somebody is told: without the days of grace, as long as they have not begun.
func (r *Members) paidUntil(ctx context.Context, m store.Member, now time.Time) (time.Time, error) {
	if m.Grant.Order == "" {
		return m.Grant.Until, nil
	}
	facts, err := r.o.Store.BoughtBy(ctx, m.ID, "")
	if err != nil {
		return time.Time{}, err
	}
	span, has := purchase.Latest(purchase.OfRoles(facts.Payments, facts.Marks)[m.Grant.Role])
	if end := span.Last.Until; has && span.Until.Equal(m.Grant.Until) && end.After(now) {
		return end, nil
	}
	return m.Grant.Until, nil
}

func (r *Members) remindOfPass(ctx context.Context, book *policy.Book, id string, ahead time.Duration, now time.Time) error {
	is, err := r.o.Passes.Is(ctx, id)
	if err != nil {
		return err
	}
	mail := r.mail(book, is.Address, cmp.Or(is.Name, is.Address), r.o.Passes.TitleOf(is.Kind), is.Language, is.Until, now)
	mail.Link = r.o.Passes.Leads(is)
	err = r.o.Store.Remind(ctx, "pass "+id, is.Until, ahead, []message.Message{mail},
		store.Activity{
			At: now, Kind: kind.Reminded, Account: is.Address, AccountID: store.NoAccount,
			Detail: "pass " + id + " ends at " + is.Until.UTC().Format(time.RFC3339),
		})
	return err
}

func (r *Members) mail(book *policy.Book, to, name, title string, in words.Language, until, now time.Time) message.Message {
	m := message.New(message.Reminder, to, "", in, now)
	m.Gaps["name"], m.Gaps["title"], m.Gaps["when"] = name, title, words.Day(in, until.Local().Add(-time.Millisecond))
	m.Until = until // then it says nothing any more
	return m
}

// Sweep forgets of which ends people were reminded that are long over.
func (r *Members) Sweep(ctx context.Context) error {
	return r.o.Store.SweepReminders(ctx, r.o.Now().Add(-30*24*time.Hour))
}

// Chores is for chores.Room.
func (r *Members) Chores() []chores.Chore {
	return []chores.Chore{chores.Each(time.Second, r.Tend), chores.Each(20*time.Second, r.Remind), chores.Sweep(r.Sweep)}
}
