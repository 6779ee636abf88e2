package purchase

import (
	"cmp"
	"fmt"
	"math/rand/v2"
	"slices"
	"testing"
	"time"
)

var day0 = time.Date(2026, 3, 1, 12, 0, 0, 0, time.UTC)

func day(n int) time.Time { return day0.AddDate(0, 0, n) }

func days(n int) time.Duration { return time.Duration(n) * 24 * time.Hour }

// open reports on which days something is open.
func open(terms []Term, n int) (is []bool) {
	for d := range n {
		at, has := day(d).Add(time.Hour), false
		for _, t := range terms {
			has = has || !at.Before(t.From) && (t.Open.IsZero() || at.Before(t.Open))
		}
		is = append(is, has)
	}
	return is
}

// naive lets the days go by: each payment puts days into a queue, and each day that goes by takes one out of it.
func naive(payments []Payment, marks []Mark, n int) (is []bool) {
	type credit struct {
		order string
		days  int
	}
	var queue []credit
	payments = slices.Clone(payments)
	slices.SortStableFunc(payments, func(a, b Payment) int { return cmp.Compare(a.Order, b.Order) })
	for d := range n {
		for _, p := range payments {
			if p.At.Equal(day(d)) {
				queue = append(queue, credit{p.Order, int(p.For / days(1))})
			}
		}
		for _, m := range marks {
			if m.At.Equal(day(d)) {
				var left []credit
				for _, c := range queue {
					if c.order != m.Order {
						left = append(left, c)
					}
				}
				queue = left
			}
		}
		for len(queue) > 0 && queue[0].days == 0 {
			queue = queue[1:]
		}
		is = append(is, len(queue) > 0)
		if len(queue) > 0 {
			queue[0].days--
		}
	}
	return is
}

// Whatever is paid, refunded and lapses, and in whatever order it becomes known, is open on the days on which it is
// by counting them.
func TestTermsAgainstCountingDays(t *testing.T) {
	random := rand.New(rand.NewPCG(18, 1))
	for round := range 4000 {
		var payments []Payment
		var marks []Mark
		for i := range 1 + random.IntN(5) {
			order := fmt.Sprint("o", random.IntN(3))
			payments = append(payments,
				Payment{
					ID: int64(i), Order: order, Role: "supporter", At: day(random.IntN(40)), Told: true, For: days(1 + random.IntN(15)),
					Again: random.IntN(2) == 0,
				})
		}
		for range random.IntN(3) {
			marks = append(marks, Mark{
				Order: fmt.Sprint("o", random.IntN(3)), What: []What{Refunded, Lapsed}[random.IntN(2)], At: day(random.IntN(60)), Told: true,
			})
		}
		want := naive(payments, marks, 130)
		for range 3 {
			for i, seq := range random.Perm(len(payments) + len(marks)) {
				if i < len(payments) {
					payments[i].Seq = int64(seq)
				} else {
					marks[i-len(payments)].Seq = int64(seq)
				}
			}
			random.Shuffle(len(marks), func(i, j int) { marks[i], marks[j] = marks[j], marks[i] })
			if got := open(Terms(payments, marks), 130); fmt.Sprint(got) != fmt.Sprint(want) {
				t.Fatalf("round %d\npayments %+v\nmarks %+v\ngot  %v\nwant %v", round, payments, marks, got, want)
			}
		}
	}
}

// Where the shop does not say when things happened, what becomes known in another order comes to the same.
func TestOrderOfBecomingKnown(t *testing.T) {
	paid := Payment{Order: "o1", Role: "supporter", For: days(30)}
	renewed := Payment{Order: "o1", Role: "supporter", For: days(30), Again: true}
	for _, c := range []struct {
		what  string
		seq   []string // in which things become known, one a day
		until int      // the day on which it ends, from its beginning; -1 for nothing
	}{
		{"paid", []string{"paid"}, 30},
		{"renewed", []string{"paid", "renewed"}, 60},
		{"renewed before paid", []string{"renewed", "paid"}, 60},
		{"refunded", []string{"paid", "refunded"}, 1},
		{"refunded before paid", []string{"refunded", "paid"}, -1},
		{"refunded before all", []string{"refunded", "renewed", "paid"}, -1},
		{"lapsed", []string{"paid", "lapsed"}, 1},
		{"lapsed, and renewed", []string{"paid", "lapsed", "renewed"}, 30},
		{"cancelled", []string{"paid", "cancelled"}, 30},
		{"cancelled before paid", []string{"cancelled", "paid"}, 30},
	} {
		var payments []Payment
		var marks []Mark
		for i, what := range c.seq {
			switch what {
			case "paid", "renewed":
				p := map[string]Payment{"paid": paid, "renewed": renewed}[what]
				p.Seq, p.At = int64(i), day(i)
				payments = append(payments, p)
			default:
				marks = append(marks, Mark{Order: "o1", What: What(what), Seq: int64(i), At: day(i)})
			}
		}
		span, has := Latest(Terms(payments, marks))
		if has != (c.until >= 0) || has && !span.Until.Equal(span.From.Add(days(c.until))) {
			t.Errorf("%s: %v from %v until %v, want %d days", c.what, has, span.From, span.Until, c.until)
		}
	}
}

