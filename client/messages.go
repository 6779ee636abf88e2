package client

import (
	"time"
)

// What can be asked about messages.
var (
	ListMessages   = Get[MessageQuery, Messages]("/messages", "The mails to people, the newest first", AtRest, Fails(422))
	MessageKinds   = Get[None, []string]("/messages/kinds", "The kinds of mail", AtRest)
	SampleMessage  = Get[Sample, Letter]("/messages/kinds/{kind}", "A kind of mail with sample data", AtRest, Fails(404))
	TestMail       = Post[TestMessage, None]("/messages/test", "Send a mail that shows whether mail arrives", Fails(422))
	ShowMessage    = Get[ByNumber, Message]("/messages/{id}", "A mail with its text, without its link", AtRest, Fails(404))
	RetryMessage   = Post[ByNumber, None]("/messages/{id}/retry", "Try to send a mail again now", Fails(404, 409, 422))
	DropMessage    = Post[ByNumber, None]("/messages/{id}/drop", "Don't send a mail", Fails(404, 409, 422))
	RevealMailLink = Post[ByNumber, Link]("/messages/{id}/link",
		"The link of a mail, to pass it on where there is no mail server; this is recorded", Fails(404, 422))
)

// MessageQuery says which mails are meant.
type MessageQuery struct {
	State  string `json:"-" query:"state" enum:"waiting|sent|failed|dropped"`
	Search string `json:"-" query:"search"`
	Before int64  `json:"-" query:"before"`            // only mails with a lower number
	Limit  int    `json:"-" query:"limit" most:"1000"` // 100 unless given
}

// Sample says how a kind of mail is to be shown.
type Sample struct {
	Kind string `json:"-" path:"kind"`
	Colours
	As string `json:"-" query:"as"` // page: as the page that mail programs show
}

// Message is a mail to somebody, as its state is: waiting, sent, failed or dropped.
type Message struct {
	ID       int64      `json:"id"`
	Kind     string     `json:"kind"`
	To       string     `json:"to"`
	Account  string     `json:"account,omitempty"`
	Language string     `json:"language"`
	State    string     `json:"state" enum:"waiting|sent|failed|dropped"`
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
