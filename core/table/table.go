// Package table reads lists in CSV (RFC 4180) whose head line names their columns.
package table

import (
	"encoding/csv"
	"errors"
	"fmt"
	"slices"
	"strings"
)

// A Table is a list of which the head line has been read.
type Table struct {
	head []string
	csv  *csv.Reader
}

// Open reads the head line of a list. Its fields are divided by commas, or by semicolons if it has more of them. The
// columns are those that are known, in any order and in any letters; one of those that are needed is there. The error
// says what is wrong with the head line.
func Open(text string, columns []string, needed ...string) (*Table, error) {
	text = strings.TrimPrefix(text, "\ufeff")
	head, _, _ := strings.Cut(text, "\n")
	t := &Table{csv: csv.NewReader(strings.NewReader(text))}
	if strings.Count(head, ";") > strings.Count(head, ",") {
		t.csv.Comma = ';'
	}
	t.csv.FieldsPerRecord = -1
	names, err := t.csv.Read()
	if err != nil {
		return nil, fmt.Errorf("there is no head line; write %s", strings.Join(columns[:min(3, len(columns))], ","))
	}
	for i, name := range names {
		names[i] = strings.ToLower(strings.TrimSpace(name))
		if !slices.Contains(columns, names[i]) {
			return nil, fmt.Errorf("line 1: the column %q is not known; there are %s", name, strings.Join(columns, ", "))
		}
		if slices.Contains(names[:i], names[i]) {
			return nil, fmt.Errorf("line 1: the column %s stands there twice", names[i])
		}
	}
	if !slices.ContainsFunc(needed, func(name string) bool { return slices.Contains(names, name) }) {
		return nil, fmt.Errorf("line 1: the column %s is missing", needed[0])
	}
	t.head = names
	return t, nil
}

// A Row is one line of a list.
type Row struct {
	Line   int               // of the text, from 1
	Fields map[string]string // by their columns, without spaces around
	// Err says that the line has another number of fields than the head line.
	Err error
}

// Next returns the next line; io.EOF after the last. Another error says in which line the list cannot be read any
// more.
func (t *Table) Next() (Row, error) {
	record, err := t.csv.Read()
	var wrong *csv.ParseError
	if errors.As(err, &wrong) {
		return Row{}, fmt.Errorf("line %d: %w", wrong.Line, wrong.Err)
	}
	if err != nil {
		return Row{}, err
	}
	row := Row{Fields: make(map[string]string, len(record))}
	row.Line, _ = t.csv.FieldPos(0)
	for i, field := range record[:min(len(record), len(t.head))] {
		row.Fields[t.head[i]] = strings.TrimSpace(field)
	}
	if len(record) != len(t.head) {
		row.Err = fmt.Errorf("it has %d fields and the head line has %d", len(record), len(t.head))
	}
	return row, nil
}
