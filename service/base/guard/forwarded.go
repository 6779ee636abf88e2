package guard

import (
	"errors"
	"strings"
)

// forwarded is one element of a Forwarded field.
type forwarded struct{ client, scheme, host string }

var errForwarded = errors.New("the Forwarded field is not as RFC 7239 has it")

// readForwarded reads the values of a request's Forwarded fields (RFC 7239, section 4). It
// guesses at nothing: who leaves a quotation mark open, or gives a parameter twice, has not
// said anything.
func readForwarded(values []string) (elements []forwarded, err error) {
	s := strings.Join(values, ",")
	var e forwarded
	seen := map[string]bool{}
	for i := 0; ; {
		for i < len(s) && (s[i] == ' ' || s[i] == '\t') {
			i++
		}
		begin := i
		for i < len(s) && isTokenByte(s[i]) {
			i++
		}
		if name := strings.ToLower(s[begin:i]); name != "" {
			if i == len(s) || s[i] != '=' || seen[name] {
				return nil, errForwarded
			}
			seen[name] = true
			var value string
			if value, i, err = forwardedValue(s, i+1); err != nil {
				return nil, err
			}
			switch name {
			case "for":
				e.client = value
			case "proto":
				e.scheme = value
			case "host":
				e.host = value
			}
		}
		for i < len(s) && (s[i] == ' ' || s[i] == '\t') {
			i++
		}
		switch {
		case i == len(s) || s[i] == ',':
			if len(seen) > 0 { // empty elements are passed over (RFC 9110, section 5.6.1)
				elements = append(elements, e)
			}
			e = forwarded{}
			clear(seen)
			if i == len(s) {
				return elements, nil
			}
		case s[i] != ';':
			return nil, errForwarded
		}
		i++
	}
}

// forwardedValue reads a token or a quoted string that begins at i, and returns where it ends.
func forwardedValue(s string, i int) (value string, end int, err error) {
	if i < len(s) && s[i] == '"' {
		var b strings.Builder
		for i++; i < len(s) && s[i] != '"'; i++ {
			if s[i] == '\\' {
				if i++; i == len(s) {
					break
				}
			}
			b.WriteByte(s[i])
		}
		if i >= len(s) {
			return "", 0, errForwarded
		}
		return b.String(), i + 1, nil
	}
	begin := i
	// Addresses with a port are written without quotation marks by some, though a colon needs them.
	for i < len(s) && (isTokenByte(s[i]) || s[i] == ':' || s[i] == '[' || s[i] == ']') {
		i++
	}
	if i == begin {
		return "", 0, errForwarded
	}
	return s[begin:i], i, nil
}

// isTokenByte reports whether a token may have the byte (RFC 9110, section 5.6.2).
func isTokenByte(c byte) bool {
	return c >= '0' && c <= '9' || c|0x20 >= 'a' && c|0x20 <= 'z' || strings.IndexByte("!#$%&'*+-.^_`|~", c) >= 0
}
