package place

import (
	"encoding/binary"
	"errors"
	"fmt"
	"math/bits"
	"slices"
	"strings"
)

// A worked example. Of the sets
//
//	a  /rota/**
//	b  /rota/*.pdf
//	c  /log
//
// Parts reads all paths at once. It begins with the nodes that are reached before anything is read, here the
// root alone, at which no set ends: one part is what nothing covers, with "/" as its example. What may a
// first segment be? Only texts that lead to different nodes matter: "rota", "log", and any other text, for
// which "x" stands. "log" leads to a node where c ends and nothing goes on; "x" to none, where again nothing
// covers, which is known. "rota" leads to its own node and to the ** below, where a ends: a part, with the
// example /rota. From there the next segment is either a text that *.pdf matches, as short as there is one
// (".pdf"), or none that it matches ("x"). The one leads to the ends of a and b: a part, /rota/.pdf; the
// other back to where only a ends, which is known. From both, whatever follows is covered by a alone. So
// there are four parts: {}, {c}, {a} and {a, b}, and no place is in two of them or in none.
//
// Two things make the work grow: globs that overlap, since every combination of them that some text matches
// has to be tried; and ** in the middle of several patterns, since every set of positions in them can be
// reached together. Both are bounded by the limit.

// A Part is a set of places that are all covered by the same sets, and one of them, as
// short as possible.
type Part struct {
	Covering []int32 // indexes of the sets, ascending
	Example  Place
}

// ErrTooEntangled says that sets overlap in more ways than can be told apart in
// reasonable time.
var ErrTooEntangled = errors.New("the paths overlap in too many ways")

// Entangled is an ErrTooEntangled that names the sets which are to blame: those that were
// still to be told apart where the work ran out.
type Entangled struct {
	Sets []int32 // indexes of the sets, ascending
}

func (e *Entangled) Error() string { return ErrTooEntangled.Error() }

// Unwrap returns ErrTooEntangled.
func (e *Entangled) Unwrap() error { return ErrTooEntangled }

// blame returns the error for work that ran out at a state: the sets whose patterns go on
// from one of its nodes.
func (m *Matcher) blame(live []int32) error {
	next := map[int32][]int32{} // node -> nodes that follow in the tree
	for _, e := range m.table {
		if e.to != 0 {
			next[e.from] = append(next[e.from], e.to)
		}
	}
	for id := range m.nodes {
		n := &m.nodes[id]
		for _, to := range []int32{n.many, n.star} {
			if to != 0 {
				next[int32(id)] = append(next[int32(id)], to)
			}
		}
		if n.globs != nil {
			for _, e := range slices.Concat(n.globs.list, n.globs.indexed) {
				next[int32(id)] = append(next[int32(id)], e.to)
			}
		}
	}
	below, known := slices.Clone(live), map[int32]bool{}
	var worst []int32
	for i := 0; i < len(below); i++ {
		if known[below[i]] {
			continue
		}
		known[below[i]] = true
		for _, e := range m.nodes[below[i]].ends {
			worst = append(worst, e.set)
		}
		below = append(below, next[below[i]]...)
	}
	slices.Sort(worst)
	return &Entangled{worst}
}

