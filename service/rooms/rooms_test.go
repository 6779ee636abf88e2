package rooms

import (
	"context"
	"encoding/base64"
	"errors"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"net/netip"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"ostiarius/core/message"
	"ostiarius/core/policy"
	"ostiarius/core/secret"
	"ostiarius/core/throttle"
	"ostiarius/service/guard"
	"ostiarius/service/hashing"
	"ostiarius/service/people"
	"ostiarius/service/sessions"
	"ostiarius/store"
	"ostiarius/store/fresh"
)

var ctx = context.Background()

// A clock that stands still until it is told to go on.
type clock struct {
	mu  sync.Mutex
	now time.Time
}

func (c *clock) Now() time.Time {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.now
}

func (c *clock) pass(d time.Duration) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.now = c.now.Add(d)
}

// A house is the rooms over records of their own, in which Ines is a keeper.
type house struct {
	*Rooms
	records *store.Store
	book    *policy.Book
	pool    *hashing.Pool
	now     func() time.Time
	notices map[message.Kind]bool // what owners of an account are told
}

// start opens the rooms, as another process would after the one before has ended.
func (h *house) start(t testing.TB) *house {
	t.Helper()
	again := *h
	rooms, err := Open(Options{Store: h.records, Book: func() *policy.Book { return again.book }, Now: h.now, Hashing: h.pool, Front: &guard.Front{}, Log: slog.New(slog.DiscardHandler),
		Mail: Mail{Site: func() string { return "https://marram.example" }, Notices: h.notices}})
	if err != nil {
		t.Fatal(err)
	}
	again.Rooms = rooms
	return &again
}

// telling is the house in which owners of an account are told of those kinds.
func (h *house) telling(t testing.TB, kinds ...message.Kind) *house {
	t.Helper()
	h.notices = map[message.Kind]bool{}
	for _, kind := range kinds {
		h.notices[kind] = true
	}
	return h.start(t)
}

func open(t testing.TB) (*house, *store.Store, *clock) {
	t.Helper()
	records := fresh.Records(t, t.TempDir())
	c := &clock{now: time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)}
	h := &house{records: records, pool: hashing.New(secret.Cost{Memory: 64, Passes: 1, Threads: 1}, nil), now: c.Now,
		book: bookOf(t, "roles: {keeper: }\ndoors: [{path: /, admit: public}]\nsessions: {idle: 30m, lifetime: 12h, remembered: 30d}")}
	h = h.start(t)
	if _, err := h.People.Add(ctx, "test", people.NewAccount{Name: "Ines", Password: "seven-brass-prisms", Roles: []string{"keeper"}}); err != nil {
		t.Fatal(err)
	}
	return h, records, c
}

func bookOf(t testing.TB, text string) *policy.Book {
	t.Helper()
	book, findings := policy.Parse("doors.yaml", []byte(text))
	if book == nil {
		t.Fatal(findings)
	}
	return book
}

func signIn(t *testing.T, r *house, remember bool) string {
	t.Helper()
	in, err := r.Desk.SignIn(ctx, "ines", "seven-brass-prisms", sessions.Origin{Network: "192.0.2.7", Agent: strings.Repeat("x", 1000)}, remember)
	if err != nil || in.Visitor.Account != "ines" || !slices.Equal(in.Visitor.Roles, []string{"keeper"}) {
		t.Fatalf("%+v %v", in.Visitor, err)
	}
	return in.Token
}

func alive(t *testing.T, r *house, token string) bool {
	t.Helper()
	v, _, err := r.Sessions.Recognise(ctx, token, nil)
	if err != nil {
		t.Fatal(err)
	}
	return v.SignedIn
}

// present brings credentials of HTTP Basic for a place that asks for an account.
func (h *house) present(ctx context.Context, network, user, password string) (v policy.Visitor, err error) {
	header := "Basic " + base64.StdEncoding.EncodeToString([]byte(user+":"+password))
	t := guard.Turn{Visitor: policy.Visitor{From: netip.MustParseAddr(network)}}
	_, err = h.Visitors.Present(httptest.NewRequestWithContext(ctx, "GET", "/", nil), []string{header}, policy.Wanted{Accounts: true}, &t)
	var later *guard.Later
	if errors.As(err, &later) && later.Status == http.StatusTooManyRequests {
		err = &throttle.Slow{Wait: later.Wait}
	}
	return t.Visitor, err
}

// verified is how often an account's credentials of HTTP Basic were looked at and right.
func (h *house) verified(t *testing.T) (n int) {
	t.Helper()
	events, _, err := h.Activity.Events(ctx, store.EventQuery{Kind: "sign-in", Words: "http basic", Limit: 100})
	if err != nil {
		t.Fatal(err)
	}
	return len(events)
}
