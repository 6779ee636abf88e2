package place

import (
	"fmt"
	"strings"
	"unicode/utf8"
)

// A Pattern names a set of canonical paths, segment by segment:
//
//	/rota            that path alone
//	/reports/*.pdf   * is any run of characters within one segment
//	/rota/**         a segment ** is any number of segments, also none:
//	                 /rota and everything below
//	/**/drafts/**    ** may stand anywhere
//
// A trailing slash makes no difference. Patterns are written as people read them, not
// percent-encoded.
type Pattern struct {
	text     string
	segments []segment
}

type segment struct {
	glob
	many bool // **
}

// MaxPattern is the longest pattern, in characters.
const MaxPattern = 1000

// The most segments a pattern may have; positions in it are kept in a 64-bit set.
const maxSegments = 60

// ParsePattern reads a pattern of a policy. The error says what is wrong with it in
// words that fit behind "path ...: ".
func ParsePattern(s string, rules Rules) (Pattern, error) {
	if s == "" || s[0] != '/' {
		return Pattern{}, fmt.Errorf("a path starts with /, as in /%s", strings.TrimLeft(s, "/"))
	}
	if utf8.RuneCountInString(s) > MaxPattern {
		return Pattern{}, fmt.Errorf("a path in a policy has at most %d characters", MaxPattern)
	}
	if !utf8.ValidString(s) {
		return Pattern{}, fmt.Errorf("not valid UTF-8")
	}
	for i, r := range s {
		switch {
		case r < 0x20 || r >= 0x7f && r < 0xa0:
			return Pattern{}, fmt.Errorf("a control character (U+%04X) at byte %d", r, i)
		case r == '\\':
			return Pattern{}, fmt.Errorf("a backslash; addresses that contain one are always rejected")
		case r == '?' || r == '#':
			return Pattern{}, fmt.Errorf("%q ends a path; a place has no query and no fragment", r)
		case r == '%':
			return Pattern{}, fmt.Errorf("a %%; patterns match the decoded path, so write the character itself, or * for a real %%")
		}
	}
	if s = compose(s); rules.FoldCase {
		s = compose(fold(s))
	}
	p := Pattern{}
	if rest := s[1:]; rest != "" {
		texts := strings.Split(strings.TrimSuffix(rest, "/"), "/")
		if len(texts) > maxSegments {
			return Pattern{}, fmt.Errorf("%d segments; a path in a policy has at most %d", len(texts), maxSegments)
		}
		for _, text := range texts {
			switch {
			case text == "":
				return Pattern{}, fmt.Errorf("an empty segment (//); no canonical path has one")
			case text == "." || text == "..":
				return Pattern{}, fmt.Errorf("a segment %q; no canonical path has one", text)
			case text == "**":
				if n := len(p.segments); n > 0 && p.segments[n-1].many {
					continue // ** ** says no more than **
				}
				p.segments = append(p.segments, segment{glob: newGlob("*"), many: true})
			case strings.Contains(text, "**"):
				return Pattern{}, fmt.Errorf("** is a segment by itself; inside %q write one *", text)
			default:
				p.segments = append(p.segments, segment{glob: newGlob(text)})
			}
		}
	}
	var b strings.Builder
	for _, seg := range p.segments {
		b.WriteByte('/')
		if seg.many {
			b.WriteByte('*')
		}
		b.WriteString(seg.text)
	}
	p.text = b.String()
	if p.text == "" {
		p.text = "/"
	}
	return p, nil
}

// String returns the pattern without a trailing slash, folded if its site is.
func (p Pattern) String() string { return p.text }

// Literal reports whether p is one single path.
func (p Pattern) Literal() bool {
	for i := range p.segments {
		if !p.segments[i].literal() {
			return false
		}
	}
	return true
}

// Directory returns the path that p covers with everything below it, as in /rota/**, without a slash at its end; ok is false where it
// covers anything else.
func (p Pattern) Directory() (dir string, ok bool) {
	last := len(p.segments) - 1
	if last < 0 || !p.segments[last].many || !(Pattern{segments: p.segments[:last]}).Literal() {
		return "", false
	}
	return strings.TrimSuffix(p.text, "/**"), true
}

