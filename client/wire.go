package client

import (
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"iter"
	"net/http"
	"net/url"
	"os"
	"reflect"
	"slices"
	"strconv"
	"strings"
	"time"

	"ostiarius/core/exact"
)

// What an operation takes is one struct. Its fields say by a tag where they stand in a request:
//
//	path:"name"    in the path, for {name}
//	query:"name"   in the query; left away if it is zero
//	body:""        it is the whole body, as JSON
//
// and all others are members of a JSON object, by their json tags. Fields of the path and the query have the tag json:"-", so that
// nobody can send them in the body. A number of the query may have most:"1000", and a word enum:"these|words".
//
// encode and Decode are inverse to each other; a test goes through all operations.

// encode returns the path with the query, and the body; nil for none.
func (o *Operation) encode(in any) (address string, body []byte, err error) {
	query, from := url.Values{}, reflect.ValueOf(in)
	address = o.Path
	for f, field := range fieldsOf(from) {
		if name := f.Tag.Get("path"); name != "" {
			address = strings.ReplaceAll(address, "{"+name+"}", url.PathEscape(textOf(field)))
		} else if name := f.Tag.Get("query"); name != "" && !field.IsZero() {
			query[name] = []string{textOf(field)}
			if all, many := field.Interface().([]string); many {
				query[name] = all
			}
		}
	}
	if len(query) > 0 {
		address += "?" + query.Encode()
	}
	if o.HasBody() {
		body, err = json.Marshal(bodyOf(from).Interface())
	}
	return address, body, err
}

// HasBody reports whether a request has a body.
func (o *Operation) HasBody() bool {
	if o.Method == http.MethodGet {
		return false
	}
	for f := range fieldsOf(reflect.New(o.In).Elem()) {
		if f.Tag.Get("path") == "" && f.Tag.Get("query") == "" {
			return true
		}
	}
	return false
}

// Body is the type of the body.
func (o *Operation) Body() reflect.Type { return bodyOf(reflect.New(o.In).Elem()).Type() }

// bodyOf returns the part of in that is the body.
func bodyOf(in reflect.Value) reflect.Value {
	for f, field := range fieldsOf(in) {
		if _, whole := f.Tag.Lookup("body"); whole {
			return field
		}
	}
	return in
}

// fieldsOf goes through the fields of a struct, with those of structs that are embedded in it.
func fieldsOf(in reflect.Value) iter.Seq2[reflect.StructField, reflect.Value] {
	return func(yield func(reflect.StructField, reflect.Value) bool) {
		for _, f := range reflect.VisibleFields(in.Type()) {
			if !f.Anonymous && !yield(f, in.FieldByIndex(f.Index)) {
				return
			}
		}
	}
}

// textOf writes a value of the path or the query.
func textOf(v reflect.Value) string {
	switch is := v.Interface().(type) {
	case time.Time:
		return is.Format(time.RFC3339Nano)
	case time.Duration: // in seconds
		return strconv.FormatInt(int64(is/time.Second), 10)
	}
	return fmt.Sprint(v.Interface())
}

// Decode reads a request into what the operation takes, a pointer to its In. The function returns a part of the path by its name.
// The error is a *Problem that says what is wrong.
func (o *Operation) Decode(w http.ResponseWriter, r *http.Request, part func(name string) string, into any) error {
	to, query := reflect.ValueOf(into).Elem(), r.URL.Query()
	if o.HasBody() {
		if err := decodeBody(http.MaxBytesReader(w, r.Body, o.MaxBody), bodyOf(to).Addr().Interface()); err != nil {
			return err
		}
	}
	for f, field := range fieldsOf(to) {
		if name := f.Tag.Get("path"); name != "" {
			if err := setText(f, field, part(name)); err != nil {
				return &Problem{Status: http.StatusNotFound, Detail: fmt.Sprintf("In this address, %s is %v, not %q.", name, err, part(name))}
			}
		} else if name := f.Tag.Get("query"); name != "" && query.Get(name) != "" {
			var err error
			if all, many := field.Addr().Interface().(*[]string); many {
				*all = query[name]
			} else if err = setText(f, field, query.Get(name)); err != nil {
				return &Problem{Status: http.StatusUnprocessableEntity, Detail: fmt.Sprintf("%s is %v, not %q.", name, err, query.Get(name))}
			}
		}
	}
	return nil
}

// decodeBody reads JSON exactly.
func decodeBody(from io.Reader, into any) error {
	text, err := io.ReadAll(from)
	if err == nil {
		err = exact.UnmarshalKnown(text, into)
	}
	if err == nil {
		return nil
	}
	status := http.StatusBadRequest
	if errors.Is(err, os.ErrDeadlineExceeded) {
		status = http.StatusRequestTimeout
	}
	return &Problem{Status: status, Detail: "The body is not the JSON that is expected here: " + err.Error()}
}

// setText reads a value of the path or the query. The error says what it should be.
func setText(f reflect.StructField, field reflect.Value, text string) error {
	most := int64(1<<63 - 1)
	if tag := f.Tag.Get("most"); tag != "" {
		most, _ = strconv.ParseInt(tag, 10, 64)
	}
	number := func() (int64, error) {
		n, err := strconv.ParseInt(text, 10, 64)
		switch {
		case (err != nil || n < 0 || n > most) && f.Tag.Get("most") != "":
			return 0, fmt.Errorf("a number from 0 to %d", most)
		case err != nil || n < 0:
			return 0, errors.New("a whole number")
		}
		return n, nil
	}
	switch to := field.Addr().Interface().(type) {
	case *time.Time:
		t, err := time.Parse(time.RFC3339Nano, text)
		if err != nil {
			return errors.New("a time such as 2026-11-23T18:00:00Z")
		}
		*to = t
		return nil
	case *time.Duration:
		n, err := number()
		*to = time.Duration(min(n, 1e9)) * time.Second
		return err
	}
	switch field.Kind() {
	case reflect.Bool:
		if text != "true" && text != "false" {
			return errors.New("true or false")
		}
		field.SetBool(text == "true")
	case reflect.Int, reflect.Int64:
		n, err := number()
		field.SetInt(n)
		return err
	default:
		if words := f.Tag.Get("enum"); words != "" && !slices.Contains(strings.Split(words, "|"), text) {
			return errors.New("one of " + strings.ReplaceAll(words, "|", ", "))
		}
		field.SetString(text)
	}
	return nil
}
