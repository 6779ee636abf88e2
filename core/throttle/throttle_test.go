package throttle

import (
	"fmt"
	"net/netip"
	"testing"
	"time"
)

var noon = time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)

func TestWaitsGrow(t *testing.T) {
	var l Limiter
	k := Key{"ines 192.0.2.7", Rule{Free: 2, Longest: 10 * time.Second}}
	now := noon
	for i, want := range []time.Duration{0, 0, 1, 2, 4, 8, 10, 10} {
		if wait := l.Try(now, k); wait != 0 {
			t.Fatalf("try %d waits %v", i+1, wait)
		}
		if want == 0 {
			continue
		}
		if wait := l.Try(now, k); wait != want*time.Second {
			t.Errorf("after failure %d: %v, want %v", i+1, wait, want*time.Second)
		}
		if wait := l.Try(now.Add(want*time.Second-1), k); wait != 1 {
			t.Errorf("just before the wait after failure %d ends: %v", i+1, wait)
		}
		now = now.Add(want * time.Second)
	}
}

func TestSuccessForgets(t *testing.T) {
	var l Limiter
	own, shared := Key{"own", Rule{Free: 1, Longest: time.Minute}}, Key{"shared", Rule{Free: 2, Longest: time.Minute}}
	l.Try(noon, own, shared)
	l.Succeeded(own, shared)
	for range 2 {
		if wait := l.Try(noon, shared); wait != 0 {
			t.Fatalf("a success counted: %v", wait)
		}
	}
	if wait := l.Try(noon, own, shared); wait != 0 {
		t.Fatal(wait)
	}
	if wait := l.Try(noon, own, shared); wait != time.Second {
		t.Errorf("the third failure waits %v", wait)
	}
	if wait := l.Try(noon.Add(25*time.Hour), own, shared); wait != 0 {
		t.Errorf("a day later: %v", wait)
	}
	if wait := l.Try(noon.Add(-100*time.Hour), Key{"shared", Rule{Free: 0, Longest: time.Minute}}); wait > time.Minute {
		t.Errorf("a clock that went back: %v", wait)
	}
}

func TestMemoryIsBounded(t *testing.T) {
	var l Limiter
	for i := range most + most/2 {
		l.Try(noon.Add(time.Duration(i)*time.Millisecond), Key{fmt.Sprint(i), Pair})
	}
	if len(l.marks) > most {
		t.Errorf("%d keys are kept", len(l.marks))
	}
}

// When there are too many keys, and none is over, a quarter of them goes.
func TestAQuarterGoes(t *testing.T) {
	var l Limiter
	for i := range 200_001 {
		l.Try(noon, Key{fmt.Sprint(i), Pair})
	}
	if len(l.marks) != 150_000 {
		t.Errorf("%d keys are kept", len(l.marks))
	}
}

// The rules are what the documentation says: so many free tries, and no wait longer than that.
func TestTheRules(t *testing.T) {
	for name, test := range map[string]struct {
		rule    Rule
		free    int
		longest time.Duration
	}{
		"pair": {Pair, 4, 15 * time.Minute}, "network": {Network, 30, time.Minute}, "joining": {Joining, 10, time.Hour},
		"account": {Account, 80, 5 * time.Minute},
	} {
		var l Limiter
		k, now := Key{name, test.rule}, noon
		fail := func() {
			t.Helper()
			if wait := l.Try(now, k); wait != 0 {
				t.Fatalf("%s: %v too early", name, wait)
			}
			l.Over(k)
		}
		for range test.free {
			fail()
		}
		fail()
		if wait := l.Try(now, k); wait != time.Second {
			t.Errorf("%s: after %d failures %v", name, test.free+1, wait)
		}
		for want, i := 2*time.Second, 0; i < 100; i++ {
			now = now.Add(test.longest)
			fail()
			if wait := l.Try(now, k); wait != min(want, test.longest) {
				t.Fatalf("%s: waits for %v, want %v", name, wait, min(want, test.longest))
			}
			want = min(2*want, test.longest)
		}
	}
}

