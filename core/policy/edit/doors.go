package edit

import (
	"strings"
	"unicode/utf8"

	"github.com/goccy/go-yaml/ast"

	"ostiarius/core/document"
	"ostiarius/core/place"
	"ostiarius/core/policy"
)

// The longest line that an entry in brackets makes; a longer one is written as a block.
const longestLine = 110

// insertLines adds whole lines at the beginning of a line, or behind the last one.
func (e *editor) insertLines(at int, lines ...string) {
	text := strings.Join(lines, "\n")
	if at == len(e.text) && at > 0 && e.text[at-1] != '\n' {
		e.replace(at, at, "\n"+text)
		return
	}
	e.replace(at, at, text+"\n")
}

// removeLines takes out whole lines.
func (e *editor) removeLines(from, to int) {
	if to == len(e.text) && to > 0 && e.text[to-1] != '\n' && from > 0 {
		from-- // of the line before, which is the last now, and has had no end either
	}
	e.replace(from, to, "")
}

// removeOf takes one of some values in brackets out, with the comma before or behind it.
func (e *editor) removeOf(values []ast.Node, at int) error {
	mine := e.at(values[at])
	end, err := e.valueEnd(values[at], mine)
	if err != nil {
		return err
	}
	if at == 0 {
		next := e.at(values[1])
		return e.cut(values[0], mine, next, end, next)
	}
	before, err := e.valueEnd(values[at-1], e.at(values[at-1]))
	if err != nil {
		return err
	}
	return e.cut(values[at], before, end, before, mine)
}

// cut takes a part out, with what stands between it and its neighbour, which has no comments.
func (e *editor) cut(n ast.Node, from, to, gapFrom, gapTo int) error {
	if e.hasComment(gapFrom, gapTo) {
		return e.unsafe(n, "there are comments beside it, which would be lost")
	}
	e.replace(from, to, "")
	return nil
}

// addBehind adds a value in brackets behind another one.
func (e *editor) addBehind(values []ast.Node, at int, text string) error {
	end, err := e.valueEnd(values[at], e.at(values[at]))
	if err != nil {
		return err
	}
	separator := ", "
	if line := e.lineOf(e.at(values[at])); at > 0 && e.lineOf(e.at(values[at-1])) != line {
		separator = ",\n" + e.line(line)[:e.at(values[at])-e.lines[line]]
		if strings.TrimSpace(separator[1:]) != "" {
			separator = ", "
		}
	}
	e.replace(end, end, separator+text)
	return nil
}

// takePath takes one path out of the list of an entry.
func (e *editor) takePath(n *entry, at int) error {
	list := n.field("path").Value.(*ast.SequenceNode)
	if list.IsFlowStyle {
		return e.removeOf(list.Values, at)
	}
	line := e.lineOf(e.at(list.Values[at]))
	if !strings.HasPrefix(strings.TrimLeft(e.line(line), " "), "- ") {
		return e.unsafe(list.Values[at], "it does not stand in a line of its own")
	}
	e.removeLines(e.lines[line], e.after(line))
	return nil
}

// addPath adds a path to the list of an entry, behind another one.
func (e *editor) addPath(n *entry, at int, path string) error {
	list := n.field("path").Value.(*ast.SequenceNode)
	if list.IsFlowStyle {
		return e.addBehind(list.Values, at, document.Scalar(path))
	}
	line := e.lineOf(e.at(list.Values[at]))
	text := e.line(line)
	if !strings.HasPrefix(strings.TrimLeft(text, " "), "- ") {
		return e.unsafe(list.Values[at], "it does not stand in a line of its own")
	}
	e.insertLines(e.after(line), strings.Repeat(" ", indentOf(text))+"- "+document.Scalar(path))
	return nil
}

