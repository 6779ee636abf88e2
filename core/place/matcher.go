package place

import (
	"hash/maphash"
	"slices"
	"strings"
)

// A worked example. Of the patterns
//
//	a  /**
//	b  /rota/**
//	c  /rota/*.pdf
//	d  /**/*.pdf
//
// the tree has these nodes, each with the pattern that ends there. A ** is reached together with its parent,
// since it may be no segment at all, and stays reached whatever follows:
//
//	root
//	├── **           a
//	│   └── *.pdf    d
//	└── rota
//	    ├── **       b
//	    └── *.pdf    c
//
// The path /rota/plan.pdf is read so. Before the first segment the root and its ** are reached; after "rota"
// that **, rota, and the ** below it; after "plan.pdf" both **, and both *.pdf: the one from the outer **, the
// other from rota. So a, b, c and d cover the place. Of these
// those count whose set has no other one inside that covers too: c lies inside a, b and d, so c alone
// decides. At /rota/2026/plan.pdf c is not reached; b and d cross there, neither inside the other, and both
// decide.

// A Matcher answers, for many sets at once, which of them cover a place and which of
// those are the most specific. It is built once and never changes.
//
// The patterns stand in one tree of segments. A path is read segment by segment while
// a small list of nodes is kept that may have been reached: a node has at most one
// child for a literal segment, found by one look-up in a table shared by all nodes; its
// children for segments with a star; and one child for **, which stays reached whatever
// is read. So the time depends on the length of the path and on how many patterns are
// alive along it, not on how many there are.
type Matcher struct {
	sets  []Set
	nodes []node
	table []edge // open addressing; its length is a power of two
	seed  maphash.Seed
	outer [][]int32 // for each set, the sets strictly around it, ascending
}

type node struct {
	ends     []ending // the sets whose pattern ends here
	many     int32    // the child for **, or 0
	star     int32    // the child for *, or 0
	loop     bool     // this node is reached by **: it stays reached
	sink     bool     // a loop without children: whatever follows is covered
	leaf     bool     // no loop and without children: nothing may follow
	literals bool     // the table has children of this node
	globs    *globs   // the children for segments with a star among other text, or nil
}

// An ending is a set at the node where its pattern ends. Plain ones cover any host and
// any method.
type ending struct {
	set   int32
	plain bool
}

type edge struct {
	hash uint64
	from int32
	to   int32 // 0 marks an empty slot: no edge leads to the root
	text string
}

// NewMatcher compiles the sets. A set is known by its index from then on. When two sets
// are equal, the pair is returned as twins; each set but the last of such a group is
// then as good as not there.
func NewMatcher(sets []Set) (m *Matcher, twins [][2]int) {
	m = &Matcher{sets: sets, nodes: make([]node, 1, 2*len(sets)+1), seed: maphash.MakeSeed()}
	m.grow(4 * len(sets))
	used := 0
	for i, set := range sets {
		at := int32(0)
		for j := range set.Path.segments {
			seg := &set.Path.segments[j]
			var child *int32
			var slot *edge
			switch {
			case seg.many:
				child = &m.nodes[at].many
			case seg.text == "*":
				child = &m.nodes[at].star
			case seg.literal():
				if 2*(used+1) > len(m.table) {
					m.grow(2 * len(m.table))
				}
				slot = m.find(at, seg.text)
				child = &slot.to
			default:
				if m.nodes[at].globs == nil {
					m.nodes[at].globs = &globs{byText: map[string]int{}}
				}
				child = m.nodes[at].globs.child(seg.glob)
			}
			if *child == 0 {
				*child = int32(len(m.nodes))
				if slot != nil {
					*slot = edge{hash: m.hash(at, seg.text), from: at, to: *child, text: seg.text}
					m.nodes[at].literals = true
					used++
				}
				m.nodes = append(m.nodes, node{loop: seg.many})
				at = int32(len(m.nodes) - 1)
			} else {
				at = *child
			}
		}
		plain := set.Host.Any() && set.Methods.Any()
		m.nodes[at].ends = append(m.nodes[at].ends, ending{int32(i), plain})
	}
	for i := range m.nodes {
		n := &m.nodes[i]
		if n.globs != nil {
			n.globs.index()
		}
		childless := n.many == 0 && n.star == 0 && !n.literals && n.globs == nil
		n.sink, n.leaf = n.loop && childless, !n.loop && childless
	}
	m.outer = make([][]int32, len(sets))
	var found []int32
	for i, set := range sets {
		found = m.reach(found[:0], set.Path.hardest(), nil)
		for _, j := range found {
			if int(j) == i || !set.Within(sets[j]) {
				continue
			}
			if sets[j].Within(set) {
				if i < int(j) {
					twins = append(twins, [2]int{i, int(j)})
				}
				continue
			}
			m.outer[i] = append(m.outer[i], j)
		}
		slices.Sort(m.outer[i])
	}
	return m, twins
}

