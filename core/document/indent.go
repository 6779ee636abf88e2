package document

import (
	"fmt"
	"strings"
	"unicode/utf8"

	"ostiarius/core/pattern"
)

// An opened is a block of lines that begin in one column: a list, whose lines begin with a dash, or a mapping.
type opened struct {
	column int
	list   bool
	key    string // the last key of a mapping
	line   int    // where that stands, or the last dash
	full   bool   // the value of the last is in its line and complete
}

var (
	leadingKey = pattern.New(`^("[^"]*"|'[^']*'|[^\s"'#\[\]{},&*!|>%@-][^#:]*?)\s*:(\s+.*)?$`)
	blockText  = pattern.New(`^[|>][-+0-9]*\s*(#.*)?$`)
)

// misplaced finds the first line of a text that is no YAML for the column it begins in, and says what is wrong with it
// and where it belongs. It reads as much of YAML as a policy is written in: what stands in brackets, in quotes over several
// lines and in blocks of text is passed over.
func misplaced(text string) (at Position, message string, found bool) {
	var stack []opened
	depth, quote, below := 0, byte(0), 0 // below: what is deeper than this column is a block of text
	for number, line := range strings.Split(text, "\n") {
		number++
		content := strings.TrimLeft(line, " ")
		column := len(line) - len(content) + 1
		within := depth > 0 || quote != 0
		if trimmed := strings.TrimSpace(content); !within && (trimmed == "" || trimmed[0] == '#' || strings.HasPrefix(trimmed, "---")) {
			continue
		}
		if below > 0 && column > below {
			continue
		}
		below = 0
		if !within && content[0] == '\t' {
			return Position{number, column}, "this line is indented with a tab; YAML only allows spaces there", true
		}
		if within {
			depth, quote = closing(content, depth, quote)
			continue
		}
		for first := true; ; first = false {
			if dash := content == "-" || strings.HasPrefix(content, "- "); dash {
				if message := open(&stack, opened{column: column, list: true, line: number}, first); message != "" {
					return Position{number, column}, message, true
				}
				rest := strings.TrimLeft(content[1:], " ")
				column, content = column+len(content)-len(rest), rest
				if rest != "" {
					continue
				}
				break
			}
			key := leadingKey.FindStringSubmatch(content)
			if key == nil { // what a dash stands before, or the rest of a text over several lines
				if !first {
					stack[len(stack)-1].full = content[0] != '#' && !blockText.MatchString(content)
				}
				break
			}
			value := strings.TrimSpace(key[2])
			full := value != "" && value[0] != '#' && !blockText.MatchString(value)
			if blockText.MatchString(value) {
				below = column
			}
			if message := open(&stack, opened{column, false, key[1], number, full}, first); message != "" {
				return Position{number, column}, message, true
			}
			break
		}
		depth, quote = closing(content, depth, quote)
	}
	return Position{}, "", false
}

// open takes the next line, or what follows a dash in it, into the blocks that are open, and says what is wrong if it fits in none.
func open(stack *[]opened, next opened, first bool) string {
	s := *stack
	inner := len(s) - 1
	for inner >= 0 && s[inner].column > next.column {
		inner--
	}
	// A list may begin in the column of its key.
	if first && inner > 0 && s[inner].list && !next.list && s[inner-1].column == next.column && !s[inner-1].list {
		inner--
	}
	switch {
	case inner < 0 && len(s) > 0:
		return "this line begins before " + s[0].named() + "; begin it in column " + fmt.Sprint(s[0].column) + " too"
	case inner < 0:
		*stack = append(s, next)
		return ""
	case s[inner].column < next.column:
		switch deeper := inner+1 < len(s); {
		case deeper && first:
			return fmt.Sprintf("this line begins in column %d, between what it could belong to: to stand beside %s, begin it in column %d; to "+
				"stand beside %s, in column %d",
				next.column, s[inner+1].named(), s[inner+1].column, s[inner].named(), s[inner].column)
		case first && s[inner].full:
			return fmt.Sprintf("this line is indented below %s, which has its value already; to stand beside it, begin in column %d",
				s[inner].named(), s[inner].column)
		}
		*stack = append(s[:inner+1], next)
	case s[inner].list == next.list:
		s[inner] = next
		*stack = s[:inner+1]
	case next.list:
		if s[inner].full {
			return fmt.Sprintf("this entry of a list stands beside %s, which has its value already; indent it to where the other entries are",
				s[inner].named())
		}
		if inner+1 < len(s) {
			return fmt.Sprintf("this entry of a list stands beside %s, which has its value already; to belong to that, begin it in column %d",
				s[inner].named(), s[inner+1].column)
		}
		*stack = append(s[:inner+1], next)
	default:
		if inner+1 < len(s) {
			return fmt.Sprintf("this line begins where the dashes of the list do; to belong to the same entry as %s, begin it in column %d",
				s[inner+1].named(), s[inner+1].column)
		}
		return "this line begins where the dashes of the list do; indent it more, to belong to the entry above, or write a dash before it"
	}
	return ""
}

func (o opened) named() string {
	if o.list {
		return fmt.Sprintf("the dash in line %d", o.line)
	}
	key := strings.Trim(o.key, `"'`)
	if utf8.RuneCountInString(key) > 40 {
		key = string([]rune(key)[:40]) + "..."
	}
	return fmt.Sprintf("%q in line %d", key, o.line)
}

// closing reads brackets and quotes of a line, and tells which are open at its end.
func closing(line string, depth int, quote byte) (int, byte) {
	for i := 0; i < len(line); i++ {
		c := line[i]
		switch {
		case quote == '"' && c == '\\':
			i++
		case quote != 0:
			if c == quote {
				quote = 0
			}
		case c == '#' && (i == 0 || line[i-1] == ' '):
			return depth, 0
		case (c == '"' || c == '\'') && (i == 0 || strings.IndexByte(" [{,:", line[i-1]) >= 0):
			quote = c
		case c == '[' || c == '{':
			depth++
		case c == ']' || c == '}':
			depth = max(0, depth-1)
		}
	}
	return depth, quote
}
