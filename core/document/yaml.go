// Package document reads texts in YAML that people have written, without guessing, and says where in them what is wrong: findings. It knows
// nothing of what they say. It also writes texts as such a document has them.
package document

import (
	"bytes"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"
	"unicode"
	"unicode/utf8"

	"github.com/goccy/go-yaml"
	"github.com/goccy/go-yaml/ast"
	"github.com/goccy/go-yaml/parser"
	"github.com/goccy/go-yaml/token"

	"ostiarius/core/pattern"
)

// MaxSize is the largest text that is read, in bytes.
const MaxSize = 8 << 20

const maxDepth = 50 // of nested lists and mappings

// A Position is where something stands in the policy file, counted from 1. Built-in
// things have none.
type Position struct {
	Line   int
	Column int
}

// A Reader reads a text in YAML without guessing, and collects what is wrong with it, and where.
type Reader struct {
	File     string
	Findings []Finding
}

// Fault notes an error at a place, which is so many characters long.
func (p *Reader) Fault(at Position, length int, rule, format string, args ...any) {
	p.Findings = append(p.Findings, Finding{
		Severity: SeverityError, Rule: rule, Message: fmt.Sprintf(format, args...),
		File: p.File, Line: at.Line, Column: at.Column, Length: length,
	})
}

// Warn is Fault for what stops nobody.
func (p *Reader) Warn(at Position, length int, rule, format string, args ...any) {
	p.Fault(at, length, rule, format, args...)
	p.Findings[len(p.Findings)-1].Severity = SeverityWarning
}

// At notes an error where a node stands.
func (p *Reader) At(n ast.Node, rule, format string, args ...any) {
	p.Fault(PositionOf(n), Width(n), rule, format, args...)
}

// PositionOf returns where a node begins.
func PositionOf(n ast.Node) Position {
	n = Start(n)
	if t := n.GetToken(); t != nil && t.Position != nil {
		return Position{t.Position.Line, t.Position.Column}
	}
	return Position{1, 1}
}

// Start returns the node whose token stands first in the text of n.
func Start(n ast.Node) ast.Node {
	switch n := n.(type) {
	case *ast.MappingNode:
		if !n.IsFlowStyle && len(n.Values) > 0 {
			return Start(n.Values[0])
		}
	case *ast.MappingValueNode:
		return n.Key
	}
	return n
}

// Width returns how many characters the first token of a node has.
func Width(n ast.Node) int {
	t := Start(n).GetToken()
	if t == nil {
		return 1
	}
	origin := strings.TrimSpace(t.Origin)
	if strings.ContainsAny(origin, "\n") || origin == "" {
		return 1
	}
	return utf8.RuneCountInString(origin)
}

// readable refuses what would cost the YAML parser more than a policy is worth.
func (p *Reader) readable(text []byte) bool {
	if len(text) > MaxSize {
		p.Fault(Position{1, 1}, 1, "too-large", "the file has %d bytes; a policy has at most %d", len(text), MaxSize)
		return false
	}
	line, column, depth, dashes, indent, comment := 1, 0, 0, 0, true, false
	for i := 0; i < len(text); {
		r, size := utf8.DecodeRune(text[i:])
		column++
		switch {
		case r == utf8.RuneError && size <= 1:
			p.Fault(Position{line, column}, 1, "syntax", "this is not text in UTF-8 (byte 0x%02x)", text[i])
			return false
		case r == '\n':
			line, column, dashes, indent, comment = line+1, 0, 0, true, false
		case r == '\r' && (i+1 == len(text) || text[i+1] != '\n') || Separates(r):
			p.Fault(Position{line, column}, 1, "syntax", "U+%04X begins a new line for some programs and none for others, so what is a "+
				"comment for one is a door for the next; end lines with a line feed", r)
			return false
		case r == '#' && (i == 0 || strings.IndexByte(" \t\n", text[i-1]) >= 0):
			comment = true
		case r == '\t' && !comment && !indent && !endsLine(text[i:]):
			p.Fault(Position{line, column}, 1, "syntax", "a tab is before or within a text, where some programs ignore it and others "+
				"don't; use spaces, or \"\\t\" between double quotes")
			return false
		case Invisible(r) && !(i == 0 && r == 0xfeff):
			p.Fault(Position{line, column}, 1, "syntax", "U+%04X cannot be seen, so that one place may look like another; in a text between "+
				"double quotes it can be written as \"%s\"", r, escaped(r))
			return false
		case Reorders(r):
			p.Fault(Position{line, column}, 1, "syntax", "U+%04X changes the order in which the text is shown, so that it may look like "+
				"another; in a text between double quotes it can be written as \"\\u%04[1]X\"", r)
			return false
		case r < 0x20 && r != '\t' && r != '\r' || r == 0x7f:
			p.Fault(Position{line, column}, 1, "syntax", "a policy must not contain control characters (U+%04X)", r)
			return false
		case r == '[' || r == '{':
			depth++
		case r == ']' || r == '}':
			depth = max(0, depth-1)
		case indent && r == '-':
			dashes++
		}
		if indent && r != '-' && r != ' ' && r != '\n' && r != '?' {
			indent = false
		}
		if depth > maxDepth || dashes > maxDepth || indent && column > 40*maxDepth {
			p.Fault(Position{line, column}, 1, "too-deep", "lists and mappings are nested more than %d deep", maxDepth)
			return false
		}
		i += size
	}
	return true
}

