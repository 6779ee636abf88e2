package edit

import (
	"errors"
	"fmt"
	"slices"
	"strings"

	"ostiarius/core/document"
	"ostiarius/core/place"
	"ostiarius/core/policy"
)

// SetLanding says where people are sent after an event: those with a role, one account, or, if neither is
// named, everybody else.
type SetLanding struct {
	On   string // sign-in, sign-out, join, password-change or paid
	Role string
	User string
	Go   string // "" takes the line out
}

func (s SetLanding) same(l policy.Landing) bool { return l.Role == s.Role && l.User == s.User }

// general reports whether a line is for everybody. What stands behind it is never reached.
func general(l policy.Landing) bool { return l.Role == "" && l.User == "" }

// at returns which line is for just these people, or before which one a new line belongs.
func (s SetLanding) at(lines []policy.Landing) (i int, there bool) {
	if i := slices.IndexFunc(lines, s.same); i >= 0 {
		return i, true
	}
	if i := slices.IndexFunc(lines, general); i >= 0 {
		return i, false
	}
	return len(lines), false
}

func (s SetLanding) wanted(before *policy.Book) map[string]string {
	after := *before
	lines := after.Landings.On(s.On)
	now := slices.Clone(*lines)
	i, there := s.at(now)
	line := policy.Landing{Role: s.Role, User: s.User, Go: s.Go}
	if p := policy.NewPartReader("", &policy.Book{Rules: before.Rules}); s.Go != "" {
		if body, ok := p.Document([]byte(document.Scalar(s.Go)), "an address"); ok && body != nil {
			line.Go = p.Target(body)
		}
	}
	switch {
	case s.Go == "" && there:
		now = slices.Delete(now, i, i+1)
	case there:
		now[i] = line
	case s.Go != "":
		now = slices.Insert(now, i, line)
	}
	*lines = now
	return toldBy(&after)
}

func (s SetLanding) apply(e *editor) error {
	is := e.book.Landings.On(s.On)
	if is == nil {
		return fmt.Errorf("people land somewhere after %s, not after %q", policy.AnyOf(policy.LandingWords), s.On)
	}
	if s.Role != "" {
		if err := e.known(policy.Demand{Kind: policy.Role, Names: []string{s.Role}}); err != nil {
			return err
		}
	}
	at, there := s.at(*is)
	if !there && s.Go == "" {
		return nil
	}
	var keys []string
	if s.Role != "" {
		keys = append(keys, "role: "+document.Scalar(s.Role))
	}
	if s.User != "" {
		keys = append(keys, "user: "+document.Scalar(s.User))
	}
	keys = append(keys, "go: "+document.Scalar(s.Go))
	if len(*is) == 0 {
		if f := e.key("landings"); f != nil {
			for _, k := range (&document.Reader{}).Fields(f.Value, f.Name, nil) {
				if k.Name == s.On {
					return e.setValue(&k, "[ "+inBrackets(keys, false)+" ]")
				}
			}
		}
		return e.declare("landings", s.On, "[ "+inBrackets(keys, false)+" ]")
	}
	var field *document.Field
	for _, k := range (&document.Reader{}).Fields(e.key("landings").Value, "landings", nil) {
		if k.Name == s.On {
			field = &k
		}
	}
	list, err := e.list(field)
	if err != nil {
		return err
	}
	switch {
	case there && s.Go == "" && len(list.entries) == 1:
		return e.unsafe(field.Value, "it is the only line, and %s would say nothing", s.On)
	case there && s.Go == "":
		return list.removeEntry(&list.entries[at])
	case there:
		return e.setValue(list.entries[at].field("go"), document.Scalar(s.Go))
	case at < len(list.entries):
		return list.addBefore(&list.entries[at], keys)
	}
	return list.addEntry(&list.entries[at-1], keys)
}

// SetGuarantee adds a promise about all of some places, or changes what it says.
type SetGuarantee struct {
	Set     place.Set
	Written string        // the path as it is to stand in the policy
	Kind    string        // only, always or never
	Demand  policy.Demand // of only and always; never is about public
	Because string        // why, for people; "" leaves it as it is
}

// says reports whether a guarantee is about these places and of this kind.
func (s *SetGuarantee) says(g *policy.Guarantee) bool {
	return policy.DescribeSet(&policy.Door{Set: g.Set}) == policy.DescribeSet(&policy.Door{Set: s.Set}) && g.Kind() == s.Kind
}

func (s SetGuarantee) guarantee() policy.Guarantee {
	g := policy.Guarantee{
		Set: s.Set, Written: s.Written, Only: s.Kind == "only", Always: s.Kind == "always", Never: s.Kind == "never", Because: s.Because,
	}
	if !g.Never {
		g.Asking.Admit = s.Demand
	}
	return g
}

