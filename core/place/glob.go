package place

import "strings"

// A glob is the pattern of one segment: literal text in which each '*' is any run of
// characters, also none. Segments are never empty, so a glob that is "*" alone is any
// segment.
type glob struct {
	text  string
	parts []string // the text before, between and behind the stars; nil without a star
}

func newGlob(text string) glob {
	if !strings.Contains(text, "*") {
		return glob{text: text}
	}
	return glob{text: text, parts: strings.Split(text, "*")}
}

func (g *glob) literal() bool { return g.parts == nil }

func (g *glob) prefix() string { return g.parts[0] }

func (g *glob) suffix() string { return g.parts[len(g.parts)-1] }

// match reports whether the segment s is in g.
func (g *glob) match(s string) bool {
	if g.parts == nil {
		return s == g.text
	}
	prefix, suffix := g.prefix(), g.suffix()
	if len(s) < len(prefix)+len(suffix) || !strings.HasPrefix(s, prefix) || !strings.HasSuffix(s, suffix) {
		return false
	}
	s = s[len(prefix) : len(s)-len(suffix)]
	for _, part := range g.parts[1 : len(g.parts)-1] {
		at := strings.Index(s, part)
		if at < 0 {
			return false
		}
		s = s[at+len(part):]
	}
	return true
}

// fresh is a character that stands in no path and no pattern.
const fresh = "\x00"

// sample returns the segment of g in which a character that stands nowhere else takes
// the place of each star. It is the hardest segment of g to match:
//
// If a glob h matches it, then h's stars have swallowed every fresh character, and
// they would swallow anything put in its place; so h covers all of g. And if h covers
// all of g, it covers this segment. One match decides containment.
func (g *glob) sample() string { return strings.ReplaceAll(g.text, "*", fresh) }

// meet returns a shortest segment that is in both g and h, if there is one. It never
// returns a dot segment, since no canonical path has any.
//
// It walks the pairs of positions in both texts, breadth first, and tells apart what
// has been read so far: nothing, ".", "..", or anything else.
func (g *glob) meet(h *glob) (string, bool) {
	type state struct{ i, j, read int }
	const nothing, dot, dots, more = 0, 1, 2, 3
	type step struct {
		state
		text string
	}
	next := func(read int, c byte) int {
		if c == '.' && read < dots {
			return read + 1
		}
		return more
	}
	queue := []step{{}}
	seen := map[state]bool{}
	for len(queue) > 0 {
		at := queue[0]
		queue = queue[1:]
		if seen[at.state] {
			continue
		}
		seen[at.state] = true
		i, j := at.i, at.j
		if i == len(g.text) && j == len(h.text) {
			if at.read == more {
				return at.text, true
			}
			continue
		}
		gStar := i < len(g.text) && g.text[i] == '*'
		hStar := j < len(h.text) && h.text[j] == '*'
		// Leaving a star reads nothing: explore it before anything longer.
		var free []step
		if gStar {
			free = append(free, step{state{i + 1, j, at.read}, at.text})
		}
		if hStar {
			free = append(free, step{state{i, j + 1, at.read}, at.text})
		}
		queue = append(free, queue...)
		read := func(c byte, i, j int) {
			queue = append(queue, step{state{i, j, next(at.read, c)}, at.text + string([]byte{c})})
		}
		switch {
		case gStar && hStar:
			if at.read != more {
				read('x', i, j)
			}
		case gStar && j < len(h.text):
			read(h.text[j], i, j+1)
		case hStar && i < len(g.text):
			read(g.text[i], i+1, j)
		case i < len(g.text) && j < len(h.text) && g.text[i] == h.text[j]:
			read(g.text[i], i+1, j+1)
		}
	}
	return "", false
}