// removeEntry takes an entry out. Comments above it stay; of the blank lines around it one goes too, if
// there were some on both sides.
func (e *listing) removeEntry(n *entry) error {
	if e.seq.IsFlowStyle {
		for i := range e.entries {
			if &e.entries[i] == n {
				return e.removeOf(e.seq.Values, i)
			}
		}
	}
	first, behind := e.lineOf(n.from), e.lineOf(n.to)
	if n.to == len(e.text) {
		behind = len(e.lines)
	}
	from, to := n.from, n.to
	last := n == &e.entries[len(e.entries)-1]
	blankBehind := behind >= len(e.lines) || isBlank(e.line(behind))
	switch {
	case n != &e.entries[0] && isBlank(e.line(first-1)) && (blankBehind || last):
		from = e.lines[first-1]
	case n == &e.entries[0] && behind < len(e.lines)-1 && isBlank(e.line(behind)):
		to = e.after(behind)
	}
	e.removeLines(from, to)
	return nil
}

// addEntry adds an entry with these keys behind another one, in the style of that.
func (e *listing) addEntry(near *entry, keys []string) error {
	if e.seq.IsFlowStyle {
		for i := range e.entries {
			if &e.entries[i] == near {
				return e.addBehind(e.seq.Values, i, inBrackets(keys, e.tight(near)))
			}
		}
	}
	pad := strings.Repeat(" ", near.indent)
	var lines []string
	if e.isSpaced(near) {
		lines = append(lines, "")
	}
	brackets, because := pad+"- "+inBrackets(keys, e.tight(near)), comment(e.because)
	if isFlow(near.node) && len(brackets) <= longestLine {
		lines = append(lines, brackets+because)
	} else {
		inner := pad + "  "
		if !isFlow(near.node) {
			from := e.at(near.node)
			inner = strings.Repeat(" ", from-e.lines[e.lineOf(from)])
		}
		for i, key := range keys {
			if i == 0 {
				lines = append(lines, pad+"-"+inner[len(pad)+1:]+key+because)
				continue
			}
			lines = append(lines, inner+key)
		}
	}
	e.insertLines(near.to, lines...)
	return nil
}

// comment is a text as a comment behind a line, "" for none.
func comment(text string) string {
	text = strings.Join(strings.FieldsFunc(text, func(r rune) bool {
		return r < ' ' || r == 0x7f || document.Separates(r) || document.Reorders(r) || document.Invisible(r) || r == ' '
	}), " ")
	if text == "" || !utf8.ValidString(text) {
		return ""
	}
	return "   # " + text
}

// isSpaced reports whether a blank line stands behind an entry, or before the last one.
func (e *listing) isSpaced(n *entry) bool {
	if n != &e.entries[len(e.entries)-1] {
		return isBlank(e.line(e.lineOf(n.to)))
	}
	return len(e.entries) > 1 && isBlank(e.line(e.lineOf(n.from)-1))
}

// tight reports whether an entry has no spaces within its brackets.
func (e *editor) tight(n *entry) bool {
	from := e.at(n.node)
	return isFlow(n.node) && from+1 < len(e.text) && e.text[from+1] != ' '
}

// keysOf returns the keys of a door with their values.
func (e *editor) keysOf(d *policy.Door) []string {
	keys := append(e.keysOfSet(d.Written, &d.Set), "admit: "+d.Admit.Text())
	if d.Basic {
		keys = append(keys, "ask: basic")
		if d.Realm != e.book.Site {
			keys = append(keys, "realm: "+document.Scalar(d.Realm))
		}
	}
	if d.ForwardCredentials {
		keys = append(keys, "forward-credentials: true")
	}
	if text := d.Otherwise.Text(); text != "" {
		keys = append(keys, "otherwise: "+text)
	}
	return keys
}

// keysOfSet returns the keys that say which places are meant.
func (e *editor) keysOfSet(written string, set *place.Set) []string {
	keys := []string{"path: " + document.Scalar(written)}
	if !set.Host.Any() {
		keys = append(keys, "host: "+document.Scalar(set.Host.String()))
	}
	if names := set.Methods.Names(); len(names) > 0 {
		keys = append(keys, "methods: ["+strings.Join(document.Scalars(names), ", ")+"]")
	}
	return keys
}

func inBrackets(keys []string, tight bool) string {
	text := strings.Join(keys, ", ")
	if tight {
		return "{" + text + "}"
	}
	return "{ " + text + " }"
}