// Parts divides all places by which of the sets cover them, exactly: every combination
// that occurs at some place is returned once. The order is that of the paths' length. The
// error is ErrTooEntangled when more than limit steps would be needed.
//
// All paths are read at once: a state is the set of nodes of the tree that some path
// reaches, and of all texts that a segment may have only those are tried that lead to
// different states: the literal texts that go on from here, and one other text for each
// combination of globs that some text matches.
func (m *Matcher) Parts(limit int) ([]Part, error) {
	children := make(map[int32][]string)
	for _, e := range m.table {
		if e.to != 0 {
			children[e.from] = append(children[e.from], e.text)
		}
	}
	type state struct {
		nodes []int32
		path  string
	}
	queue := []state{{nodes: m.close([]int32{0})}}
	seen, tried := map[string]bool{key(queue[0].nodes): true}, map[string]bool{}
	found := map[string]bool{}
	var parts []Part
	answers := map[string][]string{} // of otherTexts
	for budget := limit; len(queue) > 0; queue = queue[1:] {
		at := queue[0]
		var ending []int32
		for _, id := range at.nodes {
			for _, e := range m.nodes[id].ends {
				ending = append(ending, e.set)
			}
		}
		slices.Sort(ending)
		if ends := "e" + key(ending); !found[ends] {
			found[ends] = true
			parts = m.split(parts, found, ending, at.path)
		}
		// Where a path can go on depends on the nodes with children alone; from the same ones
		// the same has been tried before.
		live := slices.DeleteFunc(slices.Clone(at.nodes), func(id int32) bool { return m.nodes[id].leaf })
		if tried[key(live)] {
			continue
		}
		tried[key(live)] = true
		var literals []string
		var globs []glob
		for _, id := range live {
			literals = append(literals, children[id]...)
			if g := m.nodes[id].globs; g != nil {
				for _, e := range slices.Concat(g.list, g.indexed) {
					globs = append(globs, e.glob)
				}
			}
		}
		slices.Sort(literals)
		literals = slices.Compact(literals)
		slices.SortFunc(globs, func(a, b glob) int { return strings.Compare(a.text, b.text) })
		globs = slices.CompactFunc(globs, func(a, b glob) bool { return a.text == b.text })
		question := strings.Join(literals, "/") + "//"
		for _, g := range globs {
			question += g.text + "/"
		}
		others, known := answers[question]
		if !known {
			var err error
			if others, err = otherTexts(globs, literals, &budget); err != nil {
				return nil, m.blame(live)
			}
			answers[question] = others
		}
		for _, text := range slices.Concat(literals, others) {
			if budget -= len(live); budget < 0 {
				return nil, m.blame(live)
			}
			next := m.step(live, text)
			if len(next) == 0 {
				continue // nothing covers this or anything below: as with the empty state
			}
			if k := key(next); !seen[k] {
				seen[k] = true
				queue = append(queue, state{next, at.path + "/" + text})
			}
		}
		if k := key(nil); !seen[k] && len(at.nodes) > 0 {
			// A place that no set covers, if there is one just below.
			if i := slices.IndexFunc(others, func(text string) bool { return len(m.step(live, text)) == 0 }); i >= 0 {
				seen[k] = true
				queue = append(queue, state{nil, at.path + "/" + others[i]})
			}
		}
	}
	return parts, nil
}

func key(ids []int32) string {
	var b strings.Builder
	for _, id := range ids {
		b.WriteByte(byte(id >> 24))
		b.WriteByte(byte(id >> 16))
		b.WriteByte(byte(id >> 8))
		b.WriteByte(byte(id))
	}
	return b.String()
}

// close adds the nodes that are reached without reading, and sorts.
func (m *Matcher) close(nodes []int32) []int32 {
	for i := 0; i < len(nodes); i++ {
		if many := m.nodes[nodes[i]].many; many != 0 {
			nodes = append(nodes, many)
		}
	}
	slices.Sort(nodes)
	return slices.Compact(nodes)
}

func (m *Matcher) step(nodes []int32, text string) []int32 {
	var next []int32
	for _, id := range nodes {
		n := &m.nodes[id]
		if n.loop {
			next = append(next, id)
		}
		if n.star != 0 {
			next = append(next, n.star)
		}
		if n.literals {
			if e := m.find(id, text); e.to != 0 {
				next = append(next, e.to)
			}
		}
		if n.globs != nil {
			for _, e := range slices.Concat(n.globs.list, n.globs.indexed) {
				if e.glob.match(text) {
					next = append(next, e.to)
				}
			}
		}
	}
	return m.close(next)
}

// split divides the places of one path by host and method, and appends the parts that
// are new.
func (m *Matcher) split(parts []Part, found map[string]bool, covering []int32, path string) []Part {
	if path == "" {
		path = "/"
	}
	// A host is one that is named, or has a new label below one that is named, or is none
	// of them; a method is one that is named or one that is not.
	hosts, methods := []string{""}, []string{}
	named := map[string]bool{}
	for _, i := range covering {
		for _, method := range m.sets[i].Methods.names {
			named[method] = true
			methods = append(methods, method)
		}
		if h := m.sets[i].Host; !h.Any() {
			hosts = append(hosts, h.Example())
			if h.below {
				hosts = append(hosts, freshLabel(m.sets, covering)+"."+h.name)
			}
		}
	}
	for _, method := range []string{"GET", "POST", "PUT", "DELETE", "PATCH", "X-OTHER"} {
		if !named[method] {
			methods = append(methods, method)
			break
		}
	}
	slices.SortFunc(methods, func(a, b string) int { return rank(a) - rank(b) })
	for _, host := range hosts {
		for _, method := range methods {
			p := Place{Host: host, Path: path, Method: method, Slash: path == "/"}
			var ids []int32
			for _, i := range covering {
				if m.sets[i].Methods.Covers(method) && m.sets[i].Host.Covers(host) {
					ids = append(ids, i)
				}
			}
			if k := "p" + key(ids); !found[k] {
				found[k] = true
				parts = append(parts, Part{ids, p})
			}
		}
	}
	return parts
}

func rank(method string) int {
	if i := slices.Index([]string{"GET", "POST", "PUT", "DELETE", "PATCH", "HEAD"}, method); i >= 0 {
		return i
	}
	return 99
}

