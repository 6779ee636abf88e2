package passes_test

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"strings"
	"testing"
	"time"

	"ostiarius/core/pass"
	"ostiarius/service/base/mistake"
	"ostiarius/service/held/passes"
	"ostiarius/service/rooms/house"
	"ostiarius/store"
)

var ctx = context.Background()

// A pass on two devices; credentials that are rotated with a grace time, and for all of a kind.
func TestRotation(t *testing.T) {
	h, c, front := house.Handing(t)
	i := h.Issue(t, "recordings", passes.NewPass{})
	gate := h.Passes.Gate()
	openIn := func(link string) string {
		token, _, err := gate.Open(ctx, link, passes.Origin{})
		if err != nil {
			return ""
		}
		return "ostiarius-pass-" + i.Pass.ID + "=" + token
	}
	in := func(f fetch) bool { f.path = "/recordings/"; return f.of(front).Code == 200 }
	phone, desk := openIn(linkOf(i)), openIn(linkOf(i))
	if phone == desk || !in(fetch{cookie: phone}) || !in(fetch{cookie: desk}) || in(fetch{cookie: phone + "; " + phone}) {
		t.Error("two devices")
	}
	if err := gate.Close(ctx, strings.SplitN(desk, "=", 2)[1]); err != nil || in(fetch{cookie: desk}) || !in(fetch{cookie: phone}) {
		t.Error("one of them is closed")
	}
	if n, err := h.Passes.RotateKind(ctx, "test", "recordings", c.Now().Add(time.Second), time.Hour); n != 0 || err != nil {
		t.Errorf("what is made now is rotated: %d %v", n, err)
	}
	c.Pass(time.Minute)
	n, err := h.Passes.RotateKind(ctx, "test", "recordings", c.Now(), time.Hour)
	if n != 1 || err != nil {
		t.Fatal(n, err)
	}
	if n, err := h.Passes.RotateKind(ctx, "test", "recordings", c.Now(), time.Hour); n != 0 || err != nil {
		t.Errorf("twice: %d %v", n, err)
	}
	late := openIn(linkOf(i)) // with the link before, while it counts
	if late == "" || !in(fetch{cookie: phone}) || !in(fetch{cookie: late}) || !in(fetch{user: i.Pass.ID, password: i.Password}) {
		t.Error("those before do not count")
	}
	c.Pass(2 * time.Hour)
	if openIn(linkOf(i)) != "" || in(fetch{cookie: phone}) || in(fetch{cookie: late}) || in(fetch{user: i.Pass.ID, password: i.Password}) {
		t.Error("those before count after the grace time")
	}
	next, err := h.Passes.Resend(ctx, "test", i.Pass.ID, 0, true)
	if err != nil || !in(fetch{user: i.Pass.ID, password: next.Password}) {
		t.Fatal(err)
	}
	if mails, _ := h.Records.Messages(ctx, store.MessageQuery{Limit: 100}); len(mails) != 2 {
		t.Errorf("%d messages", len(mails))
	}
	if err := h.Passes.Pause(ctx, "test", i.Pass.ID); err != nil || in(fetch{user: i.Pass.ID, password: next.Password}) {
		t.Error("paused", err)
	}
	if err := h.Passes.Resume(ctx, "test", i.Pass.ID); err != nil || !in(fetch{user: i.Pass.ID, password: next.Password}) {
		t.Error("resumed", err)
	}
	if err := h.Passes.Revoke(ctx, "test", i.Pass.ID); err != nil || in(fetch{user: i.Pass.ID, password: next.Password}) {
		t.Error("revoked", err)
	}
	var wrong *mistake.Error
	for what, err := range map[string]error{
		"revoke": h.Passes.Revoke(ctx, "test", i.Pass.ID), "resume": h.Passes.Resume(ctx, "test", i.Pass.ID),
		"pause": h.Passes.Pause(ctx, "test", i.Pass.ID),
	} {
		if !errors.As(err, &wrong) || wrong.Kind != "taken" {
			t.Errorf("%s what is revoked: %v", what, err)
		}
	}
}

