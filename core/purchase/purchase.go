// Package purchase holds the rules of what was bought: for how long a payment opens something, and what refunds and lapses
// leave of it.
//
// What is kept are facts: that something was paid for, that it was refunded. What they come to is worked out anew from all
// of them, so it does not matter in which order they became known.
package purchase

import (
	"cmp"
	"slices"
	"time"
)

// A Payment is that one thing was paid for: a role, or a pass of a kind.
type Payment struct {
	ID    int64
	Order string // its number
	Item  string // as the policy names it, or did
	Title string // as people call it
	Seq   int64  // in which order it became known, among payments and marks
	At    time.Time
	Told  bool // the shop has said when it happened; else At is when it became known
	Again bool // it was paid for once more
	// What it opens: one of Role and Kind is set.
	Role string
	Kind string // of pass
	Pass string // the pass, once there is one; "" before
	// For how long, from At or from the end of what was paid for before: For, or until Until. Neither for no end.
	For   time.Duration
	Until time.Time
	Grace time.Duration // as long it stays open after that
	// After is the role that its owner has when it has ended, for AfterFor, 0 for good; "" for none.
	After    string
	AfterFor time.Duration
	Taken    time.Time // by a steward; zero for not
}

// A Mark is what was told of an order as a whole, or of one of its items.
type Mark struct {
	Order string
	Item  string // "" for all of them
	What  What
	Seq   int64
	At    time.Time
	Told  bool
}

// A What is what was told.
type What string

// What can be told.
const (
	Refunded  What = "refunded"  // nothing of it counts from then on
	Lapsed    What = "lapsed"    // nothing of it counts from then on, but for its grace
	Cancelled What = "cancelled" // it runs to its end
)

// A Term is the time for which a payment opens something.
type Term struct {
	Payment *Payment
	From    time.Time
	Until   time.Time // without its grace; zero for no end
	Open    time.Time // until then it is open, with its grace; zero for no end
	Taken   bool      // it was refunded, or a steward took it, before that
}

// Empty reports whether nothing of the term is left.
func (t Term) Empty() bool { return !t.Until.IsZero() && !t.Until.After(t.From) }

// after reports whether a payment is newer than a mark. Where the shop has said when both happened, that counts. Else what
// became known later is newer, but for the first payment: nothing is refunded before it was paid for.
func (p *Payment) after(m Mark, first bool) bool {
	if p.Told && m.Told {
		return p.At.After(m.At)
	}
	return p.Seq > m.Seq && p.Again && first
}

// cut returns when a payment lapsed, and when it was refunded or taken; zero for not at all.
func (p *Payment) cut(marks []Mark, first bool) (lapsed, taken time.Time) {
	taken = p.Taken
	for _, m := range marks {
		if m.Order != p.Order || m.Item != "" && m.Item != p.Item || m.What == Cancelled || p.after(m, first) {
			continue
		}
		if m.What == Refunded {
			taken = earlier(taken, m.At)
		} else {
			lapsed = earlier(lapsed, m.At)
		}
	}
	return lapsed, taken
}

// earlier returns the earlier of two times, of which zero is never.
func earlier(a, b time.Time) time.Time {
	if a.IsZero() || !b.IsZero() && b.Before(a) {
		return b
	}
	return a
}

// Terms returns for what time each of the payments for one thing, of one owner, opens it, in the order of time. One that
// was made before the end of another begins at that end.
func Terms(payments []Payment, marks []Mark) []Term {
	sorted := slices.Clone(payments)
	slices.SortStableFunc(sorted, func(a, b Payment) int {
		return cmp.Or(a.At.Compare(b.At), cmp.Compare(a.Order, b.Order), cmp.Compare(a.Seq, b.Seq), cmp.Compare(a.ID, b.ID))
	})
	var terms []Term
	for i := range sorted {
		p := &sorted[i]
		t := Term{Payment: p, From: p.At}
		if n := len(terms); n > 0 {
			switch last := terms[n-1]; {
			case last.Until.IsZero(): // there is no end from which it could begin
				continue
			case p.At.Before(last.Open):
				t.From = last.Until
			}
		}
		switch {
		case !p.Until.IsZero():
			t.Until = p.Until
		case p.For > 0:
			t.Until = t.From.Add(p.For)
		}
		lapsed, taken := p.cut(marks, paidBefore(sorted, p))
		if t.Until = earlier(t.Until, lapsed); !t.Until.IsZero() {
			t.Open = t.Until.Add(p.Grace)
		}
		if t.Open.IsZero() || !taken.IsZero() && taken.Before(t.Open) {
			t.Open, t.Taken = taken, !taken.IsZero()
		}
		t.Until = earlier(t.Until, taken)
		if t.Empty() { // what comes next begins where it would have without it
			continue
		}
		terms = append(terms, t)
	}
	return terms
}

// OfRoles returns the terms of each role that one owner has paid for.
func OfRoles(payments []Payment, marks []Mark) map[string][]Term {
	byRole := map[string][]Payment{}
	for _, p := range payments {
		if p.Role != "" {
			byRole[p.Role] = append(byRole[p.Role], p)
		}
	}
	terms := map[string][]Term{}
	for role, paid := range byRole {
		terms[role] = Terms(paid, marks)
	}
	return terms
}

// paidBefore reports whether the first payment for the order of p was known before p.
func paidBefore(all []Payment, p *Payment) bool {
	return slices.ContainsFunc(all, func(other Payment) bool { return other.Order == p.Order && !other.Again && other.Seq < p.Seq })
}

// A Span is for how long something is open, from payments that follow each other without a gap.
type Span struct {
	From  time.Time
	Until time.Time // with its grace; zero for no end
	Last  Term      // the last of them
}

// Latest returns the last span of the terms; false for none.
func Latest(terms []Term) (s Span, has bool) {
	for _, t := range terms {
		if has && (s.Until.IsZero() || !s.Until.Before(t.From)) {
			if !s.Until.IsZero() && (t.Open.IsZero() || t.Open.After(s.Until)) {
				s.Until, s.Last = t.Open, t
			}
			continue
		}
		s, has = Span{t.From, t.Open, t}, true
	}
	return s, has
}

// Longest is the longest that something bought is open for: more is as good as without an end, and doesn't overflow
// when it is added to a time.
const Longest = 100 * 365 * 24 * time.Hour

// Times is how long something is open that was bought several times, Longest at most; 0, which is without an end, only if it is so for one.
func Times(d time.Duration, n int) time.Duration {
	if d <= 0 || n < 1 {
		return d
	}
	if d > Longest/time.Duration(n) {
		return Longest
	}
	return d * time.Duration(n)
}
