package store

import (
	"cmp"
	"context"
	"database/sql"
	"database/sql/driver"
	"encoding"
	"encoding/base64"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"reflect"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/jmoiron/sqlx"

	"ostiarius/core/factor"
	"ostiarius/core/pass"
	"ostiarius/core/secret"
	"ostiarius/core/signature"
)

// A table is one kind of record. It says once which column has which field, and everything that is read and written follows from that.
type table[T any] struct {
	name    string
	columns func() []column
}

// A column of a table and the field that it has.
type column struct {
	name  string // in SQL; of what is only read, also an expression
	field []int  // its place in the record
	form  string // of a list or a map, how it is one text
}

// tableOf declares one: its name, and its columns with the fields that they have, as "id, order_no Order, made_at, roles Roles words".
// A field that is not named has the name of its column, without "_": MadeAt. One within another is named like Keys.Name. A third word says
// how a list or a map is one text: lines, words, words-or-all (all is nil), hex, base64, or json.
func tableOf[T any](name, columns string) *table[T] {
	return &table[T]{name, sync.OnceValue(func() (all []column) {
		of := reflect.TypeFor[T]()
		for entry := range strings.SplitSeq(columns, ",") {
			said := append(strings.Fields(entry), "", "")
			all = append(all, column{said[0], fieldAt(of, cmp.Or(said[1], strings.ReplaceAll(said[0], "_", ""))), said[2]})
		}
		return all
	})}
}

// fieldAt returns the place of a field. Letters are compared without their case if no field has just that name.
func fieldAt(of reflect.Type, path string) (index []int) {
	for name := range strings.SplitSeq(path, ".") {
		f, ok := of.FieldByName(name)
		if !ok {
			f, ok = of.FieldByNameFunc(func(other string) bool { return strings.EqualFold(name, other) })
		}
		if !ok {
			panic(fmt.Sprintf("store: %v has no field %s", of, path))
		}
		index, of = append(index, f.Index...), f.Type
	}
	return index
}

// names lists the columns as SQL has them.
func (t *table[T]) names() string {
	var names []string
	for _, c := range t.columns() {
		names = append(names, c.name)
	}
	return strings.Join(names, ", ")
}

// all returns the records that a condition means, which may also say their order: WHERE, ORDER BY, LIMIT.
func (t *table[T]) all(ctx context.Context, from speaker, which string, args ...any) (found []T, err error) {
	return t.from(ctx, from, t.name, which, args...)
}

// from is all for another source that has the columns, such as a part of the table.
func (t *table[T]) from(ctx context.Context, from speaker, source, which string, args ...any) (found []T, err error) {
	err = from.scan(ctx, `SELECT `+t.names()+` FROM `+source+` `+which, args, func(rows *sqlx.Rows) error {
		var one T
		found = append(found, one)
		return rows.Scan(t.fields(&found[len(found)-1])...)
	})
	if err != nil {
		return nil, err
	}
	return found, nil
}

// in is all with lists as arguments, each for an "IN (?)".
func (t *table[T]) in(ctx context.Context, from speaker, which string, args ...any) (found []T, err error) {
	which, args, err = sqlx.In(which, args...)
	if err != nil {
		return nil, err
	}
	return t.all(ctx, from, which, args...)
}

// one returns the first of the records that a condition means. The error is ErrNone if there is none.
func (t *table[T]) one(ctx context.Context, from speaker, which string, args ...any) (one T, err error) {
	return first(t.all(ctx, from, which, args...))
}

// first returns the first that was found, or ErrNone.
func first[T any](found []T, err error) (one T, _ error) {
	if err == nil && len(found) == 0 {
		err = ErrNone
	}
	if err != nil {
		return one, err
	}
	return found[0], nil
}

