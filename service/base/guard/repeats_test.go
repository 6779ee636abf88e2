package guard

import (
	"fmt"
	"net/http"
	"testing"
	"time"
)

// What one request was given is brought by its next question, and by no other, for a while.
func TestRepeats(t *testing.T) {
	var p repeats
	now := time.Date(2026, 11, 26, 12, 0, 0, 0, time.UTC)
	fresh := []string{"ostiarius-session=new; Path=/; HttpOnly"}
	bring := func(number string, at time.Time) string {
		r := &http.Request{Header: http.Header{"Cookie": {"a=1; ostiarius-session=old; b=2", "ostiarius-session-like=x"}}}
		was := r.Header
		told := p.bring(number, r, at)
		if was["Cookie"][0] != "a=1; ostiarius-session=old; b=2" {
			t.Error("another's header was changed")
		}
		return fmt.Sprint(told, r.Header["Cookie"])
	}
	const nothing = "[] [a=1; ostiarius-session=old; b=2 ostiarius-session-like=x]"
	p.give("7", fresh, now)
	p.give("8", nil, now)
	p.give("", fresh, now)
	if got := bring("7", now.Add(time.Second)); got != "[ostiarius-session=new; Path=/; HttpOnly] [a=1; ostiarius-session=new; b=2 "+
		"ostiarius-session-like=x]" {
		t.Error(got)
	}
	for number, at := range map[string]time.Time{"8": now, "": now, "9": now, "7": now.Add(readyLasts + time.Second)} {
		if got := bring(number, at); got != nothing {
			t.Errorf("%q: %s", number, got)
		}
	}
	for i := range 2 * mostReady {
		p.give(fmt.Sprint("n", i), fresh, now)
	}
	if len(p.kept) > mostReady || len(p.order) != len(p.kept) {
		t.Errorf("%d are kept", len(p.kept))
	}
}
