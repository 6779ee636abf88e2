// Package house opens all rooms over records of their own, for the tests of each of them.
package house

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
	"ostiarius/core/policy/read"
	"ostiarius/core/secret"
	"ostiarius/core/throttle"
	"ostiarius/service/base/guard"
	"ostiarius/service/base/hashing"
	"ostiarius/service/rooms"
	"ostiarius/service/who/people"
	"ostiarius/service/who/sessions"
	"ostiarius/store"
	"ostiarius/store/fresh"
)

var ctx = context.Background()

// A Clock that stands still until it is told to go on.
type Clock struct {
	mu  sync.Mutex
	now time.Time
}

// Now is the time that the Clock shows.
func (c *Clock) Now() time.Time {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.now
}

// Pass has the Clock go on.
func (c *Clock) Pass(d time.Duration) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.now = c.now.Add(d)
}

// A House is the rooms over records of their own, in which Ines is a keeper.
type House struct {
	*rooms.Rooms
	Records *store.Store
	Book    *policy.Book
	Pool    *hashing.Pool
	Time    func() time.Time
	Notices map[message.Kind]bool // what owners of an account are told
}

// Start opens the rooms, as another process would after the one before has ended.
func (h *House) Start(t testing.TB) *House {
	t.Helper()
	again := *h
	rooms, err := rooms.Open(rooms.Options{Store: h.Records, Book: func() *policy.Book { return again.Book }, Now: h.Time,
		Hashing: h.Pool, Front: &guard.Front{}, Log: slog.New(slog.DiscardHandler),
		Mail: rooms.Mail{Site: func() string { return "https://marram.example" }, Notices: h.Notices}})
	if err != nil {
		t.Fatal(err)
	}
	again.Rooms = rooms
	return &again
}

// Telling is the house in which owners of an account are told of those kinds.
func (h *House) Telling(t testing.TB, kinds ...message.Kind) *House {
	t.Helper()
	h.Notices = map[message.Kind]bool{}
	for _, kind := range kinds {
		h.Notices[kind] = true
	}
	return h.Start(t)
}

// Open is a house with its records and its clock.
func Open(t testing.TB) (*House, *store.Store, *Clock) {
	t.Helper()
	records := fresh.Records(t, t.TempDir())
	c := &Clock{now: time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)}
	h := &House{Records: records, Pool: hashing.New(secret.Cost{Memory: 64, Passes: 1, Threads: 1}, nil), Time: c.Now,
		Book: BookOf(t, "roles: {keeper: }\ndoors: [{path: /, admit: public}]\nsessions: {idle: 30m, lifetime: 12h, remembered: 30d}")}
	h = h.Start(t)
	if _, err := h.People.Add(ctx, "test",
		people.NewAccount{Name: "Ines", Password: "seven-brass-prisms", Roles: []string{"keeper"}}); err != nil {
		t.Fatal(err)
	}
	return h, records, c
}

// BookOf compiles the text of a policy.
func BookOf(t testing.TB, text string) *policy.Book {
	t.Helper()
	book, findings := read.Parse("doors.yaml", []byte(text))
	if book == nil {
		t.Fatal(findings)
	}
	return book
}

// SignIn signs Ines in, and returns the token of her session.
func SignIn(t *testing.T, r *House, remember bool) string {
	t.Helper()
	in, err := r.SignIn.SignIn(ctx, "ines", "seven-brass-prisms",
		sessions.Origin{Network: "192.0.2.7", Agent: strings.Repeat("x", 1000)}, remember)
	if err != nil || in.Visitor.Account != "ines" || !slices.Equal(in.Visitor.Roles, []string{"keeper"}) {
		t.Fatalf("%+v %v", in.Visitor, err)
	}
	return in.Token
}

// Alive reports whether a token is one of a live session.
func Alive(t *testing.T, r *House, token string) bool {
	t.Helper()
	v, _, err := r.Sessions.Recognise(ctx, token, nil)
	if err != nil {
		t.Fatal(err)
	}
	return v.SignedIn
}

// Present brings credentials of HTTP Basic for a place that asks for an account.
func (h *House) Present(ctx context.Context, network, user, password string) (v policy.Visitor, err error) {
	header := "Basic " + base64.StdEncoding.EncodeToString([]byte(user+":"+password))
	t := guard.Turn{Visitor: policy.Visitor{From: netip.MustParseAddr(network)}}
	_, err = h.Visitors.Present(httptest.NewRequestWithContext(ctx, "GET", "/", nil), []string{header}, policy.Wanted{Accounts: true}, &t)
	var later *guard.Later
	if errors.As(err, &later) && later.Status == http.StatusTooManyRequests {
		err = &throttle.Slow{Wait: later.Wait}
	}
	return t.Visitor, err
}

// Verified is how often an account's credentials of HTTP Basic were looked at and right.
func (h *House) Verified(t *testing.T) (n int) {
	t.Helper()
	events, _, err := h.Activity.Events(ctx, store.ActivityQuery{Kind: "sign-in", Words: "http basic", Limit: 100})
	if err != nil {
		t.Fatal(err)
	}
	return len(events)
}
