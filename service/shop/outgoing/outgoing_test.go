package outgoing

import (
	"context"
	"database/sql"
	"encoding/json"
	"fmt"
	"io"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"net/url"
	"strings"
	"sync"
	"testing"
	"time"

	kind "ostiarius/core/activity"
	"ostiarius/core/message"
	"ostiarius/core/signature"
	"ostiarius/core/telling"
	"ostiarius/store"
	"ostiarius/store/fresh"
)

// A desk is a program that is told something; it answers as it is told to.
type desk struct {
	*httptest.Server
	mu     sync.Mutex
	answer func(w http.ResponseWriter)
	told   []string // bodies that were signed rightly, with their numbers
	secret signature.Secret
	forged int
}

func newDesk(t *testing.T) *desk {
	d := &desk{answer: func(w http.ResponseWriter) { w.WriteHeader(http.StatusNoContent) }}
	d.Server = httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		body, _ := io.ReadAll(r.Body)
		d.mu.Lock()
		defer d.mu.Unlock()
		h := signature.Head{
			ID: r.Header.Get(signature.ID), Timestamp: r.Header.Get(signature.Timestamp), Signature: r.Header.Get(signature.Signature),
		}
		if signature.Check([]signature.Secret{d.secret}, h, body, at) != nil {
			d.forged++
		}
		d.told = append(d.told, h.ID+" "+string(body))
		d.answer(w)
	}))
	t.Cleanup(d.Close)
	return d
}

func (d *desk) heard() []string {
	d.mu.Lock()
	defer d.mu.Unlock()
	return append([]string{}, d.told...)
}

var at = time.Date(2026, 11, 25, 12, 0, 0, 0, time.UTC)

func teller(t *testing.T, rules telling.Rules) (*Notifier, *store.Store, *time.Time) {
	records := fresh.Records(t, t.TempDir())
	now := at
	return New(Options{Store: records, Now: func() time.Time { return now }, Log: slog.New(slog.DiscardHandler), Rules: rules}), records, &now
}

func here(d *desk) telling.Rules {
	u, _ := url.Parse(d.URL)
	return telling.Rules{Hosts: []string{u.Host}, Private: true}
}

func (d *desk) add(t *testing.T, x *Notifier, kinds ...telling.Kind) {
	t.Helper()
	_, text, err := x.Add(t.Context(), "test", d.URL+"/in", kinds)
	if err == nil {
		d.secret, err = signature.ReadSecret(text)
	}
	if err != nil {
		t.Fatal(err)
	}
}

func states(t *testing.T, records *store.Store) string {
	t.Helper()
	all, err := records.Messages(t.Context(), store.MessageQuery{Limit: 100})
	if err != nil {
		t.Fatal(err)
	}
	var words []string
	for _, m := range all {
		words = append(words, fmt.Sprintf("%s %s %d", m.Kind, m.State, m.Tries))
	}
	return strings.Join(words, ", ")
}

// What is recorded is told once to who wants it, signed, again if it was not heard, and always under the same number.
func TestTelling(t *testing.T) {
	d := newDesk(t)
	x, records, now := teller(t, here(d))
	d.add(t, x, telling.Joined, telling.PolicyApplied)
	record := func(k kind.Kind, data map[string]string) {
		if err := records.Record(t.Context(),
			store.Activity{
				At: at, Kind: k, Account: "ola", Actor: "ola", Detail: "by joining", AccountID: store.NoAccount, Data: data,
			}); err != nil {
			t.Fatal(err)
		}
	}
	record(kind.Joined, nil)
	record(kind.SignIn, nil) // is told to nobody
	record(kind.MembershipBegun, nil)
	record(kind.PolicyApplied, map[string]string{"version": "7"})
	d.answer = func(w http.ResponseWriter) { http.Error(w, "later", http.StatusServiceUnavailable) }
	for range 3 { // once each, however often it is looked
		if err := x.Collect(t.Context()); err != nil {
			t.Fatal(err)
		}
	}
	for range 3 {
		if _, err := x.Round(t.Context()); err != nil {
			t.Fatal(err)
		}
	}
	if got := states(t, records); got != "policy-applied waiting 0, joined waiting 1" { // what comes later waits for what came before
		t.Fatalf("a desk that is busy: %s", got)
	}
	d.answer = func(w http.ResponseWriter) {
		w.WriteHeader(http.StatusOK)
		io.Copy(w, strings.NewReader(strings.Repeat("x", 1<<20)))
	}
	*now = at.Add(2 * time.Minute)
	for range 2 {
		if _, err := x.Round(t.Context()); err != nil {
			t.Fatal(err)
		}
	}
	told := d.heard()
	if got := states(t, records); got != "policy-applied sent 1, joined sent 2" || len(told) != 3 || told[0] != told[1] ||
		told[1] == told[2] || d.forged != 0 {
		t.Fatalf("%s\n%q, %d forged", got, told, d.forged)
	}
	_, body, _ := strings.Cut(told[2], " ")
	var said struct {
		Type string
		At   time.Time
		Data map[string]string
	}
	if err := json.Unmarshal([]byte(body), &said); err != nil || said.Type != "policy-applied" || !said.At.Equal(at) ||
		said.Data["version"] != "7" || said.Data["actor"] != "ola" {
		t.Errorf("%s: %+v %v", body, said, err)
	}
	// It is erased once it is told, like a mail.
	all, err := records.Messages(t.Context(), store.MessageQuery{Limit: 1})
	if err != nil || len(all[0].Gaps) != 0 {
		t.Errorf("%+v %v", all, err)
	}
}