// endsLine reports whether nothing but blanks and a comment stands in the rest of a line.
func endsLine(text []byte) bool {
	rest := bytes.TrimLeft(text, " \t")
	return len(rest) == 0 || rest[0] == '\n' || rest[0] == '\r' || rest[0] == '#'
}

// Invisible reports whether a character is shown as nothing (UAX 44, Default_Ignorable_Code_Point, as far as it
// doesn't reorder text, and a blank letter).
func Invisible(r rune) bool {
	return !Reorders(r) && (unicode.Is(unicode.Cf, r) || unicode.Is(unicode.Other_Default_Ignorable_Code_Point, r) ||
		unicode.Is(unicode.Variation_Selector, r) || r == 0x2800)
}

// Separates reports whether a character beyond ASCII begins a new line for some programs (UAX 14, class BK and NL).
func Separates(r rune) bool { return r == 0x85 || r == 0x2028 || r == 0x2029 }

// Reorders reports whether a character changes the order in which what follows is shown (UAX 9, section 2): text may then look like
// another.
func Reorders(r rune) bool { return r >= 0x202a && r <= 0x202e || r >= 0x2066 && r <= 0x2069 }

// Document reads text as one YAML document and returns its body, nil if there is none.
// What the document is is said in errors.
func (p *Reader) Document(text []byte, what string) (body ast.Node, ok bool) {
	if !p.readable(text) {
		return nil, false
	}
	// The parser counts some lines twice that end with both characters.
	text = bytes.ReplaceAll(text, []byte("\r\n"), []byte("\n"))
	file, err := parser.ParseBytes(text, 0, parser.AllowDuplicateMapKey())
	if err != nil {
		at := Position{1, 1}
		message := err.Error()
		var syntax yaml.Error
		if errors.As(err, &syntax) {
			message = syntax.GetMessage()
			if t := syntax.GetToken(); t != nil && t.Position != nil {
				at = Position{t.Position.Line, t.Position.Column}
			}
		}
		// A value that goes on is told where it began.
		if place, wrong, found := misplaced(string(text)); found && (place.Line <= at.Line+1 || strings.HasPrefix(message, "mapping value")) {
			at, message = place, wrong
		}
		p.Fault(at, 1, "syntax", "this is not YAML: %s", message)
		return nil, false
	}
	for _, doc := range file.Docs {
		if doc.Body == nil {
			continue
		}
		if body != nil {
			p.At(doc.Body, "syntax", "a second YAML document; %s is one document", what)
			return nil, false
		}
		body = doc.Body
	}
	return body, true
}

// A Field is one key of a mapping with its value.
type Field struct {
	Name  string
	Key   ast.Node
	Value ast.Node
}

// fields returns the entries of a mapping. Unknown and repeated keys are errors; known
// nil allows any key.
func (p *Reader) Fields(n ast.Node, what string, known []string) []Field {
	var values []*ast.MappingValueNode
	switch n := n.(type) {
	case *ast.MappingNode:
		values = n.Values
	case *ast.MappingValueNode:
		values = []*ast.MappingValueNode{n}
	default:
		p.At(n, "bad-value", "%s is a mapping (key: value), but this is %s", what, KindOf(n))
		return nil
	}
	var fields []Field
	first := map[string]Position{}
	for i, v := range values {
		key, ok := v.Key.(ast.Node).(*ast.StringNode)
		if !ok {
			p.At(v.Key, "bad-value", "a key in %s is a plain word, but this is %s", what, KindOf(v.Key))
			continue
		}
		name := key.Value
		if known != nil && !slices.Contains(known, name) {
			p.At(key, "unknown-key", "unknown key %q in %s%s%s", name, what, DidYouMean(name, known), orBelow(values[:i]))
			continue
		}
		if at, repeated := first[name]; repeated {
			p.At(key, "repeated-key", "the key %q is repeated in %s; the first is in line %d", name, what, at.Line)
			continue
		}
		first[name] = PositionOf(key)
		if p.PlainYAML(v.Value) {
			fields = append(fields, Field{name, key, v.Value})
		}
	}
	return fields
}

