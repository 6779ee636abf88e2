package read

import (
	"math"
	"slices"
	"strings"
	"time"

	"github.com/goccy/go-yaml/ast"

	"ostiarius/core/document"
	"ostiarius/core/policy"
)

func (p *reader) shared(n ast.Node) {
	if _, empty := n.(*ast.NullNode); empty {
		return
	}
	for _, f := range p.Fields(n, "shared", nil) {
		if !p.Name(f.Key, "shared password", f.Name) {
			continue
		}
		d := policy.DeclaredShared{Name: f.Name, Title: f.Name, Position: document.PositionOf(f.Key)}
		if _, empty := f.Value.(*ast.NullNode); !empty {
			for _, inner := range p.Fields(f.Value, "shared password "+f.Name, []string{"title", "say", "lasts"}) {
				switch inner.Name {
				case "title":
					p.textInto(&d.Title, inner)
				case "say":
					p.textInto(&d.Say, inner)
				case "lasts":
					d.Lasts, d.Forever = p.lasts(inner.Value)
				}
			}
		}
		p.Book.Shared = append(p.Book.Shared, d)
	}
}

func (p *reader) passes(n ast.Node) {
	if _, empty := n.(*ast.NullNode); empty {
		return
	}
	for _, f := range p.Fields(n, "passes", nil) {
		if !p.Name(f.Key, "kind of pass", f.Name) {
			continue
		}
		d := policy.DeclaredPass{
			Name: f.Name, Title: f.Name, Lasts: policy.UsualPassLasts, Networks: policy.UsualPassNetworks, Position: document.PositionOf(f.Key),
		}
		if _, empty := f.Value.(*ast.NullNode); !empty {
			for _, inner := range p.Fields(f.Value, "kind of pass "+f.Name,
				[]string{"title", "say", "go", "lasts", "counts-from", "downloads", "networks", "spread"}) {
				p.passKey(&d, inner)
			}
		}
		p.Book.Passes = append(p.Book.Passes, d)
	}
}

func (p *reader) passKey(d *policy.DeclaredPass, f document.Field) {
	switch f.Name {
	case "title":
		p.textInto(&d.Title, f)
	case "say":
		p.textInto(&d.Say, f)
	case "go":
		d.Go = p.Target(f.Value)
	case "lasts":
		lasts, forever := p.lasts(f.Value)
		if d.Lasts = lasts; lasts == 0 && !forever {
			p.At(f.Value, "bad-value", "a pass must last for a time such as 14d, or forever")
		}
	case "counts-from":
		d.FirstUse = p.Word(f.Value, "counts-from", "issue", "first-use") == "first-use"
	case "downloads":
		d.Downloads = p.anyOrNumber(f)
	case "networks":
		d.Networks = p.anyOrNumber(f)
	case "spread":
		d.Pause = p.Word(f.Value, "spread", "note", "pause") == "pause"
	}
}

func (p *reader) textInto(to *string, f document.Field) {
	if s, ok := p.Text(f.Value, f.Name); ok {
		*to = s
	}
}

// lasts reads a duration or the word forever.
func (p *reader) lasts(n ast.Node) (d time.Duration, forever bool) {
	if s, ok := n.(*ast.StringNode); ok && s.Value == "forever" {
		return 0, true
	}
	d, _ = p.Duration(n, "lasts")
	return d, false
}

// anyOrNumber reads a number from 1 on, or the word any, which is 0.
func (p *reader) anyOrNumber(f document.Field) int {
	switch n := f.Value.(type) {
	case *ast.StringNode:
		if n.Value == "any" {
			return 0
		}
	case *ast.IntegerNode:
		if v, ok := n.Value.(uint64); ok && v >= 1 && v <= math.MaxInt32 {
			return int(v)
		}
	}
	p.At(f.Value, "bad-value", "%s must be a number from 1, or any", f.Name)
	return 0
}

// checkAccess says which shared passwords and kinds of pass are named and not declared.
func (p *reader) checkAccess() {
	var shared, passes []string
	for _, d := range p.Book.Shared {
		shared = append(shared, d.Name)
	}
	for _, d := range p.Book.Passes {
		passes = append(passes, d.Name)
	}
	for _, use := range p.SharedUses {
		if !slices.Contains(shared, use.Name) {
			p.At(use.At, "unknown-shared", "unknown shared password %q%s; declare shared passwords under the key shared", use.Name,
				strings.TrimSuffix(document.DidYouMean(use.Name, shared), "?"))
		}
	}
	for _, use := range p.PassUses {
		if !slices.Contains(passes, use.Name) {
			p.At(use.At, "unknown-pass", "unknown kind of pass %q%s; declare kinds of pass under the key passes", use.Name,
				strings.TrimSuffix(document.DidYouMean(use.Name, passes), "?"))
		}
	}
}
