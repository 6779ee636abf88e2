package edit

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"unicode/utf8"

	"github.com/goccy/go-yaml/ast"

	"ostiarius/core/document"
	"ostiarius/core/policy"
)

// An editor knows where the parts of a text stand, in bytes.
type editor struct {
	file    string
	text    []byte
	book    *policy.Book
	lines   []int // where each begins
	top     []document.Field
	doors   *listing
	splices []splice
	because string // of a door that is added; "" for nothing
}

// A listing is a list of the policy: of its doors, its guarantees, or of where people land.
type listing struct {
	*editor
	seq     *ast.SequenceNode
	entries []entry
}

// A splice puts a text in the place of some bytes.
type splice struct {
	from, to int
	text     string
}

// An entry is one entry of a list. One of the doors makes several doors: one for each path.
type entry struct {
	node     ast.Node
	fields   []document.Field
	doors    []*policy.Door // of a list of doors
	from, to int            // its text: of a block from the beginning of its first line to the end of its last; of a flow its brackets
	indent   int            // of a block: columns before its dash
}

func (e *entry) field(name string) *document.Field {
	for i := range e.fields {
		if e.fields[i].Name == name {
			return &e.fields[i]
		}
	}
	return nil
}

// open finds the parts of the text. The text is known to be a policy without errors.
func (e *editor) open() error {
	e.lines = []int{0}
	for i, c := range e.text {
		if c == '\n' {
			e.lines = append(e.lines, i+1)
		}
	}
	p := &document.Reader{File: e.file}
	body, ok := p.Document(e.text, "a policy")
	if !ok || body == nil {
		return unreadable(e.file, p.Findings)
	}
	e.top = p.Fields(body, "the policy", nil)
	if m, isMap := body.(*ast.MappingNode); isMap && m.IsFlowStyle {
		return e.unsafe(body, "the whole policy stands in brackets")
	}
	var err error
	if e.doors, err = e.list(e.key("doors")); err != nil {
		return err
	}
	next := 0
	for i := range e.doors.entries {
		n := &e.doors.entries[i]
		for range n.paths() {
			if next >= len(e.book.Doors) {
				return e.unsafe(n.node, "its doors cannot be told apart")
			}
			n.doors = append(n.doors, &e.book.Doors[next])
			next++
		}
	}
	if next != len(e.book.Doors) || next == 0 {
		return e.unsafe(e.doors.seq, "its doors cannot be told apart")
	}
	return nil
}

// list finds the entries of a list. The value of the key is one with at least one entry, or it cannot be edited.
func (e *editor) list(f *document.Field) (*listing, error) {
	seq, isList := f.Value.(*ast.SequenceNode)
	if !isList || len(seq.Values) == 0 {
		return nil, e.unsafe(f.Value, "%s is no list with something in it", f.Name)
	}
	l := &listing{editor: e, seq: seq}
	p := &document.Reader{File: e.file}
	for _, node := range seq.Values {
		l.entries = append(l.entries, entry{node: node, fields: p.Fields(node, "an entry", nil)})
	}
	for i := range l.entries {
		if err := l.place(i); err != nil {
			return nil, err
		}
	}
	return l, nil
}

// paths returns how many paths an entry has.
func (n *entry) paths() int {
	if path := n.field("path"); path != nil {
		if list, isList := path.Value.(*ast.SequenceNode); isList {
			return len(list.Values)
		}
	}
	return 1
}

func (e *editor) unsafe(n ast.Node, format string, args ...any) error {
	return &Unsafe{e.file, document.PositionOf(n), fmt.Sprintf(format, args...)}
}

// at returns where a node begins.
func (e *editor) at(n ast.Node) int {
	p := document.PositionOf(n)
	from := e.lines[p.Line-1]
	for range p.Column - 1 {
		if from >= len(e.text) {
			break
		}
		_, size := utf8.DecodeRune(e.text[from:])
		from += size
	}
	return from
}

// lineOf returns the number of the line that a byte is in, from 0.
func (e *editor) lineOf(at int) int {
	i, found := slices.BinarySearch(e.lines, at)
	if !found {
		i--
	}
	return i
}