// Many who share a network sign in at once: nobody waits for those who are only under way. Where few share, as many at once do wait.
func TestManyAtOnce(t *testing.T) {
	var l Limiter
	for i := range 10 * Network.Free {
		if wait := l.Try(noon, Key{"office", Network}); wait != 0 {
			t.Fatalf("the try %d at once waits for %v", i+1, wait)
		}
	}
	for range 10 * Network.Free { // and all were wrong
		l.Over(Key{"office", Network})
	}
	if wait := l.Try(noon, Key{"office", Network}); wait != time.Minute {
		t.Errorf("after all those failures: %v", wait)
	}
	now := noon
	fails := func(n int) { // one after the other
		t.Helper()
		for range n {
			if wait := l.Try(now, Key{"school", Network}); wait != 0 {
				t.Fatal(wait)
			}
			l.Over(Key{"school", Network})
		}
	}
	fails(Network.Free)
	for i := range 50 {
		if wait := l.Try(now, Key{"school", Network}); wait != 0 {
			t.Fatalf("after as many failures as are free, the try %d at once waits for %v", i+1, wait)
		}
	}
	few := Network
	few.Many = false
	waits := 0
	for range 2 * Network.Free {
		if l.Try(noon, Key{"a table", few}) > 0 {
			waits++
		}
	}
	if waits != Network.Free-1 {
		t.Errorf("%d of %d at once wait", waits, 2*Network.Free)
	}
}

// A failure counts for a day after the last one, and no longer.
func TestFailuresAreForgotten(t *testing.T) {
	k := Key{"own", Rule{Free: 1, Longest: time.Minute}}
	for after, want := range map[time.Duration]time.Duration{24 * time.Hour: time.Second, 24*time.Hour + 1: 0} {
		var l Limiter
		l.Try(noon, k)
		l.Try(noon.Add(after), k)
		if wait := l.Try(noon.Add(after), k); wait != want {
			t.Errorf("%v later: %v, want %v", after, wait, want)
		}
	}
}

// When too much is kept, what is over goes first: who was wrong just now still waits. If nothing is over, some goes all the same.
func TestWhatIsOverGoesFirst(t *testing.T) {
	var l Limiter
	fresh := Key{"fresh", Rule{Free: 0, Longest: time.Hour}}
	for i := range most {
		l.Try(noon.Add(-25*time.Hour), Key{fmt.Sprint(i), Pair})
	}
	l.Try(noon, fresh)
	if wait := l.Try(noon, fresh); wait != time.Second || len(l.marks) != 1 {
		t.Errorf("%v, and %d are kept", wait, len(l.marks))
	}
	for i := range most + 1 {
		l.Try(noon, Key{fmt.Sprint(i), Pair})
	}
	if n := len(l.marks); n > most*3/4+1 || n < most/2 {
		t.Errorf("%d are kept", n)
	}
}

func TestBound(t *testing.T) {
	b := NewBound(3, 2)
	one, two, six := netip.MustParsePrefix("192.0.2.7/32"), netip.MustParsePrefix("192.0.2.8/32"), netip.MustParsePrefix("2001:db8::/64")
	for i, step := range []struct {
		of     netip.Prefix
		shared bool
		room   bool
	}{{one, false, true}, {one, false, true}, {one, false, false}, {one, true, true}, {two, false, false}, {six, true, false}} {
		if room := b.Take(step.of, step.shared); room != step.room {
			t.Errorf("step %d: %v", i+1, room)
		}
	}
	b.Give(one)
	if b.Held() != 2 || b.Take(one, false) || !b.Take(two, false) || b.Take(two, false) || b.Held() != 3 {
		t.Errorf("%d are held", b.Held())
	}
	for _, of := range []netip.Prefix{one, one, two} {
		b.Give(of)
	}
	if b.Held() != 0 || len(b.held) != 0 {
		t.Errorf("%d are held, of %d networks", b.Held(), len(b.held))
	}
	for address, want := range map[string]string{
		"192.0.2.7": "192.0.2.7/32", "2001:db8::7": "2001:db8::/64", "::ffff:192.0.2.7": "::ffff:192.0.2.7/128", "fe80::1%eth0": "fe80::/64",
	} {
		if got := NetworkOf(netip.MustParseAddr(address)).String(); got != want {
			t.Errorf("%s is of %s, want %s", address, got, want)
		}
	}
}
