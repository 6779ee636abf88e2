package policy

import (
	"fmt"
	"slices"

	"github.com/goccy/go-yaml/ast"

	"ostiarius/core/document"
)

// shared: one of some shared passwords was entered in this browser.
type sharedRule struct{ eachRule }

func (sharedRule) read(p *PartReader, n ast.Node, d *Demand) bool {
	d.Names = p.names(n, Shared, &p.SharedUses)
	return true
}

func (sharedRule) schema(s SchemaParts) any         { return s.OneOrMany(s.Name, "A shared password") }
func (sharedRule) shows(v *Visitor, d *Demand) bool { return slices.Contains(v.Shared, d.Names[0]) }
func (sharedRule) provenBy(by ProofKind) bool       { return by == ProveShared }
func (sharedRule) noun(d *Demand) string            { return "the shared password " + document.OrList(d.Names) }
func (sharedRule) cases(d *Demand, c *Cases)        { c.Shared = append(c.Shared, d.Names...) }

func (sharedRule) unknown(b *Book, name string) error {
	if SharedNamed(b, name) == nil {
		return fmt.Errorf("unknown shared password %q; declare shared passwords under the key shared", name)
	}
	return nil
}

func (r sharedRule) needs(n need, _ *Visitor, d *Demand) (need, bool) {
	n.shared = r.need(n.shared, d.Names)
	return n, true
}

// pass: a pass of one of some kinds.
type passRule struct{ eachRule }

func (passRule) read(p *PartReader, n ast.Node, d *Demand) bool {
	d.Names = p.names(n, Pass, &p.PassUses)
	return true
}

func (passRule) schema(s SchemaParts) any         { return s.OneOrMany(s.Name, "A pass") }
func (passRule) shows(v *Visitor, d *Demand) bool { return slices.Contains(v.Passes, d.Names[0]) }
func (passRule) provenBy(by ProofKind) bool       { return by == ProvePass }
func (passRule) noun(d *Demand) string            { return "a pass for " + document.OrList(d.Names) }
func (passRule) cases(d *Demand, c *Cases)        { c.Passes = append(c.Passes, d.Names...) }

func (passRule) unknown(b *Book, name string) error {
	if PassNamed(b, name) == nil {
		return fmt.Errorf("unknown kind of pass %q; declare kinds of pass under the key passes", name)
	}
	return nil
}

func (r passRule) needs(n need, _ *Visitor, d *Demand) (need, bool) {
	n.passes = r.need(n.passes, d.Names)
	return n, true
}

// keyring: a name and a password of one of some keyrings, by HTTP Basic.
type keyringRule struct{ eachRule }

func (keyringRule) read(p *PartReader, n ast.Node, d *Demand) bool {
	d.Names = p.names(n, Keyring, &p.RingUses)
	return true
}

func (keyringRule) schema(s SchemaParts) any         { return s.OneOrMany(s.Name, "A keyring") }
func (keyringRule) shows(v *Visitor, d *Demand) bool { return slices.Contains(v.Keyrings, d.Names[0]) }
func (keyringRule) provenBy(by ProofKind) bool       { return by == ProveKeyring }
func (keyringRule) noun(d *Demand) string {
	return "credentials from the keyring " + document.OrList(d.Names)
}
func (keyringRule) cases(d *Demand, c *Cases) { c.Keyrings = append(c.Keyrings, d.Names...) }

func (keyringRule) unknown(b *Book, name string) error {
	if !slices.ContainsFunc(b.Keyrings, func(k DeclaredKeyring) bool { return k.Name == name }) {
		return fmt.Errorf("unknown keyring %q; declare keyrings under the key keyrings", name)
	}
	return nil
}

func (r keyringRule) needs(n need, _ *Visitor, d *Demand) (need, bool) {
	n.keyrings = r.need(n.keyrings, d.Names)
	return n, true
}
