package message

import (
	"encoding/csv"
	"fmt"
	"net/mail"
	"slices"
	"strings"

	"ostiarius/core/account"
)

// MostRecipients is the most addresses that one list may have.
const MostRecipients = 10_000

// A Recipient is an address of a list, and what stands with it.
type Recipient struct {
	Line    int // of the list, from 1
	Address string
	Name    string
	Err     error // why the address cannot be used
}

// Recipients reads addresses as people type, paste or export them: separated by commas, semicolons, spaces or lines, as
// "Name <address>", or as CSV with a head line that has a column address or email, and perhaps one name. Each address
// is told once, in the order in which they come. The error is for lists that are too long.
func Recipients(lists ...string) ([]Recipient, error) {
	var all []Recipient
	for _, text := range lists {
		text = strings.TrimPrefix(strings.ReplaceAll(text, "\r\n", "\n"), "\ufeff")
		if rows := fromTable(text); rows != nil {
			all = append(all, rows...)
		} else {
			all = append(all, fromText(text)...)
		}
	}
	var once []Recipient
	seen := map[string]bool{}
	for _, r := range all {
		key := r.Address
		if r.Err == nil {
			if same, err := account.EmailKey(r.Address); err != nil {
				r.Err = err
			} else {
				key = same
			}
		}
		if seen[key] {
			continue
		}
		seen[key] = true
		if once = append(once, r); len(once) > MostRecipients {
			return nil, fmt.Errorf("the list has more than %d addresses", MostRecipients)
		}
	}
	return once, nil
}

// fromTable reads a list with a head line; nil if it has none.
func fromTable(text string) []Recipient {
	head, rest, _ := strings.Cut(text, "\n")
	comma := ','
	if strings.Count(head, ";") > strings.Count(head, ",") {
		comma = ';'
	}
	columns := strings.Split(strings.ToLower(head), string(comma))
	column := func(names ...string) int {
		return slices.IndexFunc(columns, func(c string) bool { return slices.Contains(names, strings.Trim(c, " \"\t")) })
	}
	at, name := column("address", "email", "e-mail"), column("name")
	if at < 0 {
		return nil
	}
	all := []Recipient{}
	table := csv.NewReader(strings.NewReader(rest))
	table.Comma, table.FieldsPerRecord, table.TrimLeadingSpace = comma, -1, true
	for len(all) <= MostRecipients {
		record, err := table.Read()
		if record == nil && err != nil {
			if parse, ok := err.(*csv.ParseError); ok {
				all = append(all, Recipient{Line: parse.Line + 1, Err: fmt.Errorf("the line cannot be read: %w", parse.Err)})
			}
			return all
		}
		line, _ := table.FieldPos(0)
		r := Recipient{Line: line + 1}
		switch {
		case err != nil:
			r.Err = err
		case at >= len(record) || strings.TrimSpace(record[at]) == "":
			r.Err = fmt.Errorf("there is no address")
		default:
			r.Address = strings.TrimSpace(record[at])
		}
		if name >= 0 && name < len(record) {
			r.Name = strings.TrimSpace(record[name])
		}
		all = append(all, r)
	}
	return all
}

func fromText(text string) (all []Recipient) {
	for i, line := range strings.Split(text, "\n") {
		for part := range strings.FieldsFuncSeq(line, func(r rune) bool { return r == ',' || r == ';' }) {
			if part = strings.TrimSpace(part); part == "" {
				continue
			}
			if strings.ContainsAny(part, "<>") {
				r := Recipient{Line: i + 1, Address: part}
				if parsed, err := mail.ParseAddress(part); err == nil {
					r.Address, r.Name = parsed.Address, parsed.Name
				} else {
					r.Err = fmt.Errorf("%q is not an address", part)
				}
				all = append(all, r)
				continue
			}
			for address := range strings.FieldsSeq(part) {
				all = append(all, Recipient{Line: i + 1, Address: address})
			}
		}
	}
	return all
}
