package place

// A Set is a set of places: those whose host, path and method are each in one of its
// parts. The doors of a policy cover Sets.
type Set struct {
	Host    Host
	Path    Pattern
	Methods Methods
}

// Covers reports whether p is in s.
func (s Set) Covers(p Place) bool {
	return s.Methods.Covers(p.Method) && s.Host.Covers(p.Host) && s.Path.Covers(p.Path)
}

// A Relation says how two sets of places lie to each other.
type Relation int

const (
	Apart    Relation = iota // no place in common
	Equal                    // the same places
	Inside                   // the first is part of the second, which has more
	Around                   // the first contains the second, and more
	Crossing                 // places in common, and each has places of its own
)

func (r Relation) String() string {
	return [...]string{"apart", "equal", "inside", "around", "crossing"}[r]
}

// Relate returns how s lies to t, exactly.
//
// Both are products of a host set, a path set and a method set, none of them empty. One
// product is within another if each part is, and two products meet if each part does.
func (s Set) Relate(t Set) Relation {
	in, around := s.Within(t), t.Within(s)
	switch {
	case in && around:
		return Equal
	case in:
		return Inside
	case around:
		return Around
	}
	if _, ok := s.Meet(t); ok {
		return Crossing
	}
	return Apart
}

// Within reports whether every place of s is in t.
func (s Set) Within(t Set) bool {
	return s.Methods.within(t.Methods) && s.Host.within(t.Host) && s.Path.within(t.Path)
}

// Meet returns a place that is in both s and t, if there is one.
func (s Set) Meet(t Set) (Place, bool) {
	method, ok := s.Methods.meet(t.Methods)
	if !ok {
		return Place{}, false
	}
	host, ok := s.Host.meet(t.Host)
	if !ok {
		return Place{}, false
	}
	path, ok := s.Path.meet(t.Path)
	if !ok {
		return Place{}, false
	}
	return Place{Host: host, Path: path, Method: method, Slash: path == "/"}, true
}

// Example returns one place of s.
func (s Set) Example() Place {
	p, _ := s.Meet(s)
	return p
}