// line returns a line without its end.
func (e *editor) line(i int) string {
	to := len(e.text)
	if i+1 < len(e.lines) {
		to = e.lines[i+1]
	}
	return strings.TrimSuffix(string(e.text[e.lines[i]:to]), "\n")
}

// after returns where the line behind line i begins, the end of the text behind the last.
func (e *editor) after(i int) int {
	if i+1 < len(e.lines) {
		return e.lines[i+1]
	}
	return len(e.text)
}

func indentOf(line string) int { return len(line) - len(strings.TrimLeft(line, " ")) }

func isBlank(line string) bool   { return strings.TrimSpace(line) == "" }
func isComment(line string) bool { return strings.HasPrefix(strings.TrimSpace(line), "#") }

// blockEnd returns the last line of what begins in line first and stands deeper than indent, without the
// blank lines and the comments behind it that stand no deeper.
func (e *editor) blockEnd(first, indent int) int {
	last := first
	for i := first + 1; i < len(e.lines); i++ {
		line := e.line(i)
		if isBlank(line) {
			continue
		}
		if indentOf(line) <= indent {
			break
		}
		last = i
	}
	return last
}

// place finds where entry i stands.
func (e *listing) place(i int) error {
	n := &e.entries[i]
	from := e.at(n.node)
	if e.seq.IsFlowStyle {
		to, err := e.valueEnd(n.node, from)
		n.from, n.to = from, to
		return err
	}
	first := e.lineOf(from)
	line := e.line(first)
	n.indent = indentOf(line)
	rest := strings.TrimLeft(line, " ")
	if !strings.HasPrefix(rest, "- ") || e.lines[first]+n.indent+1+len(rest[1:])-len(strings.TrimLeft(rest[1:], " ")) != from {
		return e.unsafe(n.node, "it does not begin right behind its dash")
	}
	n.from, n.to = e.lines[first], e.after(e.blockEnd(first, n.indent))
	return nil
}

// valueEnd returns where a value ends that begins at a byte, or a key.
func (e *editor) valueEnd(n ast.Node, from int) (int, error) {
	if from >= len(e.text) {
		return 0, e.unsafe(n, "its end cannot be found")
	}
	switch c := e.text[from]; c {
	case '[', '{':
		depth := 0
		for i := from; i < len(e.text); i++ {
			switch c := e.text[i]; c {
			case '"', '\'':
				if strings.IndexByte(" \t\n[{,:", e.text[i-1]) < 0 {
					continue // within a plain text
				}
				to, ok := e.quoteEnd(i)
				if !ok {
					return 0, e.unsafe(n, "its end cannot be found")
				}
				i = to - 1
			case '#':
				if b := e.text[i-1]; b == ' ' || b == '\t' || b == '\n' {
					i = e.after(e.lineOf(i)) - 1
				}
			case '[', '{':
				depth++
			case ']', '}':
				if depth--; depth == 0 {
					return i + 1, nil
				}
			}
		}
	case '"', '\'':
		if to, ok := e.quoteEnd(from); ok {
			return to, nil
		}
	case '|', '>', '&', '*', '!', '?', '%', '@', '`':
		return 0, e.unsafe(n, "it is written in a way that only a person should change")
	default:
		text, _ := plainText(n)
		to := from + len(text)
		if text == "" || to > len(e.text) || string(e.text[from:to]) != text {
			break
		}
		return to, nil
	}
	return 0, e.unsafe(n, "its end cannot be found")
}

// plainText returns the text of a node that is written without quotes.
func plainText(n ast.Node) (string, bool) {
	switch n := n.(type) {
	case *ast.StringNode:
		return n.Value, true
	case *ast.BoolNode, *ast.IntegerNode, *ast.FloatNode:
		return strings.TrimSpace(n.GetToken().Value), true
	}
	return "", false
}

// quoteEnd returns where a text in quotes ends.
func (e *editor) quoteEnd(from int) (to int, ok bool) {
	quote := e.text[from]
	for i := from + 1; i < len(e.text); i++ {
		switch {
		case e.text[i] == '\\' && quote == '"':
			i++
		case e.text[i] == quote && quote == '\'' && i+1 < len(e.text) && e.text[i+1] == '\'':
			i++
		case e.text[i] == quote:
			return i + 1, true
		}
	}
	return 0, false
}