// Who guesses waits; the names and passwords of others go on.
func TestGuessingAtPasses(t *testing.T) {
	h, _, front := house.Handing(t)
	mine, other := h.Issue(t, "recordings", passes.NewPass{}), h.Issue(t, "recordings", passes.NewPass{})
	slowed := 0
	for range 20 {
		if w := (fetch{path: "/recordings/", user: mine.Pass.ID, password: "wrong", network: "203.0.113.9"}).of(front); w.Code == 429 {
			slowed++
		} else if w.Code != 401 {
			t.Fatal(w.Code)
		}
	}
	if slowed < 10 {
		t.Errorf("%d of 20 were slowed", slowed)
	}
	if w := (fetch{path: "/recordings/", user: other.Pass.ID, password: other.Password, network: "192.0.2.9"}).of(front); w.Code != 200 {
		t.Errorf("another one, elsewhere: %d", w.Code)
	}
	for _, f := range []fetch{{user: mine.Pass.ID, password: other.Password}, {user: "gate", password: "x"},
		{cookie: "ostiarius-pass-x=" + strings.Repeat("A", 43)}, {cookie: "ostiarius-pass-x=x"}} {
		f.path, f.network = "/recordings/", "192.0.2.10"
		if w := f.of(front); w.Code != 401 && w.Code != 303 {
			t.Errorf("%+v: %d", f, w.Code)
		}
	}
	if w := (fetch{path: "/hidden/x", user: mine.Pass.ID, password: "wrong"}).of(front); w.Code != 404 {
		t.Errorf("a hidden door says %d to a wrong password", w.Code)
	}
	if w := (fetch{path: "/hidden/x", user: other.Pass.ID, password: other.Password}).of(front); w.Code != 200 {
		t.Errorf("and %d to a right one", w.Code)
	}
	if w := (fetch{path: "/hidden/x"}).of(front); w.Code != 404 || w.Header().Get("WWW-Authenticate") != "" {
		t.Errorf("and %d, %v to none", w.Code, w.Header())
	}
}

// Of whom a pass is, and what opens it, nothing is kept that would open it.
func TestNoSecretOfAPassIsKept(t *testing.T) {
	h, _, front := house.Handing(t)
	i := h.Issue(t, "recordings", passes.NewPass{})
	fetch{path: "/recordings/x-10.bin", user: i.Pass.ID, password: i.Password}.of(front)
	if err := h.Activity.Flush(ctx); err != nil {
		t.Fatal(err)
	}
	events, err := h.Records.AllEvents(ctx, store.ActivityQuery{Limit: 100})
	if err != nil {
		t.Fatal(err)
	}
	story, _ := h.Passes.Story(ctx, i.Pass.ID)
	kept, _ := json.Marshal([]any{events, story, i.Pass})
	for _, secret := range []string{linkOf(i), i.Password} {
		if bytes.Contains(kept, []byte(secret)) {
			t.Errorf("%s stands in %s", secret, kept)
		}
	}
}

// A list of many: the lines that can be taken, and once more only what is missing.
func TestImportOfPasses(t *testing.T) {
	h, _, _ := house.Handing(t)
	var list strings.Builder
	list.WriteString("address,name,reference\n")
	for n := range 300 {
		fmt.Fprintf(&list, "a%d@x.example,A %d,%d\n", n, n, n)
	}
	list.WriteString("nonsense,,\na7@x.example,A 7,7\n")
	for round, want := range []map[string]int{{"add": 300, "error": 2}, {"add": 300, "error": 2}, {"same": 300, "error": 2}} {
		lines, issued, err := h.Passes.Import(ctx, "test", "recordings", list.String(), time.UTC, passes.NewPass{}, round == 0)
		if err != nil {
			t.Fatal(err)
		}
		got := map[string]int{}
		for _, l := range lines {
			got[l.Action]++
		}
		if fmt.Sprint(got) != fmt.Sprint(want) || (round == 1) != (len(issued) == 300) {
			t.Errorf("round %d: %v, %d issued", round, got, len(issued))
		}
	}
	if counts, err := h.Passes.Counts(ctx); err != nil || counts["recordings"][pass.Waiting] != 300 {
		t.Errorf("%v %v", counts, err)
	}
	found, err := h.Passes.List(ctx, store.PassQuery{Begins: "a29", Limit: 50}, "")
	if err != nil || len(found) != 11 {
		t.Errorf("%d begin so, %v", len(found), err)
	}
	seen := map[string]bool{}
	for after := ""; ; {
		part, err := h.Passes.List(ctx, store.PassQuery{Kind: "recordings", State: pass.Waiting, Limit: 70}, after)
		if err != nil {
			t.Fatal(err)
		}
		if len(part) == 0 {
			break
		}
		for _, is := range part {
			if seen[is.ID] {
				t.Fatalf("%s comes twice", is.ID)
			}
			seen[is.ID] = true
		}
		after = part[len(part)-1].ID
	}
	if len(seen) != 300 {
		t.Errorf("%d in parts", len(seen))
	}
}
