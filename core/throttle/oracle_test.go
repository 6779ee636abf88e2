package throttle

import (
	"fmt"
	"math/rand/v2"
	"net/netip"
	"testing"
	"time"
)

// A naive limiter keeps the tries of each key one by one, and counts them when it is asked.
type naive map[string]*history

type history struct {
	failed   int // that are over
	underWay int
	last     time.Time
	until    time.Time
}

func (h *history) waits(r Rule) time.Duration {
	counted := h.failed + h.underWay
	if r.Many && h.failed <= r.Free {
		counted = h.failed
	}
	wait := time.Duration(0)
	for n := r.Free; n < counted && wait < r.Longest; n++ { // the first is a second, each next one twice as long
		wait = max(time.Second, 2*wait)
	}
	return min(wait, r.Longest)
}

func (n naive) try(now time.Time, keys []Key) time.Duration {
	var wait time.Duration
	for _, k := range keys {
		if h := n[k.Name]; h != nil {
			if h.last.After(now) {
				h.last, h.until = now, now.Add(h.waits(k.Rule))
			}
			wait = max(wait, h.until.Sub(now))
		}
	}
	if wait > 0 {
		return wait
	}
	for _, k := range keys {
		h := n[k.Name]
		if h == nil || now.Sub(h.last) > 24*time.Hour {
			h = &history{}
			n[k.Name] = h
		}
		h.underWay++
		h.last, h.until = now, now.Add(h.waits(k.Rule))
	}
	return 0
}

// end ends a try: one that failed, or one that is taken back.
func (n naive) end(keys []Key, counts bool) {
	for _, k := range keys {
		h := n[k.Name]
		if h == nil || h.underWay == 0 {
			continue
		}
		h.underWay--
		if counts {
			h.failed++
		}
		if h.failed+h.underWay == 0 {
			delete(n, k.Name)
			continue
		}
		h.until = h.last.Add(h.waits(k.Rule))
	}
}

// Whatever is tried, succeeds, is taken back or is over, in whatever order and by whatever clock, the wait is that of counting one by one.
func TestAgainstCounting(t *testing.T) {
	random := rand.New(rand.NewPCG(5, 6))
	rules := []Rule{{Free: 1, Longest: time.Minute}, {Free: 3, Longest: 5 * time.Second}, {Free: 2, Longest: time.Hour, Many: true}}
	slowed := 0
	for round := range 400 {
		var l Limiter
		model := naive{}
		now := noon
		var under [][]Key
		for step := range 120 {
			keys := []Key{}
			for i := range 1 + random.IntN(2) {
				keys = append(keys, Key{fmt.Sprint(i, random.IntN(2)), rules[(i+round)%len(rules)]})
			}
			switch what := random.IntN(10); {
			case what < 5 || len(under) == 0:
				got, want := l.Try(now, keys...), model.try(now, keys)
				if got != want {
					t.Fatalf("round %d, step %d: %v waits %v, want %v", round, step, keys, got, want)
				}
				if got == 0 {
					under = append(under, keys)
				} else {
					slowed++
				}
			case what < 7: // it failed
				one := under[0]
				under = under[1:]
				l.Over(one...)
				model.end(one, true)
			case what < 8: // nobody looked at it
				one := under[len(under)-1]
				under = under[:len(under)-1]
				l.TakeBack(one...)
				l.Over(one...)
				model.end(one, false)
			case what < 9:
				now = now.Add(time.Duration(random.IntN(4000)) * time.Millisecond)
			default: // no try is under way for so long
				for _, one := range under {
					l.Over(one...)
					model.end(one, true)
				}
				under = nil
				now = now.Add([]time.Duration{time.Hour, -10 * time.Second, 24 * time.Hour, 24*time.Hour + 1}[random.IntN(4)])
				if random.IntN(8) == 0 {
					l.Forget()
					clear(model)
				}
			}
		}
	}
	if slowed < 1000 {
		t.Errorf("only %d tries had to wait", slowed)
	}
}

// What succeeds forgets all that failed under its own key, and its own try under the others; without a key nothing happens.
func TestWhatASuccessForgets(t *testing.T) {
	var l Limiter
	rule := Rule{Free: 2, Longest: time.Minute}
	own, other, third := Key{"own", rule}, Key{"other", rule}, Key{"third", rule}
	for range 2 {
		l.Try(noon, own, other)
		l.Over(own, other)
	}
	l.Try(noon, own, other)
	l.Succeeded(own, other, third)
	l.Over(own, other, third)
	if len(l.marks) != 1 || l.marks["other"].failures != 2 || l.marks["other"].underWay != 0 {
		t.Errorf("%+v", l.marks)
	}
	for range 2 {
		if wait := l.Try(noon, own); wait != 0 {
			t.Errorf("the own key still waits %v", wait)
		}
	}
	if wait := l.Try(noon, other); wait != 0 {
		t.Errorf("the other waits %v", wait)
	}
	if wait := l.Try(noon, other); wait != time.Second {
		t.Errorf("the other has forgotten what failed before: %v", wait)
	}
	l.Succeeded()
	l.Over(third)
	l.TakeBack(third)
	if len(l.marks) != 2 {
		t.Errorf("%+v", l.marks)
	}
	// What is over twice, or was never under way, counts once.
	l.Over(other, other, other)
	if m := l.marks["other"]; m.underWay != 0 || m.failures != 3 {
		t.Errorf("%+v", m)
	}
	l.Forget()
	if wait := l.Try(noon, other); wait != 0 || l.marks["other"].failures != 1 {
		t.Errorf("forgotten: %v %+v", wait, l.marks)
	}
}

// The wait doubles from a second, and is never longer than the longest, however many fail.
func TestPauses(t *testing.T) {
	rule := Rule{Free: 0, Longest: time.Duration(1) << 62}
	for n, want := range map[int]time.Duration{
		-1: 0, 0: 0, 1: time.Second, 2: 2 * time.Second, 30: time.Second << 29, 31: rule.Longest, 32: rule.Longest, 100: rule.Longest,
	} {
		if got := pause(n, rule); got != want {
			t.Errorf("after %d: %v, want %v", n, got, want)
		}
	}
}

// Of a bound nothing is left when all is given back, and one network has its share of it.
func TestBoundIsGivenBack(t *testing.T) {
	b := NewBound(3, 2)
	one, two := netip.MustParsePrefix("192.0.2.1/32"), netip.MustParsePrefix("192.0.2.2/32")
	take := func(n netip.Prefix, want bool) {
		t.Helper()
		if b.Take(n, false) != want {
			t.Errorf("%s: %v", n, !want)
		}
	}
	take(one, true)
	take(one, true)
	take(one, false)
	b.Give(one)
	if b.held[one] != 1 {
		t.Errorf("%v", b.held)
	}
	take(one, true)
	take(two, true)
	take(two, false)
	for _, n := range []netip.Prefix{one, one, two} {
		b.Give(n)
	}
	if b.Held() != 0 || len(b.held) != 0 {
		t.Errorf("%d, %v", b.Held(), b.held)
	}
	if NetworkNamed("") != "" || NetworkNamed("a socket") != "a socket" || NetworkNamed("192.0.2.7") != "192.0.2.7/32" ||
		NetworkNamed("2001:db8::1") != "2001:db8::/64" ||
		NetworkNamed("::ffff:192.0.2.7") == "" || NetworkOf(netip.Addr{}).IsValid() {
		t.Error("networks are named otherwise")
	}
}
