// Package exact reads JSON that comes from outside (providers, shops, browsers, programs) as its sender wrote it: names of members
// are compared letter by letter, and none comes twice. Package json takes "Sub" for "sub", and the last of several, so that two
// readers of one text see different things (RFC 8259, section 4).
package exact

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"reflect"
	"slices"
	"strings"
)

// deepest is how far lists and objects may stand within each other.
const deepest = 64

// Unmarshal is json.Unmarshal for one value. The error says which member comes twice, or is written in other letters
// than one that is known.
func Unmarshal(text []byte, into any) error {
	if err := check(text, reflect.TypeOf(into)); err != nil {
		return err
	}
	return json.Unmarshal(text, into)
}

// UnmarshalKnown is Unmarshal, and refuses members that into does not have.
func UnmarshalKnown(text []byte, into any) error {
	if err := check(text, reflect.TypeOf(into)); err != nil {
		return err
	}
	d := json.NewDecoder(bytes.NewReader(text))
	d.DisallowUnknownFields()
	return d.Decode(into)
}

func check(text []byte, into reflect.Type) error {
	d := json.NewDecoder(bytes.NewReader(text))
	d.UseNumber()
	if err := value(d, into, 0); err != nil {
		return err
	}
	if _, err := d.Token(); err != io.EOF {
		return errors.New("something comes after the JSON value")
	}
	return nil
}

var marshals = reflect.TypeFor[json.Unmarshaler]()

// value reads a value that is to become a type; nil for any.
func value(d *json.Decoder, into reflect.Type, depth int) error {
	if depth > deepest {
		return errors.New("lists and objects stand within each other too deeply")
	}
	for into != nil && into.Kind() == reflect.Pointer && !into.Implements(marshals) {
		into = into.Elem()
	}
	if into != nil && (into.Implements(marshals) || reflect.PointerTo(into).Implements(marshals)) {
		into = nil // it reads itself; nothing may come twice all the same
	}
	token, err := d.Token()
	if err != nil {
		if err == io.EOF {
			err = io.ErrUnexpectedEOF
		}
		return err
	}
	switch token {
	case json.Delim('['):
		for d.More() {
			if err := value(d, elementOf(into), depth+1); err != nil {
				return err
			}
		}
	case json.Delim('{'):
		if err := members(d, into, depth); err != nil {
			return err
		}
	default:
		return nil
	}
	_, err = d.Token() // what closes it
	return err
}

func elementOf(t reflect.Type) reflect.Type {
	if t != nil && slices.Contains([]reflect.Kind{reflect.Slice, reflect.Array, reflect.Map}, t.Kind()) {
		return t.Elem()
	}
	return nil
}

func members(d *json.Decoder, into reflect.Type, depth int) error {
	var known map[string]reflect.Type
	if into != nil && into.Kind() == reflect.Struct {
		known = map[string]reflect.Type{}
		fields(into, known)
	}
	seen := map[string]bool{}
	for d.More() {
		token, err := d.Token()
		if err != nil {
			return err
		}
		name, _ := token.(string)
		if seen[name] {
			return fmt.Errorf("%.60q comes twice", name)
		}
		seen[name] = true
		of, is := known[name]
		if !is {
			if known == nil {
				of = elementOf(into)
			}
			for other := range known {
				if strings.EqualFold(other, name) {
					return fmt.Errorf("%.60q is written %q", name, other)
				}
			}
		}
		if err := value(d, of, depth+1); err != nil {
			return err
		}
	}
	return nil
}

// fields notes the members of a struct, by the names that they have in JSON.
func fields(t reflect.Type, into map[string]reflect.Type) {
	for f := range t.Fields() {
		name, _, _ := strings.Cut(f.Tag.Get("json"), ",")
		of := f.Type
		if f.Anonymous && name == "" {
			if of.Kind() == reflect.Pointer {
				of = of.Elem()
			}
			if of.Kind() == reflect.Struct {
				fields(of, into)
				continue
			}
		}
		switch {
		case !f.IsExported() || name == "-":
		case name == "":
			into[f.Name] = of
		default:
			into[name] = of
		}
	}
}