// add writes records down. A number that is 0 in the column id is given by the database. After them, SQL may say what is done about
// those that are there already.
func (t *table[T]) add(ctx context.Context, tx speaker, records []T, conflict string, more ...any) (sql.Result, error) {
	columns := t.columns()
	if columns[0].name == "id" && reflect.ValueOf(&records[0]).Elem().FieldByIndex(columns[0].field).IsZero() {
		columns = columns[1:]
	}
	names, gaps := make([]string, len(columns)), `(?`+strings.Repeat(`, ?`, len(columns)-1)+`)`
	for i, c := range columns {
		names[i] = c.name
	}
	var args []any
	for i := range records {
		args = append(args, fieldsOf(&records[i], columns)...)
	}
	return tx.exec(ctx, `INSERT INTO `+t.name+` (`+strings.Join(names, ", ")+`) VALUES `+gaps+
		strings.Repeat(`, `+gaps, len(records)-1)+` `+conflict, append(args, more...)...)
}

// put writes one record down, in the place of the one that has the same key, but for some columns that stay as they are.
func (t *table[T]) put(ctx context.Context, tx speaker, record T, key string, stay ...string) error {
	var set []string
	for _, c := range t.columns() {
		if !slices.Contains(append(strings.Split(key, ", "), stay...), c.name) {
			set = append(set, c.name+` = excluded.`+c.name)
		}
	}
	_, err := t.add(ctx, tx, []T{record}, `ON CONFLICT (`+key+`) DO UPDATE SET `+strings.Join(set, ", "))
	return err
}

// change writes the columns of a record that is there already. The error is ErrNone if the condition means none.
func (t *table[T]) change(ctx context.Context, tx speaker, record T, which string, args ...any) error {
	var set []string
	for _, c := range t.columns() {
		set = append(set, c.name+` = ?`)
	}
	return one(tx.exec(ctx, `UPDATE `+t.name+` SET `+strings.Join(set, ", ")+` `+which, append(t.fields(&record), args...)...))
}

// addOne is add for one that is new.
func (t *table[T]) addOne(ctx context.Context, tx speaker, record T) error {
	_, err := t.add(ctx, tx, []T{record}, "")
	return err
}

// pointers are what is found, for those who change it.
func pointers[T any](found []T) []*T {
	all := make([]*T, len(found))
	for i := range found {
		all[i] = &found[i]
	}
	return all
}

// pointer is what is found, or nil.
func pointer[T any](found T, err error) (*T, error) {
	if err != nil {
		return nil, err
	}
	return &found, nil
}

func (t *table[T]) fields(record *T) []any { return fieldsOf(record, t.columns()) }

func fieldsOf[T any](record *T, columns []column) []any {
	of, all := reflect.ValueOf(record).Elem(), make([]any, len(columns))
	for i, c := range columns {
		all[i] = keptAs(of.FieldByIndex(c.field), c.form)
	}
	return all
}

// keptAs is how a field is kept, for what reads and writes it: times and durations in milliseconds, bits and hashes, lists as texts.
func keptAs(field reflect.Value, form string) any {
	switch form {
	case "lines":
		return listOf(field, "\n", false)
	case "words", "words-or-all":
		return listOf(field, " ", form == "words-or-all")
	case "json":
		return asJSON(field)
	case "hex":
		return asBytes(field, hex.EncodeToString, hex.DecodeString)
	case "base64":
		return asBytes(field, base64.RawURLEncoding.EncodeToString, base64.RawURLEncoding.DecodeString)
	}
	switch f := field.Addr().Interface().(type) {
	case *time.Time:
		return (*millisAt)(f)
	case *time.Duration:
		return (*millisLong)(f)
	case *bool:
		return (*bit)(f)
	case *secret.TokenHash:
		return inHex(f[:])
	case *pass.Hash:
		return inHex(f[:])
	case *pass.Spans:
		return asText{func() (string, error) { return f.String(), nil }, into(f, pass.ReadSpans)}
	case *factor.Set:
		return asText{func() (string, error) { return f.String(), nil }, func(text string) error { *f = factor.ReadSet(text); return nil }}
	case *factor.Times:
		return asText{func() (string, error) { return f.String(), nil }, func(text string) error { *f = factor.ReadTimes(text); return nil }}
	case *signature.Secret:
		return asText{func() (string, error) { return f.Text(), nil }, into(f, signature.ReadSecret)}
	case any:
		return f
	}
	panic("store: no field")
}

