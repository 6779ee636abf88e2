package pass

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

// An Entry is one pass of a list that is to be issued.
type Entry struct {
	Line      int // of the list, from 1
	Address   string
	Name      string
	Reference string
	Note      string
	Until     time.Time // zero for as its kind says
	Downloads int       // 0 for as its kind says
	Paths     []string
	Err       error // why the line cannot be taken
}

var columns = []string{"address", "email", "name", "reference", "note", "until", "downloads", "paths"}

// MostEntries is the most passes that one list may have.
const MostEntries = 100_000

// ReadList reads a list of passes, as CSV (RFC 4180) with a head line: address, name, reference, note, until, downloads,
// paths, of which address alone must be there, and may be called email. Dates without a time are read in zone, that day
// included. What is wrong with a line stands in its entry; the error is for lists that cannot be read to their end.
func ReadList(text string, zone *time.Location) ([]Entry, error) {
	list, err := table.Open(text, columns, "address", "email")
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
	e := Entry{
		Line: row.Line, Address: cmp.Or(f["address"], f["email"]), Name: f["name"], Reference: f["reference"], Note: f["note"],
		Paths: strings.Fields(f["paths"]),
	}
	fault := func(err error) {
		if e.Err == nil {
			e.Err = err
		}
	}
	if row.Err != nil {
		fault(row.Err)
	}
	if until := f["until"]; until != "" {
		var err error
		if e.Until, err = account.ParseTime(until, zone, true); err != nil {
			fault(err)
		}
	}
	if number := f["downloads"]; number != "" {
		n, err := strconv.Atoi(number)
		if e.Downloads = n; err != nil || n < 1 || n > 1<<31-1 {
			e.Downloads = 0
			fault(fmt.Errorf("%q is no number of downloads", number))
		}
	}
	if e.Address == "" {
		fault(errors.New("there is no address"))
	} else if _, err := account.EmailKey(e.Address); err != nil {
		fault(err)
	}
	return e
}
