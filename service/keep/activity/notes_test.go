package activity

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"ostiarius/core/place"
	"ostiarius/core/policy"
	"ostiarius/store"
	"ostiarius/store/fresh"
)

// Requests are counted by hour, refusals recorded one by one, to a bound.
func TestNotes(t *testing.T) {
	records := fresh.Records(t, t.TempDir())
	ctx, now := t.Context(), time.Date(2026, 11, 25, 12, 0, 0, 0, time.UTC)
	l := New(Options{Store: records, Now: func() time.Time { return now }, Keep: 24 * time.Hour, Most: 5})
	door := &policy.Door{Written: "/office/**", Admit: policy.Demand{Kind: policy.Nobody}}
	v := policy.Visitor{SignedIn: true, Account: "ines"}
	at := place.Place{Method: "GET", Path: "/office"}
	note := func(outcome policy.Outcome, door *policy.Door, at place.Place, v *policy.Visitor) string {
		l.Count(outcome, door)
		return l.Note(outcome, door, at, v, 0)
	}
	for range 3 {
		note(policy.Admit, door, at, &v)
	}
	reference := note(policy.Refuse, door, at, &v)
	if len(reference) != 9 {
		t.Errorf("reference %q", reference)
	}
	if hidden := note(policy.Hide, door, at, &v); hidden != "" {
		t.Errorf("a hidden place has the reference %q", hidden)
	}
	events, _, err := l.Events(ctx, Query{Reference: strings.ToLower(reference), Limit: 10})
	if err != nil || len(events) != 1 || events[0].Account != "ines" || events[0].Door != "/office/**" || events[0].Place != "GET /office" {
		t.Errorf("%+v %v", events, err)
	}
	now = now.Add(time.Hour)
	for i := range 2000 { // alike ones are drawn together, and one is told of those; the others are found
		if told := note(policy.Refuse, door, place.Place{Method: "GET", Path: fmt.Sprint("/office/", i)}, &v); i == 0 {
			reference = told
		} else if i > 2*mostAlike && told != reference {
			t.Fatalf("refusal %d has a reference of its own: %s", i, told)
		}
	}
	counts, err := l.Counts(ctx, now.Add(-24*time.Hour))
	if err != nil || fmt.Sprint(len(counts), counts[0].N, counts[len(counts)-1].N) != "4 3 2000" {
		t.Errorf("%+v %v", counts, err)
	}
	all, _, err := l.Events(ctx, Query{Kind: "refused", Limit: 10_000})
	if err != nil || len(all) != 1+mostAlike {
		t.Errorf("%d refusals are recorded, %v", len(all), err)
	}
	now = now.Add(time.Minute)
	all, _, err = l.Events(ctx, Query{Reference: reference, Limit: 10})
	if err != nil || len(all) != 2 || all[0].Detail != "1980 more like this, at many places" {
		t.Errorf("drawn together: %+v, %v", all, err)
	}
	if err := l.Bound(ctx); err != nil {
		t.Fatal(err)
	}
	if left, _, _ := l.Events(ctx, Query{Limit: 100}); len(left) != 5 {
		t.Errorf("%d events are left of 5", len(left))
	}
	now = now.Add(48 * time.Hour)
	if err := l.Sweep(ctx); err != nil {
		t.Fatal(err)
	}
	if left, _, _ := l.Events(ctx, Query{Limit: 10}); len(left) != 0 {
		t.Errorf("%d events are older than they are kept", len(left))
	}
}

// What was counted is there when the log is closed, also what was drawn together.
func TestCloseWritesAll(t *testing.T) {
	records := fresh.Records(t, t.TempDir())
	l := New(Options{Store: records, Now: time.Now})
	for range 5 {
		l.Add(store.Activity{At: time.Now(), Kind: "sign-in slowed", Account: "ines", Network: "192.0.2.7"})
	}
	if err := l.Close(t.Context()); err != nil {
		t.Fatal(err)
	}
	all, err := records.AllEvents(t.Context(), store.ActivityQuery{Limit: 10})
	if err != nil || len(all) != 2 || !strings.HasPrefix(all[0].Detail, "4 more like this") {
		t.Errorf("%+v %v", all, err)
	}
	if total := l.Total(policy.Admit); total != 0 {
		t.Errorf("%d were admitted", total)
	}
}