// Covers reports whether the canonical path is in p. It tries each way in turn: this
// is the plain reading of the grammar, for single questions and as the oracle of the
// Matcher, which answers for many patterns at once.
func (p Pattern) Covers(path string) bool {
	return covers(p.segments, split(path))
}

func covers(pattern []segment, path []string) bool {
	if len(pattern) == 0 {
		return len(path) == 0
	}
	if pattern[0].many {
		for skip := 0; skip <= len(path); skip++ {
			if covers(pattern[1:], path[skip:]) {
				return true
			}
		}
		return false
	}
	return len(path) > 0 && pattern[0].match(path[0]) && covers(pattern[1:], path[1:])
}

func split(path string) []string {
	if path == "/" {
		return nil
	}
	return strings.Split(path[1:], "/")
}

// Example returns a path that is in p, with "x" for what may be anything.
func (p Pattern) Example() string {
	example, _ := p.meet(Pattern{segments: []segment{{glob: newGlob("*"), many: true}}})
	return example
}

// hardest returns a path of p in which fresh characters stand for stars and one fresh
// segment for each **. Every pattern around p covers it (and some others may).
func (p Pattern) hardest() string {
	var b strings.Builder
	for i := range p.segments {
		b.WriteByte('/')
		b.WriteString(p.segments[i].sample())
	}
	if b.Len() == 0 {
		return "/"
	}
	return b.String()
}

// positions is a set of positions in a pattern: bit i is set if the first i segments
// may have been read.
type positions uint64

// skip adds the positions that are reached without reading, behind each **.
func (p *Pattern) skip(s positions) positions {
	for i := range p.segments {
		if p.segments[i].many && s&(1<<i) != 0 {
			s |= 1 << (i + 1)
		}
	}
	return s
}

// read returns the positions reached from s by reading one segment.
func (p *Pattern) read(s positions, text string) positions {
	var to positions
	for i := range p.segments {
		if s&(1<<i) == 0 {
			continue
		}
		if p.segments[i].many {
			to |= 1 << i
		} else if p.segments[i].match(text) {
			to |= 1 << (i + 1)
		}
	}
	return p.skip(to)
}

// within reports whether every path of p is in q, exactly.
//
// It reads p and q side by side: one position in p, and the set of positions that q may
// be in. For each segment of p only its hardest text is tried (see glob.sample), since
// any other text lets q reach at least the same positions.
func (p Pattern) within(q Pattern) bool {
	type state struct {
		at int
		in positions
	}
	seen := map[state]bool{}
	end := positions(1) << len(q.segments)
	var walk func(s state) bool
	walk = func(s state) bool {
		if s.in == 0 {
			return false // every position of p leads to a path; q has none left
		}
		if seen[s] {
			return true
		}
		seen[s] = true
		if s.at == len(p.segments) {
			return s.in&end != 0
		}
		seg := &p.segments[s.at]
		if seg.many {
			return walk(state{s.at + 1, s.in}) && walk(state{s.at, q.read(s.in, fresh)})
		}
		return walk(state{s.at + 1, q.read(s.in, seg.sample())})
	}
	return walk(state{0, q.skip(1)})
}

// meet returns a shortest path that is in both p and q, if there is one.
func (p Pattern) meet(q Pattern) (string, bool) {
	type state struct{ i, j int }
	type step struct {
		state
		text string
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
		if i == len(p.segments) && j == len(q.segments) {
			if at.text == "" {
				return "/", true
			}
			return at.text, true
		}
		pMany := i < len(p.segments) && p.segments[i].many
		qMany := j < len(q.segments) && q.segments[j].many
		var free []step // skipping a ** reads nothing: before anything longer
		if pMany {
			free = append(free, step{state{i + 1, j}, at.text})
		}
		if qMany {
			free = append(free, step{state{i, j + 1}, at.text})
		}
		queue = append(free, queue...)
		if i == len(p.segments) || j == len(q.segments) || pMany && qMany {
			continue // both may skip: nothing is gained by reading under two **
		}
		text, ok := p.segments[i].meet(&q.segments[j].glob)
		if !ok {
			continue
		}
		to := state{i + 1, j + 1}
		if pMany {
			to.i = i
		}
		if qMany {
			to.j = j
		}
		queue = append(queue, step{to, at.text + "/" + text})
	}
	return "", false
}