// into reads a text into a field, which stays as it is if that fails.
func into[T any](field *T, read func(string) (T, error)) func(string) error {
	return func(text string) error {
		value, err := read(text)
		if err == nil {
			*field = value
		}
		return err
	}
}

// listOf is a list as one text, with something between its elements that none of them has; an empty one is "". If nil means all,
// that is "*".
func listOf(field reflect.Value, between string, all bool) asText {
	return asText{func() (string, error) {
		if all && field.IsNil() {
			return "*", nil
		}
		texts := make([]string, field.Len())
		for i := range texts {
			texts[i] = fmt.Sprint(field.Index(i).Interface())
		}
		return strings.Join(texts, between), nil
	}, func(text string) error {
		field.SetZero()
		switch {
		case all && text == "*":
			return nil
		case all:
			field.Set(reflect.MakeSlice(field.Type(), 0, 1))
		}
		if text == "" {
			return nil
		}
		for text := range strings.SplitSeq(text, between) {
			one := reflect.New(field.Type().Elem()).Elem()
			if reads, ok := one.Addr().Interface().(encoding.TextUnmarshaler); !ok {
				one.SetString(text)
			} else if err := reads.UnmarshalText([]byte(text)); err != nil {
				return err
			}
			field.Set(reflect.Append(field, one))
		}
		return nil
	}}
}

// asBytes are bytes as a text.
func asBytes(field reflect.Value, write func([]byte) string, read func(string) ([]byte, error)) asText {
	return asText{func() (string, error) { return write(field.Bytes()), nil }, func(text string) error {
		raw, err := read(text)
		field.SetBytes(raw)
		return err
	}}
}

// asJSON is what JSON can say as such; what is empty is "".
func asJSON(field reflect.Value) asText {
	return asText{func() (string, error) {
		if field.IsZero() || field.Kind() == reflect.Map && field.Len() == 0 {
			return "", nil
		}
		text, err := json.Marshal(field.Interface())
		return string(text), err
	}, func(text string) error {
		if text == "" {
			return nil
		}
		return json.Unmarshal([]byte(text), field.Addr().Interface())
	}}
}

// millisAt is a time in milliseconds since 1970; zero is 0.
type millisAt time.Time

// Value is for package sql.
func (m *millisAt) Value() (driver.Value, error) { return millis(time.Time(*m)), nil }

// Scan is for package sql.
func (m *millisAt) Scan(value any) error {
	n, ok := value.(int64)
	if !ok {
		return fmt.Errorf("%v is no time in milliseconds", value)
	}
	*m = millisAt(moment(n))
	return nil
}

// millisLong is a duration in milliseconds.
type millisLong time.Duration

// Value is for package sql.
func (m *millisLong) Value() (driver.Value, error) { return time.Duration(*m).Milliseconds(), nil }

// Scan is for package sql.
func (m *millisLong) Scan(value any) error {
	n, ok := value.(int64)
	if !ok {
		return fmt.Errorf("%v is no number of milliseconds", value)
	}
	*m = millisLong(time.Duration(n) * time.Millisecond)
	return nil
}

// inHex is a hash in hexadecimal digits; one that is zero is "".
type inHex []byte

// Value is for package sql.
func (h inHex) Value() (driver.Value, error) {
	for _, b := range h {
		if b != 0 {
			return hex.EncodeToString(h), nil
		}
	}
	return "", nil
}

// Scan is for package sql.
func (h inHex) Scan(value any) error {
	text, ok := value.(string)
	switch n, err := hex.Decode(make([]byte, len(text)), []byte(text)); {
	case ok && text == "":
		clear(h)
		return nil
	case !ok || err != nil || n != len(h):
		return errors.New("a hash that cannot be read") // and is not told
	}
	_, err := hex.Decode(h, []byte(text))
	return err
}

// asText is a field that is kept as a text.
type asText struct {
	write func() (string, error)
	read  func(string) error
}

// Value is for package sql.
func (a asText) Value() (driver.Value, error) { return a.write() }

// Scan is for package sql.
func (a asText) Scan(value any) error {
	text, ok := value.(string)
	if !ok {
		return fmt.Errorf("%v is no text", value)
	}
	return a.read(text)
}
