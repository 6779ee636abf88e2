// Package roster reads and writes lists of accounts as text: CSV (RFC 4180) or JSON.
package roster

import (
	"bufio"
	"bytes"
	"encoding/csv"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"iter"
	"strconv"
	"strings"
	"time"

	"ostiarius/core/account"
	"ostiarius/core/table"
)

// An Entry is one account of a list.
type Entry struct {
	Line     int // of the text, from 1
	Name     string
	Email    string
	Notes    string
	Roles    []account.Grant // From is zero if it is not said
	Disabled *bool           // nil if it is not said
	Hash     string          // of the password, as argon2id writes it; "" if it is not said
	Err      error           // why the line cannot be taken; then only Line and Name may be set
}

var columns = []string{"name", "email", "roles", "disabled", "notes", "hash"}

// Read reads a list, as JSON if it begins with a bracket, else as CSV. Dates without a time
// are read in zone: a role that begins on a date begins with the day, one that ends on a
// date ends with it. What is wrong with a line stands in its entry; the error is for lists
// that cannot be read at all.
func Read(text []byte, zone *time.Location) ([]Entry, error) {
	text = bytes.TrimPrefix(text, []byte("\ufeff"))
	if trimmed := bytes.TrimSpace(text); len(trimmed) > 0 && trimmed[0] == '[' {
		return readJSON(text)
	}
	return readCSV(text, zone)
}

func readCSV(text []byte, zone *time.Location) ([]Entry, error) {
	list, err := table.Open(string(text), columns, "name")
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
		all = append(all, entryOf(row, zone))
	}
}

func entryOf(row table.Row, zone *time.Location) Entry {
	field := func(column string) string { return table.Unguard(row.Fields[column]) }
	e := Entry{Line: row.Line, Name: field("name"), Email: field("email"), Notes: field("notes"), Hash: field("hash")}
	e.Roles, e.Err = readRoles(field("roles"), zone)
	if text := field("disabled"); text != "" {
		disabled, err := strconv.ParseBool(text)
		if err != nil && e.Err == nil {
			e.Err = fmt.Errorf("disabled is true or false, not %q", text)
		}
		e.Disabled = &disabled
	}
	if row.Err != nil {
		e.Err = row.Err
	}
	return e
}

// readRoles reads roles as they stand in CSV: keeper;trustee@2027-03-31;guide@2027-01-01..2027-03-31.
func readRoles(text string, zone *time.Location) (roles []account.Grant, err error) {
	for _, one := range strings.Split(text, ";") {
		role, span, hasSpan := strings.Cut(strings.TrimSpace(one), "@")
		if role == "" && !hasSpan {
			continue
		}
		g := account.Grant{Role: role}
		begin, end, both := strings.Cut(span, "..")
		if !both {
			begin, end = "", span
		}
		if begin != "" {
			if g.From, err = account.ParseTime(begin, zone, false); err != nil {
				return nil, err
			}
		}
		if end != "" {
			if g.Until, err = account.ParseTime(end, zone, true); err != nil {
				return nil, err
			}
		}
		if hasSpan && begin == "" && end == "" {
			return nil, fmt.Errorf("the role %s has an @ without a time", role)
		}
		roles = append(roles, g)
	}
	return roles, nil
}

// wire is an entry as it stands in JSON.
type wire struct {
	Name     string      `json:"name"`
	Email    string      `json:"email,omitempty"`
	Notes    string      `json:"notes,omitempty"`
	Roles    []wireGrant `json:"roles,omitempty"`
	Disabled *bool       `json:"disabled,omitempty"`
	Hash     string      `json:"hash,omitempty"`
}

type wireGrant struct {
	Role  string     `json:"role"`
	From  *time.Time `json:"from,omitempty"`
	Until *time.Time `json:"until,omitempty"`
}