// orBelow says that a key may have been meant to stand below the one before it, which has no value.
func orBelow(before []*ast.MappingValueNode) string {
	if len(before) == 0 {
		return ""
	}
	last := before[len(before)-1]
	if _, empty := last.Value.(*ast.NullNode); !empty {
		return ""
	}
	at := PositionOf(last.Key)
	return fmt.Sprintf("; if it belongs to %q in line %d, indent it more than that: begin it in column %d", last.Key.String(), at.Line,
		at.Column+2)
}

// plainYAML refuses anchors, aliases, tags and merge keys, which a policy does not need
// and behind which one text can stand for another.
func (p *Reader) PlainYAML(n ast.Node) bool {
	switch n.(type) {
	case *ast.AnchorNode, *ast.AliasNode, *ast.TagNode, *ast.MergeKeyNode:
		p.At(n, "bad-value", "a policy can't use %s; write the value instead", KindOf(n))
		return false
	}
	return true
}

// IsMapping reports whether a node is a mapping.
func IsMapping(n ast.Node) bool {
	switch n.(type) {
	case *ast.MappingNode, *ast.MappingValueNode:
		return true
	}
	return false
}

// KindOf says in words what a node is.
func KindOf(n ast.Node) string {
	switch n.(type) {
	case *ast.MappingNode, *ast.MappingValueNode:
		return "a mapping"
	case *ast.SequenceNode:
		return "a list"
	case *ast.NullNode:
		return "empty"
	case *ast.BoolNode:
		return "true or false"
	case *ast.IntegerNode, *ast.FloatNode, *ast.InfinityNode, *ast.NanNode:
		return "a number"
	case *ast.AnchorNode:
		return "an anchor (&)"
	case *ast.AliasNode:
		return "an alias (*)"
	case *ast.TagNode:
		return "a tag (!)"
	case *ast.MergeKeyNode:
		return "a merge key (<<)"
	}
	return "text"
}

// Text returns the value of a node that is text. Empty text is an error.
func (p *Reader) Text(n ast.Node, what string) (string, bool) {
	var value string
	switch n := n.(type) {
	case *ast.StringNode:
		value = n.Value
	case *ast.LiteralNode:
		value = n.Value.Value
	case *ast.BoolNode, *ast.IntegerNode, *ast.FloatNode, *ast.InfinityNode, *ast.NanNode:
		p.At(n, "bad-value", "%s is text, but this is %s; put it in quotes", what, KindOf(n))
		return "", false
	default:
		p.At(n, "bad-value", "%s is text, but this is %s", what, KindOf(n))
		return "", false
	}
	if strings.TrimSpace(value) == "" {
		p.At(n, "bad-value", "%s is empty", what)
		return "", false
	}
	return value, true
}

// List returns the elements of a list. An empty list is an error.
func (p *Reader) List(n ast.Node, what string) []ast.Node {
	seq, ok := n.(*ast.SequenceNode)
	if !ok {
		p.At(n, "bad-value", "%s is a list, but this is %s", what, KindOf(n))
		return nil
	}
	if len(seq.Values) == 0 {
		p.At(n, "bad-value", "%s is an empty list", what)
		return nil
	}
	var values []ast.Node
	for _, v := range seq.Values {
		if p.PlainYAML(v) {
			values = append(values, v)
		}
	}
	return values
}

// Texts returns the elements of a list of text, or the one text that stands for such a
// List.
func (p *Reader) Texts(n ast.Node, what string) (values []string, nodes []ast.Node) {
	elements := []ast.Node{n}
	if _, ok := n.(*ast.SequenceNode); ok {
		elements = p.List(n, what)
	}
	for _, e := range elements {
		value, ok := p.Text(e, what)
		if !ok {
			continue
		}
		if slices.Contains(values, value) {
			p.At(e, "bad-value", "%q is twice in this list", value)
			continue
		}
		values, nodes = append(values, value), append(nodes, e)
	}
	return values, nodes
}

