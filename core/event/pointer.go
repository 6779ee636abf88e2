package event

import (
	"fmt"
	"strconv"
	"strings"
)

// A Pointer names a value within a JSON document (RFC 6901).
type Pointer struct {
	text  string
	parts []string
}

// ReadPointer reads a pointer, such as /buyer/address; "" is the whole document.
func ReadPointer(text string) (Pointer, error) {
	p := Pointer{text: text}
	if text == "" {
		return p, nil
	}
	if text[0] != '/' {
		return p, fmt.Errorf("%q is no JSON Pointer: it begins with a /", text)
	}
	for part := range strings.SplitSeq(text[1:], "/") {
		if strings.Contains(strings.NewReplacer("~0", "", "~1", "").Replace(part), "~") {
			return p, fmt.Errorf("%q is no JSON Pointer: behind ~ stands 0 or 1", text)
		}
		// In this order: ~01 is ~1 and not / (RFC 6901, section 4).
		p.parts = append(p.parts, strings.ReplaceAll(strings.ReplaceAll(part, "~1", "/"), "~0", "~"))
	}
	if len(p.parts) > deepest {
		return p, fmt.Errorf("%q goes deeper than %d levels", text, deepest)
	}
	return p, nil
}

// String returns the pointer as it was written.
func (p Pointer) String() string { return p.text }

// Find returns the value that the pointer names in a document that was read from JSON; false if there is none.
func (p Pointer) Find(document any) (any, bool) {
	for _, part := range p.parts {
		switch at := document.(type) {
		case map[string]any:
			value, has := at[part]
			if !has {
				return nil, false
			}
			document = value
		case []any:
			i, err := strconv.Atoi(part)
			if err != nil || i < 0 || i >= len(at) || strconv.Itoa(i) != part {
				return nil, false
			}
			document = at[i]
		default:
			return nil, false
		}
	}
	return document, true
}