func (m *Matcher) hash(from int32, text string) uint64 {
	return maphash.String(m.seed, text) ^ uint64(from)*0x9e3779b97f4a7c15
}

// find returns the slot of the edge, or the empty slot where it belongs.
func (m *Matcher) find(from int32, text string) *edge {
	hash := m.hash(from, text)
	mask := uint64(len(m.table) - 1)
	for i := hash & mask; ; i = (i + 1) & mask {
		e := &m.table[i]
		if e.to == 0 || e.hash == hash && e.from == from && e.text == text {
			return e
		}
	}
}

func (m *Matcher) grow(size int) {
	old := m.table
	n := 16
	for n < size {
		n *= 2
	}
	m.table = make([]edge, n)
	for _, e := range old {
		if e.to != 0 {
			*m.find(e.from, e.text) = e
		}
	}
}

// Covering appends to found the indexes of all sets that cover p, in no order.
func (m *Matcher) Covering(found []int32, p *Place) []int32 {
	return m.reach(found, p.Path, p)
}

// MostSpecific appends to found the indexes of the sets that cover p and contain no
// other covering set. All of them count: none is inside another.
func (m *Matcher) MostSpecific(found []int32, p *Place) []int32 {
	start := len(found)
	found = m.reach(found, p.Path, p)
	return found[:start+len(m.narrow(found[start:]))]
}

// Narrowest returns those of the covering sets that contain no other of them: what
// MostSpecific would return if there were no other sets.
func (m *Matcher) Narrowest(covering []int32) []int32 { return m.narrow(slices.Clone(covering)) }

// narrow removes from covering those sets that are strictly around another of them.
func (m *Matcher) narrow(covering []int32) []int32 {
	if len(covering) < 2 {
		return covering
	}
	kept := covering[:0:0]
	var few [16]int32
	if len(covering) <= len(few) {
		kept = few[:0]
	}
	for _, candidate := range covering {
		if !m.aroundOneOf(candidate, covering) {
			kept = append(kept, candidate)
		}
	}
	return covering[:copy(covering, kept)]
}

func (m *Matcher) aroundOneOf(candidate int32, covering []int32) bool {
	for _, other := range covering {
		for _, outer := range m.outer[other] {
			if outer == candidate {
				return true
			}
			if outer > candidate {
				break
			}
		}
	}
	return false
}

// Inside reports whether set i is strictly inside set j.
func (m *Matcher) Inside(i, j int) bool {
	_, ok := slices.BinarySearch(m.outer[i], int32(j))
	return ok
}

// reach appends the sets whose pattern covers path. With a place, also its host and
// method must be covered.
func (m *Matcher) reach(found []int32, path string, p *Place) []int32 {
	var here, there [12]int32
	next, found := m.arrive(here[:0], found, p, 0, len(path) == 1)
	now := there[:0]
	for at := 1; at < len(path); {
		end := strings.IndexByte(path[at:], '/')
		if end < 0 {
			end = len(path)
		} else {
			end += at
		}
		text, last := path[at:end], end == len(path)
		at = end + 1
		now, next = next, now[:0]
		if len(now) == 0 {
			return found
		}
		base, hashed := uint64(0), false
		for _, id := range now {
			n := &m.nodes[id]
			if n.loop {
				next, found = m.arrive(next, found, p, id, last)
			}
			if n.star != 0 {
				next, found = m.arrive(next, found, p, n.star, last)
			}
			if n.literals {
				if !hashed {
					base, hashed = maphash.String(m.seed, text), true
				}
				hash := base ^ uint64(id)*0x9e3779b97f4a7c15
				mask := uint64(len(m.table) - 1)
				for i := hash & mask; m.table[i].to != 0; i = (i + 1) & mask {
					if e := &m.table[i]; e.hash == hash && e.from == id && e.text == text {
						next, found = m.arrive(next, found, p, e.to, last)
						break
					}
				}
			}
			if n.globs != nil {
				next, found = m.arriveGlobs(next, found, p, n.globs, text, last)
			}
		}
	}
	for _, id := range next {
		found = m.end(found, p, &m.nodes[id])
	}
	return found
}

