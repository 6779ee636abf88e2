package visitor

import (
	"encoding/binary"
	"testing"
	"time"
)

// What is verified while something changes is not remembered, since it may be what changed; and what is remembered is bounded and dropped.
func TestWhatIsVerifiedMeanwhile(t *testing.T) {
	now := time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)
	var v verified
	v.clear()
	good := proof{from: now, until: now.Add(time.Minute)}
	one, two := v.seal("account", "Basic one"), v.seal("account", "Basic two")
	if one == two || one == v.seal("keyring account", "Basic one") || v.seal("a", "bc") == v.seal("ab", "c") ||
		one != v.seal("account", "Basic one") {
		t.Fatal("seals are not of one scope and one header")
	}
	for what, change := range map[string]func(){"an account": v.changed, "all": v.clear} {
		v.clear()
		before := v.version()
		change()
		sum := v.seal("account", "Basic one")
		v.put(before, sum, good)
		if v.get(sum, now) != nil {
			t.Errorf("%s has changed, and what was read before is remembered", what)
		}
		v.put(v.version(), sum, good)
		if v.get(sum, now) == nil {
			t.Errorf("%s has changed, and what was read after is not remembered", what)
		}
	}
	one, two = v.seal("account", "Basic one"), v.seal("account", "Basic two")
	v.put(v.version(), one, good)
	v.put(v.version(), two, good)
	if v.get(one, now) == nil || v.get(two, now) == nil {
		t.Error("one is forgotten for the other")
	}
	v.changed()
	if v.get(one, now) == nil {
		t.Error("what was verified before a change of another is forgotten; its account tells whether it has changed")
	}
	if v.get(one, now.Add(time.Minute)) != nil || v.get(one, now.Add(-1)) != nil || v.get(one, now.Add(time.Minute-1)) == nil {
		t.Error("it counts at another time than from then until then")
	}
	v.clear()
	if v.seal("account", "Basic one") == one || v.get(one, now) != nil {
		t.Error("it is remembered, or would be found again")
	}
	for i := range mostRemembered + 2 {
		var sum [32]byte
		binary.BigEndian.PutUint64(sum[:], uint64(i))
		v.put(v.version(), sum, good)
		if len(v.known) > mostRemembered {
			t.Fatalf("%d are remembered", len(v.known))
		}
	}
	if len(v.known) != 2 {
		t.Errorf("%d are remembered", len(v.known))
	}
}
