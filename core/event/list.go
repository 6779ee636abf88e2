package event

import (
	"cmp"
	"errors"
	"fmt"
	"io"
	"strconv"
	"strings"
	"time"

	"ostiarius/core/account"
	"ostiarius/core/table"
)

// An Entry is one payment of a list.
type Entry struct {
	Line  int // of the list, from 1
	Event Event
	Err   error // why the line cannot be taken
}

var columns = []string{"order", "address", "email", "item", "name", "account", "type", "number", "until", "at", "language"}

// MostEntries is the most payments that one list may have.
const MostEntries = 100_000

// ReadList reads a list of payments, as CSV (RFC 4180) with a head line: order, address, item, and perhaps name, account,
// type (paid unless said), number, until, at, language. The address may be called email; lines of one order are one order
// with several items. Dates without a time are read in zone. What is wrong with a line stands in its entry; the error is
// for lists that cannot be read to their end.
func ReadList(text string, zone *time.Location) ([]Entry, error) {
	list, err := table.Open(text, columns, "order")
	if err != nil {
		return nil, err
	}
	var all []Entry
	for {
		row, err := list.Next()
		if errors.Is(err, io.EOF) {
			return all, nil
		}
		if err != nil {
			return nil, err
		}
		if all = append(all, entryOf(row, zone)); len(all) > MostEntries {
			return nil, fmt.Errorf("the list has more than %d lines", MostEntries)
		}
	}
}

func entryOf(row table.Row, zone *time.Location) Entry {
	f := row.Fields
	e := Entry{Line: row.Line, Err: row.Err, Event: Event{
		Type: Type(cmp.Or(strings.ToLower(f["type"]), string(Paid))), Order: f["order"],
		Buyer: Buyer{cmp.Or(f["address"], f["email"]), f["name"], f["account"], f["language"]},
	}}
	fault := func(err error) {
		if e.Err == nil {
			e.Err = err
		}
	}
	for name, into := range map[string]*time.Time{"until": &e.Event.Until, "at": &e.Event.At} {
		if text := f[name]; text != "" {
			var err error
			if *into, err = account.ParseTime(text, zone, name == "until"); err != nil {
				fault(err)
			}
		}
	}
	if f["item"] != "" {
		item := Item{Item: f["item"], Number: 1}
		if text := f["number"]; text != "" {
			n, err := strconv.Atoi(text)
			if item.Number = n; err != nil || n < 1 || n > mostNumber {
				item.Number = 1
				fault(fmt.Errorf("%q is no number from 1 to %d", text, mostNumber))
			}
		}
		e.Event.Items = []Item{item}
	}
	if err := e.Event.Check(); err != nil {
		fault(err)
	}
	return e
}
