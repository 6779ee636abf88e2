package pattern

import "testing"

// A Pattern answers as the expression that it is made of, and Check finds one that isn't any.
func TestPattern(t *testing.T) {
	defer func(before []*Pattern) { made = before }(made)
	p := New(`(b+)(c)`)
	if !p.MatchString("abbc") || p.FindString("abbc") != "bbc" || p.FindStringSubmatch("abbc")[1] != "bb" || p.String() != `(b+)(c)` {
		t.Error("does not find what it is made of")
	}
	if n, err := Check(); n != len(made) || err != nil {
		t.Errorf("%d patterns, %v", n, err)
	}
	New(`(b+`)
	if _, err := Check(); err == nil {
		t.Error("an expression without its end was taken")
	}
}