// end appends the sets whose pattern ends at a node.
func (m *Matcher) end(found []int32, p *Place, n *node) []int32 {
	for _, e := range n.ends {
		if n.sink && slices.Contains(found, e.set) {
			continue
		}
		if e.plain || p == nil || m.sets[e.set].Methods.Covers(p.Method) && m.sets[e.set].Host.Covers(p.Host) {
			found = append(found, e.set)
		}
	}
	return found
}

// arrive adds a node to those reached, and what follows it without reading. Only a node
// behind ** can be reached twice, by staying and anew. One that has no children is
// settled at once: its sets are found, whatever follows. A leaf is not worth keeping
// unless the path ends there.
func (m *Matcher) arrive(reached, found []int32, p *Place, id int32, last bool) (r, f []int32) {
	for {
		n := &m.nodes[id]
		switch {
		case n.sink:
			return reached, m.end(found, p, n)
		case n.leaf && !last:
			return reached, found
		case n.loop && slices.Contains(reached, id):
			return reached, found
		}
		reached = append(reached, id)
		if n.many == 0 {
			return reached, found
		}
		id = n.many
	}
}

func (m *Matcher) arriveGlobs(reached, found []int32, p *Place, g *globs, text string, last bool) (r, f []int32) {
	for i := range g.list {
		if e := &g.list[i]; e.glob.match(text) {
			reached, found = m.arrive(reached, found, p, e.to, last)
		}
	}
	for _, n := range g.prefixes {
		if n <= len(text) {
			for _, i := range g.byPrefix[text[:n]] {
				if e := &g.indexed[i]; e.glob.match(text) {
					reached, found = m.arrive(reached, found, p, e.to, last)
				}
			}
		}
	}
	for _, n := range g.suffixes {
		if n <= len(text) {
			for _, i := range g.bySuffix[text[len(text)-n:]] {
				if e := &g.indexed[i]; e.glob.match(text) {
					reached, found = m.arrive(reached, found, p, e.to, last)
				}
			}
		}
	}
	return reached, found
}

// globs are the children of a node for segments with a star among other text. When
// there are many they are indexed by their prefix or, without one, by their suffix.
type globs struct {
	list     []globEdge
	indexed  []globEdge
	byPrefix map[string][]int32
	bySuffix map[string][]int32
	prefixes []int // the lengths of the prefixes in byPrefix
	suffixes []int
	byText   map[string]int // while building
}

type globEdge struct {
	glob glob
	to   int32
}

func (g *globs) child(pattern glob) *int32 {
	i, ok := g.byText[pattern.text]
	if !ok {
		i = len(g.list)
		g.byText[pattern.text] = i
		g.list = append(g.list, globEdge{glob: pattern})
	}
	return &g.list[i].to
}

func (g *globs) index() {
	g.byText = nil
	if len(g.list) <= 4 {
		return
	}
	g.byPrefix, g.bySuffix = map[string][]int32{}, map[string][]int32{}
	var rest []globEdge
	for _, e := range g.list {
		switch i := int32(len(g.indexed)); {
		case e.glob.prefix() != "":
			g.byPrefix[e.glob.prefix()] = append(g.byPrefix[e.glob.prefix()], i)
		case e.glob.suffix() != "":
			g.bySuffix[e.glob.suffix()] = append(g.bySuffix[e.glob.suffix()], i)
		default:
			rest = append(rest, e)
			continue
		}
		g.indexed = append(g.indexed, e)
	}
	g.list = rest
	lengths := func(by map[string][]int32) (lens []int) {
		for text := range by {
			lens = append(lens, len(text))
		}
		slices.Sort(lens)
		return slices.Compact(lens)
	}
	g.prefixes, g.suffixes = lengths(g.byPrefix), lengths(g.bySuffix)
}
