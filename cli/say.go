package cli

import (
	"bytes"
	"fmt"
	"io"
	"os"
	"reflect"
	"strings"
	"unicode"
	"unicode/utf8"

	"golang.org/x/term"
)

// What commands print was partly written by others: names, notes, the words of browsers, addresses
// that strangers asked for. None of it may speak to the terminal, or look like a line of ours.

// ready is text that is printed as it is: made by a command, lines and all.
type ready string

// say writes like fmt.Fprintf, with whatever is text among the values made safe: on one line, and
// without what a terminal would obey or what would make it look like something else. Lines and
// tabs of the format stay.
func say(w io.Writer, format string, values ...any) (int, error) {
	for i, v := range values {
		switch v := v.(type) {
		case ready:
		case error:
			values[i] = safe(v.Error(), false)
		case fmt.Stringer:
			values[i] = safe(v.String(), false)
		default:
			if r := reflect.ValueOf(v); r.Kind() == reflect.String {
				values[i] = safe(r.String(), false)
			}
		}
	}
	return fmt.Fprintf(w, format, values...)
}

// safe writes what a terminal would obey as JSON would escape it: control characters (C0 and C1),
// what turns the direction of text, what cannot be seen, and bytes that are no text. Lines and tabs
// stay if they are meant.
func safe(text string, lines bool) string {
	if !strings.ContainsFunc(text, func(r rune) bool { return unsafe(r, lines) }) {
		return text
	}
	var b strings.Builder
	for i := 0; i < len(text); {
		r, size := utf8.DecodeRuneInString(text[i:])
		switch {
		case r == utf8.RuneError && size == 1:
			fmt.Fprintf(&b, `\x%02x`, text[i])
		case !unsafe(r, lines):
			b.WriteString(text[i : i+size])
		case r == '\n' || r == '\t' || r == '\r':
			b.WriteString(map[rune]string{'\n': `\n`, '\t': `\t`, '\r': `\r`}[r])
		case r > 0xffff:
			fmt.Fprintf(&b, `\U%08x`, r)
		default:
			fmt.Fprintf(&b, `\u%04x`, r)
		}
		i += size
	}
	return b.String()
}

func unsafe(r rune, lines bool) bool {
	switch {
	case r == '\n' || r == '\t':
		return !lines
	case r == '\u200c' || r == '\u200d': // which some scripts need within words
		return false
	case r == utf8.RuneError: // perhaps bytes that are no text
		return true
	}
	return unicode.In(r, unicode.Cc, unicode.Cf, unicode.Co, unicode.Cs, unicode.Zl, unicode.Zp)
}

// A terminal is what people look at. What is written there is made safe as a whole, also what goes
// exactly as it is into files and pipes, such as an export.
type terminal struct {
	file *os.File
	rest []byte // the beginning of a character whose end has not been written yet
}

// forPeople returns a writer to what a command prints to.
func forPeople(w io.Writer) io.Writer {
	if file, ok := w.(*os.File); ok && term.IsTerminal(int(file.Fd())) {
		return &terminal{file: file}
	}
	return w
}

func (t *terminal) Write(p []byte) (int, error) {
	text := append(t.rest, p...)
	t.rest = nil
	if i := len(text) - 1; i >= 0 && !utf8.Valid(text) {
		for i > 0 && len(text)-i < utf8.UTFMax && !utf8.RuneStart(text[i]) {
			i--
		}
		if !utf8.FullRune(text[i:]) {
			text, t.rest = text[:i], bytes.Clone(text[i:])
		}
	}
	if _, err := io.WriteString(t.file, safe(string(text), true)); err != nil {
		return 0, err
	}
	return len(p), nil
}
