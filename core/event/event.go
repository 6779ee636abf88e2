// Package event is what a shop or another program tells Ostiarius: what was paid, renewed, refunded, cancelled, or has lapsed.
package event

import (
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"
	"unicode/utf8"
)

// A Type is what happened.
type Type string

// The types of events.
const (
	Paid      Type = "paid"
	Renewed   Type = "renewed"   // paid for once more
	Refunded  Type = "refunded"  // what the order gave is taken back
	Cancelled Type = "cancelled" // it runs to its end
	Lapsed    Type = "lapsed"    // it has ended, since it was not paid for any more
)

// Types are all of them.
var Types = []Type{Paid, Renewed, Refunded, Cancelled, Lapsed}

// An Event is something that happened to an order.
type Event struct {
	Type  Type      `json:"type"`
	Order string    `json:"order"`
	Buyer Buyer     `json:"buyer"`
	Items []Item    `json:"items,omitempty"`
	Until time.Time `json:"until,omitzero"` // when what was bought ends, if the shop says so
	At    time.Time `json:"at,omitzero"`    // when it happened, if the shop says so
}

// A Buyer is who has paid. What the shop knows of them it says; all of it may be "".
type Buyer struct {
	Address  string `json:"address,omitempty"`
	Name     string `json:"name,omitempty"`
	Account  string `json:"account,omitempty"` // here
	Language string `json:"language,omitempty"`
}

// An Item is something of an order.
type Item struct {
	Item   string `json:"item"`             // as the policy names it
	Name   string `json:"name,omitempty"`   // as people call it
	Number int    `json:"number,omitempty"` // how many; 1 unless said
}

// The most that an event may have.
const (
	MaxSize     = 64 << 10 // bytes of its body
	mostItems   = 50
	mostNumber  = 100 // of which each may last as long as a duration can say
	longestText = 200 // bytes
	deepest     = 20  // levels of a body
)

// Check says what an event lacks to be understood. Whether it can be carried out is another question.
func (e *Event) Check() error {
	if !slices.Contains(Types, e.Type) {
		return fmt.Errorf("the type %q is none of paid, renewed, refunded, cancelled, lapsed", e.Type)
	}
	if e.Order == "" {
		return errors.New("there is no order")
	}
	if len(e.Items) > mostItems {
		return fmt.Errorf("there are more than %d items", mostItems)
	}
	texts := map[string]string{"order": e.Order, "address": e.Buyer.Address, "name": e.Buyer.Name, "account": e.Buyer.Account}
	for i := range e.Items {
		item := &e.Items[i]
		if item.Number == 0 {
			item.Number = 1
		}
		if item.Number < 1 || item.Number > mostNumber {
			return fmt.Errorf("the number of %q is not from 1 to %d", item.Item, mostNumber)
		}
		if item.Item == "" {
			return errors.New("an item has no name")
		}
		texts[fmt.Sprintf("item %d", i+1)] = item.Item
		texts[fmt.Sprintf("name of item %d", i+1)] = item.Name
		if slices.ContainsFunc(e.Items[:i], func(other Item) bool { return other.Item == item.Item }) {
			return fmt.Errorf("the item %q stands there twice; give its number", item.Item)
		}
	}
	for what, text := range texts {
		if len(text) > longestText || !utf8.ValidString(text) || strings.ContainsFunc(text, func(r rune) bool { return r < ' ' || r == 0x7f }) {
			return fmt.Errorf("the %s is not one line of at most %d bytes", what, longestText)
		}
	}
	for _, t := range []time.Time{e.Until, e.At} {
		if !t.IsZero() && (t.Year() < 1971 || t.Year() > 9000) {
			return errors.New("a time is out of all range")
		}
	}
	return nil
}

// A State is what has become of an event.
type State string

// The states of an event.
const (
	Waiting State = "waiting" // it is in the records, and will be carried out in a moment
	Done    State = "done"
	Kept    State = "kept"    // it cannot be carried out; Problem says why
	Ignored State = "ignored" // it is of a type that means nothing here
)

// States are all of them.
var States = []State{Waiting, Done, Kept, Ignored}

// Where events come from.
const (
	FromShop = "shop"
	FromList = "list"
)

// A Record is an event as it is kept.
type Record struct {
	ID      int64
	Source  string
	Number  string // that its sender gave it: the same is told once
	At      time.Time
	Event   Event
	State   State
	Problem string    // why it is kept, or what is to be known of what was done
	DoneAt  time.Time // zero for not yet
}
