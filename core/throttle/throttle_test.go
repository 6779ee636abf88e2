package throttle

import (
	"fmt"
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
