package policy

import (
	"fmt"
	"slices"

	"github.com/goccy/go-yaml/ast"

	"ostiarius/core/document"
)

// signed-in: any account.
type signedInRule struct{ accountRule }

func (signedInRule) read(*PartReader, ast.Node, *Demand) bool { return false } // it is a word
func (signedInRule) schema(SchemaParts) any                   { return nil }
func (signedInRule) shows(v *Visitor, _ *Demand) bool         { return v.SignedIn }
func (signedInRule) noun(*Demand) string                      { return "a sign-in" }

// Whether somebody is signed in is always looked at.
func (signedInRule) cases(*Demand, *Cases) {}

// role: an account that has one of some roles, or one that includes it.
type roleRule struct{ accountRule }

func (roleRule) read(p *PartReader, n ast.Node, d *Demand) bool {
	d.Names = p.names(n, Role, &p.RoleUses)
	return true
}

func (roleRule) schema(s SchemaParts) any { return s.OneOrMany(s.Name, "A role, or one of several") }

func (roleRule) prepare(b *Book, d *Demand) {
	d.roles = nil
	for _, asked := range d.Names {
		for role := range b.satisfies[asked] {
			if !slices.Contains(d.roles, role) {
				d.roles = append(d.roles, role)
			}
		}
	}
}

func (roleRule) shows(v *Visitor, d *Demand) bool {
	if v.SignedIn {
		for _, role := range v.Roles {
			if slices.Contains(d.roles, role) {
				return true
			}
		}
	}
	return false
}

func (roleRule) unknown(b *Book, name string) error {
	if roles := b.RoleNames(); !slices.Contains(roles, name) {
		return fmt.Errorf("unknown role %q%s", name, DidYouMeanRole(name, roles))
	}
	return nil
}

func (roleRule) noun(d *Demand) string { return "the role " + document.OrList(d.Names) }

func (roleRule) told(d *Demand) ([]string, map[string][]string) {
	return []string{several(d.Names)}, map[string][]string{"names": d.Names}
}

func (roleRule) cases(d *Demand, c *Cases) { c.Roles = append(c.Roles, d.Names...) }

// user: one of some accounts, by their names.
type userRule struct{ accountRule }

func (userRule) read(p *PartReader, n ast.Node, d *Demand) bool {
	names, nodes := p.Texts(n, string(User))
	for i, name := range names {
		if key, ok := p.User(nodes[i], name); ok {
			d.Names = append(d.Names, key)
		}
	}
	return true
}

func (userRule) schema(s SchemaParts) any {
	return s.OneOrMany(s.Pattern(UserPattern, "The name of an account"), "An account, or one of several")
}

func (userRule) shows(v *Visitor, d *Demand) bool {
	return v.SignedIn && v.Account != "" && slices.Contains(d.Names, v.Account)
}

func (userRule) needs(n need, v *Visitor, d *Demand) (need, bool) {
	if v.SignedIn {
		return n, false
	}
	n.signIn = true
	if n.users == nil {
		n.users = d.Names
	} else { // who signs in has to be one of both
		n.users = slices.DeleteFunc(slices.Clone(n.users), func(name string) bool { return !slices.Contains(d.Names, name) })
	}
	return n, len(n.users) > 0
}

func (userRule) noun(d *Demand) string { return "the account " + document.OrList(d.Names) }

func (userRule) told(d *Demand) ([]string, map[string][]string) {
	return []string{several(d.Names)}, map[string][]string{"names": d.Names}
}

func (userRule) cases(d *Demand, c *Cases) { c.Users = append(c.Users, d.Names...) }

// several is the form of sentences about more than one.
func several(names []string) string {
	if len(names) > 1 {
		return "several"
	}
	return ""
}

// DidYouMeanRole names the role that is nearest to one that is not declared, or says where roles are declared.
func DidYouMeanRole(name string, known []string) string {
	if len(known) == 1 { // only the built-in one: none is declared
		return "; declare roles under the key roles"
	}
	return document.DidYouMean(name, known)
}