func (e *editor) replace(from, to int, text string) {
	e.splices = append(e.splices, splice{from, to, text})
}

// result returns the text with all splices made.
func (e *editor) result() []byte {
	slices.SortStableFunc(e.splices, func(a, b splice) int { return cmp.Compare(a.from, b.from) })
	var out []byte
	at := 0
	for _, s := range e.splices {
		out = append(append(out, e.text[at:s.from]...), s.text...)
		at = s.to
	}
	return append(out, e.text[at:]...)
}

// key returns a key of the policy, nil if it has none of that name.
func (e *editor) key(name string) *document.Field {
	for i := range e.top {
		if e.top[i].Name == name {
			return &e.top[i]
		}
	}
	return nil
}

// before adds lines in front of a key of the policy, and of the comments right above it.
func (e *editor) before(name string, lines ...string) error {
	i := e.lineOf(e.at(e.key(name).Key))
	for i > 0 && isComment(e.line(i-1)) && indentOf(e.line(i-1)) == 0 {
		i--
	}
	blank := ""
	if i > 0 && isBlank(e.line(i-1)) {
		blank = "\n"
	}
	e.replace(e.lines[i], e.lines[i], strings.Join(lines, "\n")+"\n"+blank)
	return nil
}

// setValue puts a value in the place of another one.
func (e *editor) setValue(f *document.Field, value string) error {
	from, to, err := e.span(f)
	if err != nil {
		return err
	}
	if e.hasComment(from, to) {
		return e.unsafe(f.Value, "there are comments in it, which would be lost")
	}
	if from == to || e.text[from-1] == ':' {
		value = " " + value
	}
	e.replace(from, to, value)
	return nil
}

// hasComment reports whether there is a comment between two places.
func (e *editor) hasComment(from, to int) bool {
	for i := from; i < to; i++ {
		var before byte = ' '
		if i > 0 {
			before = e.text[i-1]
		}
		switch c := e.text[i]; {
		case c == '#' && strings.IndexByte(" \t\n", before) >= 0:
			return true
		case (c == '"' || c == '\'') && strings.IndexByte(" \t\n[{,:", before) >= 0:
			if end, ok := e.quoteEnd(i); ok {
				i = end - 1
			}
		}
	}
	return false
}

// span returns where the value of a key stands; right behind the colon if it is empty, or in lines of its own.
func (e *editor) span(f *document.Field) (from, to int, err error) {
	colon, err := e.colon(f)
	if err != nil {
		return 0, 0, err
	}
	if _, empty := f.Value.(*ast.NullNode); empty {
		return colon, colon, nil
	}
	from = e.at(f.Value)
	if isFlow(f.Value) {
		to, err = e.valueEnd(f.Value, from)
		return from, to, err
	}
	// A block: all lines that stand deeper than the key; of a list also those that stand as deep.
	line := e.lineOf(e.at(f.Key))
	if e.lineOf(from) == line {
		return 0, 0, e.unsafe(f.Value, "it begins in the line of its key")
	}
	indent := e.at(f.Key) - e.lines[line]
	if _, list := f.Value.(*ast.SequenceNode); list && indentOf(e.line(e.lineOf(from))) == indent {
		indent--
	}
	to = e.after(e.blockEnd(line, indent))
	for to > 0 && e.text[to-1] == '\n' {
		to--
	}
	return colon, to, nil
}

// colon returns where the text behind the colon of a key begins.
func (e *editor) colon(f *document.Field) (int, error) {
	to, err := e.valueEnd(f.Key, e.at(f.Key))
	if err != nil {
		return 0, err
	}
	if to >= len(e.text) || e.text[to] != ':' {
		return 0, e.unsafe(f.Key, "its colon does not stand right behind it")
	}
	return to + 1, nil
}

// isFlow reports whether a node stands in brackets, in quotes, or as plain text.
func isFlow(n ast.Node) bool {
	switch n := n.(type) {
	case *ast.MappingNode:
		return n.IsFlowStyle
	case *ast.MappingValueNode:
		return false
	case *ast.SequenceNode:
		return n.IsFlowStyle
	}
	return true
}