// Nothing is told anywhere but where it may be, whatever a name means, whatever is answered, and whatever was right before.
func TestTellingGoesNowhereElse(t *testing.T) {
	elsewhere := newDesk(t)
	d := newDesk(t)
	x, records, now := teller(t, here(d))
	d.add(t, x, telling.Joined)
	post := func() {
		t.Helper()
		if err := records.Record(t.Context(), store.Activity{At: at, Kind: kind.Joined, AccountID: store.NoAccount}); err != nil {
			t.Fatal(err)
		}
		if err := x.Collect(t.Context()); err != nil {
			t.Fatal(err)
		}
		if _, err := x.Round(t.Context()); err != nil {
			t.Fatal(err)
		}
	}
	d.answer = func(w http.ResponseWriter) {
		w.Header().Set("Location", elsewhere.URL)
		w.WriteHeader(http.StatusTemporaryRedirect)
	}
	if post(); len(elsewhere.heard()) != 0 || states(t, records) != "joined waiting 1" {
		t.Errorf("a redirect was followed: %s", states(t, records))
	}
	d.answer = func(w http.ResponseWriter) { w.WriteHeader(http.StatusGone) }
	*now = at.Add(2 * time.Minute)
	if _, err := x.Round(t.Context()); err != nil || states(t, records) != "joined failed 2" {
		t.Errorf("a desk that is gone: %s %v", states(t, records), err)
	}
	heard := len(d.heard())
	// The settings have changed since: the host is named no more, or no private network may be told anything.
	u, _ := url.Parse(d.URL)
	for what, rules := range map[string]telling.Rules{
		"not named": {Hosts: []string{"other.example"}, Private: true}, "a private network": {Hosts: []string{u.Host}},
	} {
		x.o.Rules = rules
		post()
		if len(d.heard()) != heard {
			t.Errorf("%s, and told", what)
		}
	}
	// A name that means this machine.
	private := New(Options{
		Store: records, Now: func() time.Time { return *now }, Log: slog.New(slog.DiscardHandler),
		Rules: telling.Rules{Hosts: []string{"localhost"}},
	})
	answer, err := private.client.Get("https://localhost:" + u.Port() + "/")
	if err == nil || !strings.Contains(err.Error(), "private network") {
		t.Errorf("a name of this machine: %v %v", answer, err)
	}
	x.o.Rules = here(d)
	if all, err := x.Targets(t.Context()); err != nil || x.Remove(t.Context(), "test", all[0].ID) != nil {
		t.Fatal(all, err)
	}
	*now = now.Add(4 * time.Hour)
	if _, err := x.Round(t.Context()); err != nil || len(d.heard()) != heard {
		t.Errorf("a target that was removed is told something: %v", err)
	}
	for _, m := range func() []message.Message {
		all, _ := records.Messages(t.Context(), store.MessageQuery{Limit: 10})
		return all
	}() {
		if m.State == message.Waiting {
			t.Errorf("%s waits for nobody: %s", m.Kind, m.Problem)
		}
	}
}