// Boolean returns the value of a node that is true or false.
func (p *Reader) Boolean(n ast.Node, what string) bool {
	b, ok := n.(*ast.BoolNode)
	if !ok {
		p.At(n, "bad-value", "%s must be true or false, but this is %s", what, KindOf(n))
		return false
	}
	return b.Value
}

// Word returns the value of a node that is one of a few words.
func (p *Reader) Word(n ast.Node, what string, words ...string) string {
	s, ok := p.Text(n, what)
	if !ok {
		return ""
	}
	if !slices.Contains(words, s) {
		p.At(n, "bad-value", "%s is %s, not %q", what, OrList(words), s)
		return ""
	}
	return s
}

// Duration returns the value of a node that is a duration.
func (p *Reader) Duration(n ast.Node, what string) (time.Duration, bool) {
	if i, ok := n.(*ast.IntegerNode); ok {
		if t := i.GetToken(); t.Value == "0" {
			return 0, true
		}
		p.At(n, "bad-value", "%s must be a time with a unit, such as 10m or 30d", what)
		return 0, false
	}
	if t := n.GetToken(); t != nil && t.Type == token.StringType || IsText(n) {
		s, ok := p.Text(n, what)
		if !ok {
			return 0, false
		}
		d, err := ParseDuration(s)
		if err != nil {
			p.At(n, "bad-value", "%s: %v", what, err)
			return 0, false
		}
		return d, true
	}
	p.At(n, "bad-value", "%s must be a time such as 10m or 30d, but this is %s", what, KindOf(n))
	return 0, false
}

// IsText reports whether a node is a text.
func IsText(n ast.Node) bool {
	_, ok := n.(*ast.StringNode)
	return ok
}

// Name checks a name that is used in the notation of visitors and on command lines.
func (p *Reader) Name(n ast.Node, what, s string) bool {
	if !ValidName(s) {
		p.At(n, "bad-value", "%s %q: a name has 1 to 64 letters, digits, - or _", what, s)
		return false
	}
	return true
}

// ValidName reports whether a text can be a name in the notation of visitors and on command lines.
func ValidName(s string) bool {
	if s == "" || len(s) > 64 {
		return false
	}
	for _, c := range s {
		if !('a' <= c && c <= 'z' || 'A' <= c && c <= 'Z' || '0' <= c && c <= '9' || c == '-' || c == '_') {
			return false
		}
	}
	return true
}

// FormatDuration writes a duration as a policy does: "10m", "1h30m", "30d", "0".
func FormatDuration(d time.Duration) string {
	if d == 0 {
		return "0"
	}
	if day := 24 * time.Hour; d%day == 0 {
		return fmt.Sprintf("%dd", d/day)
	}
	s := d.String() // such as 1h30m0s
	if strings.HasSuffix(s, "m0s") {
		s = s[:len(s)-2]
	}
	if strings.HasSuffix(s, "h0m") {
		s = s[:len(s)-2]
	}
	return s
}

// The grammar of durations, as the schema of the policy file has it too. The numbers are
// so short that no sum is too large.
const DurationPattern = `^(?:0|[0-9]{1,4}d(?:[0-9]{1,5}(?:\.[0-9]{1,9})?(?:ns|us|µs|ms|s|m|h)){0,6}|(?:[0-9]{1,5}(?:\.[0-9]{1,9})` +
	`?(?:ns|us|µs|ms|s|m|h)){1,6})$`

var durations = pattern.New(DurationPattern)

// ParseDuration reads a duration as Go writes it, and days: "90s", "10m", "1h30m",
// "30d", "1d12h". Zero is "0".
func ParseDuration(s string) (time.Duration, error) {
	if !durations.MatchString(s) {
		return 0, fmt.Errorf("%q is not a duration; use one like 90s, 10m, 12h or 30d (at most 9999d), or 0", s)
	}
	days, rest, ok := strings.Cut(s, "d")
	if !ok {
		return time.ParseDuration(s)
	}
	n, err := strconv.Atoi(days)
	if err != nil {
		return 0, err
	}
	total := time.Duration(n) * 24 * time.Hour
	if rest == "" {
		return total, nil
	}
	d, err := time.ParseDuration(rest)
	return total + d, err
}
