package client

import (
	"context"
	"fmt"
	"net/url"
	"strconv"
	"time"
)

// Message is a mail to somebody, as its state is: waiting, sent, failed or dropped.
type Message struct {
	ID       int64      `json:"id"`
	Kind     string     `json:"kind"`
	To       string     `json:"to"`
	Account  string     `json:"account,omitempty"`
	Language string     `json:"language"`
	State    string     `json:"state"`
	MadeAt   time.Time  `json:"madeAt"`
	Until    time.Time  `json:"until"` // when sending it makes no sense any more
	Tries    int        `json:"tries"`
	NextAt   *time.Time `json:"nextAt,omitempty"`  // when it is tried next, if it is waiting
	Problem  string     `json:"problem,omitempty"` // the last one, in the words of the mail server
	EndedAt  *time.Time `json:"endedAt,omitempty"`
	HasLink  bool       `json:"hasLink,omitempty"` // which is told only to whom it is sent
	Subject  string     `json:"subject,omitempty"` // of one asked for by its number, until it is sent or dropped
	Text     string     `json:"text,omitempty"`    // likewise; without the link
}

// Messages are messages, the newest first, and how many there are of each state in all.
type Messages struct {
	Messages []Message `json:"messages"`
	Waiting  int       `json:"waiting"`
	Sent     int       `json:"sent"`
	Failed   int       `json:"failed"`
	Dropped  int       `json:"dropped"`
	Server   string    `json:"server,omitempty"` // that they are handed to; none if there is none
}

// Letter is what a message says.
type Letter struct {
	Language string `json:"language"`
	Subject  string `json:"subject"`
	Text     string `json:"text"`
}

// TestMessage asks for a message that shows whether mail arrives.
type TestMessage struct {
	To       string `json:"to"`
	Language string `json:"language,omitempty"`
}

// MessageCalls are the calls about messages.
type MessageCalls struct{ c *Client }

// Messages returns the calls about messages.
func (c *Client) Messages() MessageCalls { return MessageCalls{c} }

// List returns the messages of a state, or of all with "", that have a text in them, earlier than the one with the number before
// unless that is 0.
func (k MessageCalls) List(ctx context.Context, state, search string, before int64, limit int) (all Messages, err error) {
	q := url.Values{"state": {state}, "search": {search}, "before": {strconv.FormatInt(before, 10)}, "limit": {strconv.Itoa(limit)}}
	return all, k.c.do(ctx, "GET", "/messages?"+q.Encode(), nil, &all)
}

// Show returns one message with what it says.
func (k MessageCalls) Show(ctx context.Context, id int64) (m Message, err error) {
	return m, k.c.do(ctx, "GET", messagePath(id), nil, &m)
}

// Retry lets a message be tried again now.
func (k MessageCalls) Retry(ctx context.Context, id int64) error {
	return k.c.do(ctx, "POST", messagePath(id)+"/retry", nil, nil)
}

// Drop says that a message is not to be sent.
func (k MessageCalls) Drop(ctx context.Context, id int64) error {
	return k.c.do(ctx, "POST", messagePath(id)+"/drop", nil, nil)
}

// Link returns the link of a message, to pass it on where there is no mail server.
func (k MessageCalls) Link(ctx context.Context, id int64) (l Link, err error) {
	return l, k.c.do(ctx, "POST", messagePath(id)+"/link", nil, &l)
}

// Test sends a message that shows whether mail arrives.
func (k MessageCalls) Test(ctx context.Context, t TestMessage) error {
	return k.c.do(ctx, "POST", "/messages/test", t, nil)
}

func messagePath(id int64) string { return fmt.Sprintf("/messages/%d", id) }