// freshLabel returns a label that stands in none of the hosts.
func freshLabel(sets []Set, covering []int32) string {
	for n := 0; ; n++ {
		label := fmt.Sprintf("any%d", n)
		if !slices.ContainsFunc(covering, func(i int32) bool { return strings.Contains(sets[i].Host.name, label) }) {
			return label
		}
	}
}

// otherTexts returns, for each combination of the globs that some text matches which is
// none of the literals, one such text, as short as possible; also for no glob at all.
//
// It reads the globs side by side, character by character. What has been read is kept only
// while it may still become one of the literals, or a dot segment.
func otherTexts(globs []glob, literals []string, budget *int) ([]string, error) {
	taken := append(slices.Clone(literals), ".", "..")
	slices.Sort(taken)
	isTaken := func(s string) bool { _, ok := slices.BinarySearch(taken, s); return ok }
	beginsTaken := func(s string) bool {
		i, _ := slices.BinarySearch(taken, s)
		return i < len(taken) && strings.HasPrefix(taken[i], s)
	}
	if len(globs) == 0 {
		for n := 0; ; n++ {
			if text := other(n); !isTaken(text) {
				return []string{text}, nil
			}
		}
	}
	letters := map[rune]bool{}
	for _, g := range globs {
		for _, r := range g.text {
			letters[r] = r != '*'
		}
	}
	var alphabet []rune
	for r, is := range letters {
		if is {
			alphabet = append(alphabet, r)
		}
	}
	slices.Sort(alphabet)
	// Letters of the literals matter too, and one that stands nowhere.
	for _, text := range taken {
		for _, r := range text {
			if !slices.Contains(alphabet, r) {
				alphabet = append(alphabet, r)
			}
		}
	}
	type state struct {
		at   []uint64
		text string
	}
	for _, r := range "xyzvwqkju0123456789abcdefghilmnoprstαβγδ" {
		if !slices.Contains(alphabet, r) {
			alphabet = append([]rune{r}, alphabet...)
			break
		}
	}
	// The positions in all globs stand side by side in one set of bits. Behind each glob's
	// last character is the position where it has matched.
	var symbols []rune // what is read at a position; 0 where the glob ends
	for _, g := range globs {
		symbols = append(append(symbols, []rune(g.text)...), 0)
	}
	words := (len(symbols) + 63) / 64
	ends := make([]uint64, words)
	begin := state{at: make([]uint64, words)}
	for i, symbol := range symbols {
		if symbol == 0 {
			ends[i/64] |= 1 << (i % 64)
		}
		if i == 0 || symbols[i-1] == 0 {
			begin.at[i/64] |= 1 << (i % 64)
		}
	}
	leaveStars := func(at []uint64) {
		for w := range at {
			for rest := at[w]; rest != 0; rest &= rest - 1 {
				if i := w*64 + bits.TrailingZeros64(rest); symbols[i] == '*' {
					at[(i+1)/64] |= 1 << ((i + 1) % 64)
				}
			}
		}
	}
	leaveStars(begin.at)
	describe := func(s state) string {
		if beginsTaken(s.text) {
			return keyOf(s.at) + s.text
		}
		return keyOf(s.at) + "\x00"
	}
	var texts []string
	matched := map[string]bool{}
	queue := []state{begin}
	seen := map[string]bool{describe(begin): true}
	for ; len(queue) > 0; queue = queue[1:] {
		s := queue[0]
		if s.text != "" && !isTaken(s.text) {
			which := make([]uint64, words)
			for w := range which {
				which[w] = s.at[w] & ends[w]
			}
			if k := keyOf(which); !matched[k] {
				matched[k] = true
				texts = append(texts, s.text)
			}
		}
		for _, letter := range alphabet {
			if *budget -= words; *budget < 0 {
				return nil, ErrTooEntangled
			}
			next := state{make([]uint64, words), s.text + string(letter)}
			for w, set := range s.at {
				for ; set != 0; set &= set - 1 {
					i := w*64 + bits.TrailingZeros64(set)
					switch symbols[i] {
					case '*':
						next.at[i/64] |= 1 << (i % 64)
					case letter:
						next.at[(i+1)/64] |= 1 << ((i + 1) % 64)
					}
				}
			}
			leaveStars(next.at)
			if k := describe(next); !seen[k] {
				seen[k] = true
				queue = append(queue, next)
			}
		}
	}
	return texts, nil
}

func keyOf(set []uint64) string {
	b := make([]byte, 0, 8*len(set)+1)
	for _, word := range set {
		b = binary.LittleEndian.AppendUint64(b, word)
	}
	return string(b)
}

func other(n int) string {
	if n == 0 {
		return "x"
	}
	return fmt.Sprintf("x%d", n)
}
