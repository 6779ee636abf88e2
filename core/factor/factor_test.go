package factor

import (
	"testing"
	"time"
)

// A proof is fresh for as long as was asked for; one of the future never is.
func TestWithin(t *testing.T) {
	for age, fresh := range map[time.Duration]bool{
		0: true, time.Minute: true, time.Minute + 1: false, -1: false, -time.Hour: false, Unknown: false,
	} {
		for k := range kinds {
			if got := (Shown{}).With(k, age).Within(time.Minute); got.Has(k) != fresh || !fresh && got != 0 {
				t.Errorf("%v, a proof of an age of %v: %v", k, age, got)
			}
		}
	}
	if got := (Shown{}).Within(time.Hour); got != 0 {
		t.Errorf("nothing was shown: %v", got)
	}
}

// What is met, opens and lacks, of each set there is, counted out by hand.
func TestEachSet(t *testing.T) {
	for s := Set(0); s < 1<<kinds; s++ {
		password, elsewhere, passkey, code := s.Has(Password), s.Has(Elsewhere), s.Has(Passkey), s.Has(Code)
		ways := 0
		for _, has := range []bool{password || elsewhere, passkey, code} {
			if has {
				ways++
			}
		}
		for asked, want := range map[string]bool{
			AskPasskey: passkey, AskCode: code, AskTwo: ways >= 2, "": false, "three": false, "password": false,
		} {
			if got := s.Meets(asked); got != want {
				t.Errorf("%q is %q: %v", s, asked, got)
			}
			lacks := s.Lacks(asked)
			steps := Set(0) // each kind that brings it nearer
			for _, alternative := range Alternatives(asked) {
				for _, k := range alternative.Kinds() {
					if !want && !s.Has(k) && !(k == Password && elsewhere) {
						steps |= Of(k)
					}
				}
			}
			if lacks != steps {
				t.Errorf("%q lacks %q of %q, want %q", s, lacks, asked, steps)
			}
		}
		if got := s.Opens(); got != (password || elsewhere || passkey) {
			t.Errorf("%q opens: %v", s, got)
		}
		if got := ReadSet(s.String()); got != s {
			t.Errorf("%q is read as %q", s, got)
		}
		if got := Of(s.Kinds()...); got != s {
			t.Errorf("%q has the kinds of %q", s, got)
		}
		for other := Set(0); other < 1<<kinds; other++ {
			missing := Set(0)
			for _, k := range other.Kinds() {
				if !s.Has(k) && !(k == Password && elsewhere) {
					missing |= Of(k)
				}
			}
			if s.Missing(other) != missing || s.Covers(other) != (missing == 0) {
				t.Errorf("%q misses %q of %q", s, s.Missing(other), other)
			}
		}
	}
	if got := ReadSet(" passkey  face code\n"); got != Of(Passkey, Code) {
		t.Errorf("read as %q", got)
	}
	for k := range kinds {
		if got, ok := KindNamed(k.String()); !ok || got != k {
			t.Errorf("%v is named %v", k, got)
		}
		if k.Opens() != Of(k).Opens() {
			t.Errorf("%v alone opens: %v", k, k.Opens())
		}
	}
	if k, ok := KindNamed("face"); ok || k != 0 {
		t.Errorf("face is %v", k)
	}
}

// Times are kept to the millisecond; what nobody can have written was not shown, and what lies in the future is of no known age.
func TestTimes(t *testing.T) {
	now := time.UnixMilli(1_764_183_600_123)
	all := Times{}.At(Password, now.Add(-time.Hour)).At(Code, now).At(Passkey, now.Add(time.Millisecond))
	if got := all.String(); got != "password=1764180000123 passkey=1764183600124 code=1764183600123" {
		t.Error(got)
	}
	if got := ReadTimes(all.String()); got != all {
		t.Errorf("%v is read as %v", all, got)
	}
	if got := all.Kinds(); got != Of(Password, Passkey, Code) {
		t.Errorf("kinds %q", got)
	}
	shown := all.Shown(now)
	for k, want := range map[Kind]time.Duration{Password: time.Hour, Code: 0, Passkey: Unknown} {
		if age, ok := shown.Age(k); !ok || age != want {
			t.Errorf("%v: %v %v, want %v", k, age, ok, want)
		}
	}
	if age, ok := shown.Age(Elsewhere); ok || age != 0 || shown.Kinds != all.Kinds() {
		t.Errorf("what was not shown: %v %v, of %q", age, ok, shown.Kinds)
	}
	for _, text := range []string{"", "face=1764183600123", "password", "password=", "password=x", "password=0", "password=-5",
		"=1764183600123"} {
		if got := ReadTimes(text); got != (Times{}) {
			t.Errorf("%q is read as %v", text, got)
		}
	}
	if got := ReadTimes("password=1"); got != (Times{}).At(Password, time.UnixMilli(1)) {
		t.Errorf("the first millisecond: %v", got)
	}
}