func readJSON(text []byte) ([]Entry, error) {
	var all []Entry
	decoder := json.NewDecoder(bytes.NewReader(text))
	here := func(err error) error {
		return fmt.Errorf("line %d: this is not the JSON that export writes: %w", lineAt(text, decoder.InputOffset()), err)
	}
	if _, err := decoder.Token(); err != nil {
		return nil, here(err)
	}
	line, read := 1, 0
	for decoder.More() {
		var raw json.RawMessage
		if err := decoder.Decode(&raw); err != nil {
			return nil, here(err)
		}
		begin := int(decoder.InputOffset()) - len(raw)
		line += bytes.Count(text[read:begin], []byte("\n"))
		read = begin
		e := Entry{Line: line}
		var w wire
		one := json.NewDecoder(bytes.NewReader(raw))
		one.DisallowUnknownFields()
		if err := one.Decode(&w); err != nil {
			e.Err = fmt.Errorf("this is not an account as export writes it: %w", err)
		} else {
			e.Name, e.Email, e.Notes, e.Disabled, e.Hash = w.Name, w.Email, w.Notes, w.Disabled, w.Hash
			for _, g := range w.Roles {
				e.Roles = append(e.Roles, account.Grant{Role: g.Role, From: value(g.From), Until: value(g.Until)})
			}
		}
		all = append(all, e)
	}
	if _, err := decoder.Token(); err != nil {
		return nil, here(err)
	}
	if _, err := decoder.Token(); !errors.Is(err, io.EOF) {
		return nil, here(errors.New("there is more after the list"))
	}
	return all, nil
}

func lineAt(text []byte, offset int64) int {
	return 1 + bytes.Count(text[:min(offset, int64(len(text)))], []byte("\n"))
}

func value(t *time.Time) time.Time {
	if t == nil {
		return time.Time{}
	}
	return *t
}

// WriteJSON writes accounts as JSON, without their passwords.
func WriteJSON(to io.Writer, all iter.Seq2[*account.Account, error]) error {
	out := bufio.NewWriter(to)
	between := "["
	for a, err := range all {
		if err != nil {
			return err
		}
		shown := wire{Name: a.Name, Email: a.Email, Notes: a.Notes, Disabled: &a.Disabled}
		for _, g := range a.Grants {
			one := wireGrant{Role: g.Role, From: &g.From}
			if !g.Until.IsZero() {
				one.Until = &g.Until
			}
			shown.Roles = append(shown.Roles, one)
		}
		var text bytes.Buffer
		in := json.NewEncoder(&text)
		in.SetIndent("  ", "  ")
		in.SetEscapeHTML(false)
		if err := in.Encode(shown); err != nil {
			return err
		}
		out.WriteString(between + "\n  ")
		out.Write(bytes.TrimSuffix(text.Bytes(), []byte("\n")))
		between = ","
	}
	if between == "[" {
		out.WriteString("[]\n")
	} else {
		out.WriteString("\n]\n")
	}
	return out.Flush()
}

// WriteCSV writes accounts as CSV, without their passwords. When a role began is left out
// if it was before now: it has begun wherever the list is read.
func WriteCSV(to io.Writer, all iter.Seq2[*account.Account, error], now time.Time) error {
	list := csv.NewWriter(to)
	list.Write([]string{"name", "email", "roles", "disabled", "notes"})
	for a, err := range all {
		if err != nil {
			return err
		}
		var roles []string
		for _, g := range a.Grants {
			role := g.Role
			begin, end := "", ""
			if g.From.After(now) {
				begin = g.From.UTC().Format(time.RFC3339Nano) + ".."
			}
			if !g.Until.IsZero() {
				end = g.Until.UTC().Format(time.RFC3339Nano)
			}
			if begin+end != "" {
				role += "@" + begin + end
			}
			roles = append(roles, role)
		}
		list.Write([]string{table.Guard(a.Name), table.Guard(a.Email), strings.Join(roles, ";"), strconv.FormatBool(a.Disabled),
			table.Guard(a.Notes)})
	}
	list.Flush()
	return list.Error()
}

// Done says what became of one line of a list, or what would.
type Done struct {
	Line   int
	Name   string
	Action string // "add", "change", "same" or "error"
	Detail string
}
