package client

import (
	"context"
	"fmt"
	"net/url"
	"strconv"
	"time"
)

// ShopEvent is what a shop told of an order, as its state is: waiting, done, kept or ignored.
type ShopEvent struct {
	ID       int64      `json:"id"`
	Source   string     `json:"source"` // shop or list
	Number   string     `json:"number"` // that its sender gave it
	At       time.Time  `json:"at"`     // when it came
	Type     string     `json:"type"`
	Order    string     `json:"order"`
	Address  string     `json:"address,omitempty"`
	Name     string     `json:"name,omitempty"`
	Account  string     `json:"account,omitempty"` // as the shop named it
	Items    []ShopItem `json:"items"`
	Until    *time.Time `json:"until,omitempty"`
	Happened *time.Time `json:"happened,omitempty"` // as the shop says
	State    string     `json:"state"`
	Problem  string     `json:"problem,omitempty"` // why it is kept, or what is to be known of it
	DoneAt   *time.Time `json:"doneAt,omitempty"`
}

// ShopItem is something that was bought.
type ShopItem struct {
	Item   string `json:"item"`
	Name   string `json:"name,omitempty"`
	Number int    `json:"number"`
}

// ShopEvents are events, the newest first, and how many there are in each state in all.
type ShopEvents struct {
	Events  []ShopEvent `json:"events"`
	Waiting int         `json:"waiting"`
	Done    int         `json:"done"`
	Kept    int         `json:"kept"`
	Ignored int         `json:"ignored"`
}

// EventSecret is a secret with which events may be signed, without itself.
type EventSecret struct {
	ID     int64      `json:"id"`
	MadeAt time.Time  `json:"madeAt"`
	MadeBy string     `json:"madeBy"`
	Until  *time.Time `json:"until,omitempty"`
}

// NewEventSecret asks for a secret: the one given, or a new one.
type NewEventSecret struct {
	Secret string `json:"secret,omitempty"` // that the shop has made
	Grace  *int64 `json:"grace,omitempty"`  // seconds for which those before count on; without, they do as before
}

// MadeSecret is a new secret, shown this once.
type MadeSecret struct {
	Secret string `json:"secret"`
}

// PaymentsImport brings in a list of payments.
type PaymentsImport struct {
	File string `json:"file"`
	Dry  bool   `json:"dryRun,omitempty"`
}

// ImportedPayments say what became of each line of a list of payments, or would.
type ImportedPayments struct {
	Lines []ImportedLine `json:"lines"`
}

// Target is a program that is told what happens.
type Target struct {
	ID     int64     `json:"id"`
	URL    string    `json:"url"`
	Kinds  []string  `json:"kinds"`
	MadeAt time.Time `json:"madeAt"`
	MadeBy string    `json:"madeBy"`
}

// NewTarget asks for a program to be told what happens.
type NewTarget struct {
	URL   string   `json:"url"`
	Kinds []string `json:"kinds"`
}

// MadeTarget is a new target, with the secret with which it is told, shown this once.
type MadeTarget struct {
	ID     int64  `json:"id"`
	Secret string `json:"secret"`
}

// EventCalls are the calls about events from a shop, and to other programs.
type EventCalls struct{ c *Client }

// Events returns the calls about events.
func (c *Client) Events() EventCalls { return EventCalls{c} }

// List returns the events of a state, or of all with "", that have a text in them, earlier than the one with the number before unless that is 0.
func (k EventCalls) List(ctx context.Context, state, search string, before int64, limit int) (all ShopEvents, err error) {
	q := url.Values{"state": {state}, "search": {search}, "before": {strconv.FormatInt(before, 10)}, "limit": {strconv.Itoa(limit)}}
	return all, k.c.do(ctx, "GET", "/events?"+q.Encode(), nil, &all)
}

// Show returns one event.
func (k EventCalls) Show(ctx context.Context, id int64) (e ShopEvent, err error) {
	return e, k.c.do(ctx, "GET", fmt.Sprintf("/events/%d", id), nil, &e)
}

// Retry carries out an event that was kept, or sends the link of one once more that waits for its buyer.
func (k EventCalls) Retry(ctx context.Context, id int64) error {
	return k.c.do(ctx, "POST", fmt.Sprintf("/events/%d/retry", id), nil, nil)
}

// Drop says that an event which was kept is not carried out.
func (k EventCalls) Drop(ctx context.Context, id int64) error {
	return k.c.do(ctx, "POST", fmt.Sprintf("/events/%d/drop", id), nil, nil)
}

// Import brings in a list of payments.
func (k EventCalls) Import(ctx context.Context, i PaymentsImport) (done ImportedPayments, err error) {
	return done, k.c.do(ctx, "POST", "/events/import", i, &done)
}

// Secrets returns the secrets with which events may be signed.
func (k EventCalls) Secrets(ctx context.Context) (all []EventSecret, err error) {
	return all, k.c.do(ctx, "GET", "/events/secrets", nil, &all)
}

// AddSecret adds a secret and returns it.
func (k EventCalls) AddSecret(ctx context.Context, n NewEventSecret) (made MadeSecret, err error) {
	return made, k.c.do(ctx, "POST", "/events/secrets", n, &made)
}

// RemoveSecret removes a secret.
func (k EventCalls) RemoveSecret(ctx context.Context, id int64) error {
	return k.c.do(ctx, "DELETE", fmt.Sprintf("/events/secrets/%d", id), nil, nil)
}

// Targets returns the programs that are told what happens.
func (k EventCalls) Targets(ctx context.Context) (all []Target, err error) {
	return all, k.c.do(ctx, "GET", "/targets", nil, &all)
}

// AddTarget has a program told what happens.
func (k EventCalls) AddTarget(ctx context.Context, n NewTarget) (made MadeTarget, err error) {
	return made, k.c.do(ctx, "POST", "/targets", n, &made)
}

// RemoveTarget has a program told nothing any more.
func (k EventCalls) RemoveTarget(ctx context.Context, id int64) error {
	return k.c.do(ctx, "DELETE", fmt.Sprintf("/targets/%d", id), nil, nil)
}

// TestTarget has a program told that this is a test.
func (k EventCalls) TestTarget(ctx context.Context, id int64) error {
	return k.c.do(ctx, "POST", fmt.Sprintf("/targets/%d/test", id), nil, nil)
}
