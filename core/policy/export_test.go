package policy

import (
	"slices"
	"strings"
	"testing"

	"github.com/goccy/go-yaml/ast"

	"ostiarius/core/document"
	"ostiarius/core/place"
)

// An initialRule is made up: it asks for an account whose name begins so. It is what somebody writes who adds a kind of demand.
type initialRule struct{ accountRule }

func (initialRule) read(p *PartReader, n ast.Node, d *Demand) bool {
	d.Names, _ = p.Texts(n, "initial")
	return len(d.Names) > 0
}

func (initialRule) schema(s SchemaParts) any {
	return s.OneOrMany(s.Name, "How the name of the account begins")
}

func (initialRule) shows(v *Visitor, d *Demand) bool {
	return v.SignedIn && slices.ContainsFunc(d.Names, func(begin string) bool { return strings.HasPrefix(v.Account, begin) })
}

func (initialRule) noun(d *Demand) string {
	return "a name that begins with " + document.OrList(d.Names)
}

func (initialRule) cases(d *Demand, c *Cases) {
	for _, begin := range d.Names {
		c.Users = append(c.Users, begin+"x")
	}
}

// WithInitialRule adds the kind of demand to the table for the time of a test.
func WithInitialRule(t *testing.T) {
	before := asked
	t.Cleanup(func() { asked = before })
	asked = append(slices.Clone(asked), struct {
		kind Kind
		who  bool
		word bool
		rule rule
	}{"initial", false, false, initialRule{}})
}

// Lets reports whether a door admits a visitor.
func (b *Book) Lets(d *Door, v *Visitor) bool { return b.admits(d, v) }

// ChecksAt returns the checks that cover a place.
func (b *Book) ChecksAt(p *place.Place) []*Door { return b.checksAt(p) }