// A refund takes back what its order gave and nothing else; a lapse leaves the grace, and whoever renews within it
// goes on from the end.
func TestGraceAndRefund(t *testing.T) {
	year := func(order string, at int) Payment {
		return Payment{Order: order, Role: "supporter", At: day(at), Told: true, For: days(365), Grace: days(7)}
	}
	check := func(what string, terms []Term, from, until int) {
		t.Helper()
		s, has := Latest(terms)
		if !has || !s.From.Equal(day(from)) || !s.Until.Equal(day(until)) {
			t.Errorf("%s: %v, from %v until %v, want %v until %v", what, has, s.From, s.Until, day(from), day(until))
		}
	}
	check("a year", Terms([]Payment{year("o1", 0)}, nil), 0, 372)
	check("two", Terms([]Payment{year("o1", 0), year("o2", 50)}, nil), 0, 737)
	check("within the grace", Terms([]Payment{year("o1", 0), year("o2", 370)}, nil), 0, 737)
	check("after it", Terms([]Payment{year("o1", 0), year("o2", 373)}, nil), 373, 745)
	first := []Mark{{Order: "o1", What: Refunded, At: day(100), Told: true}}
	check("the first refunded", Terms([]Payment{year("o1", 0), year("o2", 50)}, first), 0, 472)
	second := []Mark{{Order: "o2", What: Refunded, At: day(100), Told: true}}
	check("the second refunded before it began", Terms([]Payment{year("o1", 0), year("o2", 50)}, second), 0, 372)
	check("lapsed", Terms([]Payment{year("o1", 0)}, []Mark{{Order: "o1", What: Lapsed, At: day(100), Told: true}}), 0, 107)
	check("refunded", Terms([]Payment{year("o1", 0)}, []Mark{{Order: "o1", What: Refunded, At: day(100), Told: true}}), 0, 100)
	item := year("o1", 0)
	item.Item = "year"
	check("another item refunded",
		Terms([]Payment{item}, []Mark{{Order: "o1", Item: "recording", What: Refunded, At: day(100), Told: true}}), 0, 372)
	for day, until := range map[int]int{1: 107, 200: 372} { // whatever the shop says of an end, it is that
		p := year("o1", 0)
		p.Until = day0.AddDate(0, 0, until-7)
		check("until", Terms([]Payment{p}, []Mark{{Order: "o2", What: Refunded, At: day0.AddDate(0, 0, day), Told: true}}), 0, until)
	}
	forever := year("o1", 0)
	forever.For, forever.Grace = 0, 0
	if s, has := Latest(Terms([]Payment{forever, year("o2", 9)}, nil)); !has || !s.Until.IsZero() {
		t.Errorf("without an end: %v %v", has, s)
	}
	taken := year("o1", 0)
	taken.Taken = day(3)
	check("taken", Terms([]Payment{taken}, nil), 0, 3)
	lapsed := []Mark{{Order: "o1", What: Lapsed, At: day(100), Told: true}}
	taken.Taken = day(103)
	check("taken within the grace", Terms([]Payment{taken}, lapsed), 0, 103)
	check("refunded within the grace",
		Terms([]Payment{year("o1", 0)}, append(lapsed, Mark{Order: "o1", What: Refunded, At: day(102), Told: true})), 0, 102)
}

// A number of years, however many, is no membership without an end.
func TestTimesDoesNotOverflow(t *testing.T) {
	for _, c := range []struct {
		d    time.Duration
		n    int
		want time.Duration
	}{{365 * 24 * time.Hour, 1, 365 * 24 * time.Hour}, {365 * 24 * time.Hour, 300, Longest}, {0, 5, 0}, {time.Hour, 3,
		3 * time.Hour}, {1<<63 - 1, 2, Longest}, {time.Hour, 0, time.Hour}} {
		if got := Times(c.d, c.n); got != c.want {
			t.Errorf("%v %d times: %v, want %v", c.d, c.n, got, c.want)
		}
	}
}