// A desk that does not answer holds up no other.
func TestOneHoldsUpNoOther(t *testing.T) {
	slow, quick := newDesk(t), newDesk(t)
	hold, stalled := make(chan struct{}), make(chan struct{})
	slow.answer = func(w http.ResponseWriter) { close(stalled); <-hold }
	rules := here(slow)
	rules.Hosts = append(rules.Hosts, here(quick).Hosts...)
	x, records, _ := teller(t, rules)
	slow.add(t, x, telling.Joined)
	quick.add(t, x, telling.Joined)
	if err := records.Record(t.Context(), store.Activity{At: at, Kind: kind.Joined, AccountID: store.NoAccount}); err != nil {
		t.Fatal(err)
	}
	if err := x.Collect(t.Context()); err != nil {
		t.Fatal(err)
	}
	heard := make(chan struct{})
	quick.answer = func(w http.ResponseWriter) { close(heard) }
	done := make(chan error, 1)
	go func() { _, err := x.Round(t.Context()); done <- err }()
	<-stalled
	<-heard
	close(hold)
	if err := <-done; err != nil || !strings.Contains(states(t, records), "joined sent 1, joined sent 1") {
		t.Errorf("%s %v", states(t, records), err)
	}
}

// Each program has a queue of its own: while one takes its time, the others are told all that comes, in order.
func TestOneSlowProgramDelaysNoOther(t *testing.T) {
	slow, quick := newDesk(t), newDesk(t)
	hold := make(chan struct{})
	slow.answer = func(w http.ResponseWriter) { <-hold }
	rules := here(slow)
	rules.Hosts = append(rules.Hosts, here(quick).Hosts...)
	x, records, _ := teller(t, rules)
	slow.add(t, x, telling.Joined)
	quick.add(t, x, telling.Joined)
	ctx, end := context.WithCancel(t.Context())
	ended := make(chan struct{})
	go func() { defer close(ended); x.Run(ctx) }()
	for i := range 5 {
		if err := records.Record(t.Context(), store.Activity{At: at, Kind: kind.Joined, Account: fmt.Sprint("p", i),
			AccountID: store.NoAccount}); err != nil {
			t.Fatal(err)
		}
		if err := x.Collect(t.Context()); err != nil {
			t.Fatal(err)
		}
		for until := time.Now().Add(5 * time.Second); len(quick.heard()) < i+1; time.Sleep(5 * time.Millisecond) {
			if time.Now().After(until) {
				t.Fatalf("the quick program was told %d of %d", len(quick.heard()), i+1)
			}
		}
	}
	for i, told := range quick.heard() {
		if !strings.Contains(told, fmt.Sprintf(`"p%d"`, i)) {
			t.Errorf("told as number %d: %s", i, told)
		}
	}
	close(hold)
	end()
	<-ended
}

// While the disk is full what a program was told cannot be noted: it is told again later, and not again and again.
func TestWhatCannotBeNotedIsNotToldAtOnceAgain(t *testing.T) {
	d := newDesk(t)
	x, records, _ := teller(t, here(d))
	d.add(t, x, telling.Joined)
	if err := records.Record(t.Context(), store.Activity{At: at, Kind: kind.Joined, AccountID: store.NoAccount}); err != nil {
		t.Fatal(err)
	}
	if err := x.Collect(t.Context()); err != nil {
		t.Fatal(err)
	}
	beside, err := sql.Open("sqlite", "file:"+records.Path())
	if err != nil {
		t.Fatal(err)
	}
	defer beside.Close()
	if _, err := beside.Exec(`CREATE TRIGGER full BEFORE UPDATE ON messages BEGIN SELECT RAISE(ABORT, 'the disk is full'); END`); err != nil {
		t.Fatal(err)
	}
	ctx, end := context.WithCancel(t.Context())
	ended := make(chan struct{})
	go func() { defer close(ended); x.Run(ctx) }()
	for until := time.Now().Add(5 * time.Second); len(d.heard()) == 0 && time.Now().Before(until); {
		time.Sleep(5 * time.Millisecond)
	}
	time.Sleep(300 * time.Millisecond)
	end()
	<-ended
	if n := len(d.heard()); n != 1 {
		t.Errorf("it was told %d times", n)
	}
}