func (s SetGuarantee) wanted(before *policy.Book) map[string]string {
	after := *before
	after.Guarantees = slices.Clone(before.Guarantees)
	g := s.guarantee()
	if i := slices.IndexFunc(after.Guarantees, func(g policy.Guarantee) bool { return s.says(&g) }); i >= 0 {
		if g.Because == "" {
			g.Because = after.Guarantees[i].Because
		}
		after.Guarantees[i] = g
	} else {
		after.Guarantees = append(after.Guarantees, g)
	}
	return toldBy(&after)
}

func (s SetGuarantee) apply(e *editor) error {
	if !slices.Contains([]string{"only", "always", "never"}, s.Kind) {
		return fmt.Errorf("a guarantee says only, always or never, not %q", s.Kind)
	}
	if err := e.known(s.Demand); err != nil {
		return err
	}
	g := s.guarantee()
	says := "public"
	if !g.Never {
		says = s.Demand.Text()
	}
	keys := append(e.keysOfSet(s.Written, &s.Set), s.Kind+": "+says)
	if s.Because != "" {
		keys = append(keys, "because: "+document.Scalar(s.Because))
	}
	if e.key("guarantees") == nil {
		return e.before("doors", "guarantees:", "  - "+inBrackets(keys, false))
	}
	if len(e.book.Guarantees) == 0 {
		return e.setValue(e.key("guarantees"), "[ "+inBrackets(keys, false)+" ]")
	}
	list, err := e.list(e.key("guarantees"))
	if err != nil {
		return err
	}
	n, whole, err := list.guarantee(func(g *policy.Guarantee) bool { return s.says(g) })
	switch {
	case err != nil:
		return err
	case n == nil:
		return list.addEntry(&list.entries[len(list.entries)-1], keys)
	case !whole:
		return e.unsafe(n.node, "this guarantee is about several paths")
	}
	if f := n.field(s.Kind); !g.Never {
		if err := e.setValue(f, says); err != nil {
			return err
		}
	}
	if s.Because == "" {
		return nil
	}
	if f := n.field("because"); f != nil {
		return e.setValue(f, document.Scalar(s.Because))
	}
	return e.addKey(n, "because", document.Scalar(s.Because))
}

// RemoveGuarantee takes a promise out.
type RemoveGuarantee struct {
	Set  place.Set
	Kind string
}

// ErrNoGuarantee says that there is no such promise about just these places.
var ErrNoGuarantee = errors.New("there is no such guarantee")

func (r RemoveGuarantee) wanted(before *policy.Book) map[string]string {
	after, s := *before, SetGuarantee{Set: r.Set, Kind: r.Kind}
	after.Guarantees = slices.DeleteFunc(slices.Clone(before.Guarantees), func(g policy.Guarantee) bool { return s.says(&g) })
	return toldBy(&after)
}

func (r RemoveGuarantee) apply(e *editor) error {
	if len(e.book.Guarantees) == 0 {
		return ErrNoGuarantee
	}
	list, err := e.list(e.key("guarantees"))
	if err != nil {
		return err
	}
	s := SetGuarantee{Set: r.Set, Kind: r.Kind}
	n, whole, err := list.guarantee(s.says)
	switch {
	case err != nil:
		return err
	case n == nil:
		return ErrNoGuarantee
	case !whole:
		return e.unsafe(n.node, "this guarantee is about several paths")
	case len(list.entries) == 1:
		return e.removeTop("guarantees")
	}
	return list.removeEntry(n)
}

// guarantee returns the entry that makes a guarantee, and whether it makes no other; nil if none does.
func (l *listing) guarantee(is func(*policy.Guarantee) bool) (n *entry, whole bool, err error) {
	next := 0
	for i := range l.entries {
		paths := l.entries[i].paths()
		for range paths {
			if next >= len(l.book.Guarantees) {
				return nil, false, l.unsafe(l.entries[i].node, "its guarantees cannot be told apart")
			}
			if is(&l.book.Guarantees[next]) && n == nil {
				n, whole = &l.entries[i], paths == 1
			}
			next++
		}
	}
	return n, whole, nil
}

// addBefore adds an entry in front of another one, in the style of that.
func (e *listing) addBefore(near *entry, keys []string) error {
	if e.seq.IsFlowStyle {
		e.replace(near.from, near.from, inBrackets(keys, e.tight(near))+", ")
		return nil
	}
	e.insertLines(near.from, strings.Repeat(" ", near.indent)+"- "+inBrackets(keys, e.tight(near)))
	return nil
}

// removeTop takes a key of the policy out, with all that stands below it.
func (e *editor) removeTop(name string) error {
	f := e.key(name)
	from, to, err := e.span(f)
	if err != nil {
		return err
	}
	if e.hasComment(from, to) {
		return e.unsafe(f.Key, "there are comments in it, which would be lost")
	}
	first, last := e.lineOf(e.at(f.Key)), e.lineOf(max(from, to-1))
	if first > 0 && isBlank(e.line(first-1)) && (last+1 >= len(e.lines) || isBlank(e.line(last+1))) {
		first--
	}
	e.removeLines(e.lines[first], e.after(last))
	return nil
}