// change makes the one door of an entry say what it is to say.
func (e *editor) change(n *entry, want *policy.Door) error {
	is := n.doors[0]
	set := func(name, value string, differs bool) error {
		f := n.field(name)
		switch {
		case !differs || f == nil && value == "":
			return nil
		case f == nil:
			return e.addKey(n, name, value)
		case value == "":
			return e.removeKey(n, f)
		}
		return e.setValue(f, value)
	}
	if err := set("admit", want.Admit.Text(), is.Admit.String() != want.Admit.String()); err != nil {
		return err
	}
	ask, realm := "", ""
	if want.Basic {
		if ask = "basic"; want.Realm != e.book.Site || n.field("realm") != nil {
			realm = document.Scalar(want.Realm)
		}
	}
	if err := set("ask", ask, is.Basic != want.Basic); err != nil {
		return err
	}
	if err := set("realm", realm, is.Basic != want.Basic || is.Realm != want.Realm); err != nil {
		return err
	}
	return set("otherwise", want.Otherwise.Text(), is.Otherwise.Text() != want.Otherwise.Text())
}

// addKey adds a key to an entry, behind all others.
func (e *editor) addKey(n *entry, name, value string) error {
	last := &n.fields[len(n.fields)-1]
	if isFlow(n.node) {
		end, err := e.fieldEnd(last)
		if err != nil {
			return err
		}
		e.replace(end, end, ", "+name+": "+value)
		return nil
	}
	from := e.at(n.node)
	pad := from - e.lines[e.lineOf(from)]
	e.insertLines(e.after(e.blockEnd(e.lineOf(e.at(last.Key)), pad)), strings.Repeat(" ", pad)+name+": "+value)
	return nil
}

// fieldEnd returns where a key in brackets ends with its value.
func (e *editor) fieldEnd(f *document.Field) (int, error) {
	if _, empty := f.Value.(*ast.NullNode); empty {
		return e.colon(f)
	}
	return e.valueEnd(f.Value, e.at(f.Value))
}

// removeKey takes a key with its value out of an entry.
func (e *editor) removeKey(n *entry, f *document.Field) error {
	at := 0
	for i := range n.fields {
		if &n.fields[i] == f {
			at = i
		}
	}
	if at == 0 {
		return e.unsafe(f.Key, "%s is the first key of its door", f.Name)
	}
	if !isFlow(n.node) {
		line, pad := e.lineOf(e.at(f.Key)), e.at(n.node)-e.lines[e.lineOf(e.at(n.node))]
		e.removeLines(e.lines[line], e.after(e.blockEnd(line, pad)))
		return nil
	}
	from, err := e.fieldEnd(&n.fields[at-1])
	if err != nil {
		return err
	}
	to, err := e.fieldEnd(f)
	if err != nil {
		return err
	}
	return e.cut(f.Key, from, to, from, e.at(f.Key))
}

// declare adds a name to a mapping of the policy, such as its roles; with the mapping, if there is none.
func (e *editor) declare(section, name, value string) error {
	line := name + ":"
	if value != "" {
		line += " " + value
	}
	f := e.key(section)
	if f == nil {
		return e.before("doors", section+":", "  "+line)
	}
	switch n := f.Value.(type) {
	case *ast.NullNode:
		e.insertLines(e.after(e.lineOf(e.at(f.Key))), "  "+line)
		return nil
	case *ast.MappingNode:
		if n.IsFlowStyle {
			p := &document.Reader{File: e.file}
			fields := p.Fields(n, section, nil)
			if len(fields) == 0 {
				from := e.at(n)
				e.replace(from, from+1, "{ "+line+" ")
				return nil
			}
			last := &fields[len(fields)-1]
			end, err := e.fieldEnd(last)
			if err != nil {
				return err
			}
			comma := ", "
			if _, empty := last.Value.(*ast.NullNode); empty {
				comma = " , "
			}
			e.replace(end, end, comma+line)
			return nil
		}
	}
	from := e.at(f.Value)
	first := e.lineOf(from)
	e.insertLines(e.after(e.blockEnd(e.lineOf(e.at(f.Key)), 0)), strings.Repeat(" ", from-e.lines[first])+line)
	return nil
}
