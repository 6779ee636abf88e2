package event

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"math"
	"strconv"
	"time"
)

// Fields say where in the body of an event what stands. What is not said is where our own events have it.
type Fields struct {
	At map[string]string // JSON Pointers, by the names in FieldNames; those of items are within an item
	// Types are the shop's own words for our types.
	Types map[string]Type
}

// FieldNames are the names of what can stand elsewhere, with where our own events have it.
var FieldNames = map[string]string{
	"type": "/type", "order": "/order", "address": "/buyer/address", "name": "/buyer/name", "account": "/buyer/account",
	"language": "/buyer/language",
	"items":    "/items", "item": "/item", "item-name": "/name", "number": "/number", "until": "/until", "at": "/at",
}

// ErrUnknown says that an event is of a type that means nothing here: there is nothing to do.
var ErrUnknown = errors.New("an event of this type means nothing here")

// Read reads the body of an event: a JSON object (RFC 8259) without two values of one name. The error says what cannot be
// understood; it is ErrUnknown if the shop has other words for types and this is none of them.
func Read(body []byte, fields Fields) (Event, error) {
	document, err := decode(body)
	if err != nil {
		return Event{}, err
	}
	if _, is := document.(map[string]any); !is {
		return Event{}, errors.New("the body is no JSON object")
	}
	r := reader{fields: fields}
	word := r.text(document, "type")
	e := Event{
		Type: Type(word), Order: r.text(document, "order"),
		Buyer: Buyer{r.text(document, "address"), r.text(document, "name"), r.text(document, "account"), r.text(document, "language")},
		Until: r.time(document, "until"), At: r.time(document, "at"),
	}
	if len(fields.Types) > 0 {
		known := false
		if e.Type, known = fields.Types[word]; !known && r.err == nil {
			return e, fmt.Errorf("%w: %q", ErrUnknown, word)
		}
	}
	if value, has := r.find(document, "items"); has {
		list, is := value.([]any)
		if !is && len(fields.At) > 0 { // one alone
			list = []any{value}
		} else if !is {
			return e, errors.New("items is no list")
		}
		if len(list) > mostItems {
			return e, fmt.Errorf("there are more than %d items", mostItems)
		}
		for _, entry := range list {
			e.Items = append(e.Items, Item{r.text(entry, "item"), r.text(entry, "item-name"), r.number(entry, "number")})
		}
	}
	if r.err != nil {
		return e, r.err
	}
	return e, e.Check()
}

type reader struct {
	fields Fields
	err    error
}

func (r *reader) wrong(format string, args ...any) {
	if r.err == nil {
		r.err = fmt.Errorf(format, args...)
	}
}

// find returns the value of a name; null is none.
func (r *reader) find(document any, name string) (any, bool) {
	at, said := r.fields.At[name]
	if !said {
		at = FieldNames[name]
	}
	pointer, err := ReadPointer(at)
	if err != nil {
		r.wrong("%v", err)
		return nil, false
	}
	value, has := pointer.Find(document)
	return value, has && value != nil
}

// text returns a text, "" for none. The number of an order or of an article may be a number.
func (r *reader) text(document any, name string) string {
	value, has := r.find(document, name)
	if !has {
		return ""
	}
	switch v := value.(type) {
	case string:
		return v
	case json.Number:
		if name == "order" || name == "item" {
			return v.String()
		}
	}
	r.wrong("%s is no text", name)
	return ""
}

func (r *reader) number(document any, name string) int {
	value, has := r.find(document, name)
	if !has {
		return 1
	}
	n, is := value.(json.Number)
	number, err := strconv.Atoi(n.String())
	if !is || err != nil || number < 1 || number > mostNumber {
		r.wrong("%s is no number from 1 to %d", name, mostNumber)
	}
	return number
}

// time returns a time (RFC 3339), or one in seconds since 1970; the zero time for none.
func (r *reader) time(document any, name string) time.Time {
	value, has := r.find(document, name)
	if !has {
		return time.Time{}
	}
	switch v := value.(type) {
	case string:
		if t, err := time.Parse(time.RFC3339, v); err == nil {
			return t.UTC()
		}
	case json.Number:
		if seconds, err := v.Float64(); err == nil && seconds > 0 && seconds < math.MaxInt32*100. {
			return time.Unix(int64(seconds), 0).UTC()
		}
	}
	r.wrong("%s is no time, such as 2027-03-31T18:00:00Z", name)
	return time.Time{}
}

// decode reads one JSON value, without two values of one name: which of them counts would be a guess.
func decode(body []byte) (any, error) {
	d := json.NewDecoder(bytes.NewReader(body))
	d.UseNumber()
	value, err := decodeValue(d, 0)
	if err != nil {
		return nil, fmt.Errorf("the body cannot be read as JSON: %w", err)
	}
	if _, err := d.Token(); !errors.Is(err, io.EOF) {
		return nil, errors.New("the body cannot be read as JSON: something stands behind it")
	}
	return value, nil
}

func decodeValue(d *json.Decoder, depth int) (any, error) {
	if depth > deepest {
		return nil, fmt.Errorf("it is nested deeper than %d levels", deepest)
	}
	token, err := d.Token()
	if err != nil {
		return nil, err
	}
	switch token {
	case json.Delim('{'):
		object := map[string]any{}
		for d.More() {
			key, err := d.Token()
			if err != nil {
				return nil, err
			}
			name, is := key.(string)
			if _, twice := object[name]; !is || twice {
				return nil, fmt.Errorf("%q stands there twice", name)
			}
			if object[name], err = decodeValue(d, depth+1); err != nil {
				return nil, err
			}
		}
		_, err := d.Token()
		return object, err
	case json.Delim('['):
		list := []any{}
		for d.More() {
			value, err := decodeValue(d, depth+1)
			if err != nil {
				return nil, err
			}
			list = append(list, value)
		}
		_, err := d.Token()
		return list, err
	}
	return token, nil
}
