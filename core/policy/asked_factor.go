package policy

import (
	"slices"
	"strings"

	"github.com/goccy/go-yaml/ast"

	"ostiarius/core/document"
	"ostiarius/core/factor"
)

// factor: one kind of proof besides the password, or two of different kinds; of some, any one of them.
type factorRule struct{ plainRule }

func (factorRule) read(p *PartReader, n ast.Node, d *Demand) bool {
	names, nodes := p.Texts(n, string(Factor))
	for i, name := range names {
		if !slices.Contains(factor.Asked, name) {
			p.At(nodes[i], "bad-value", "%q isn't a factor%s; use passkey, code or two", name,
				strings.TrimSuffix(document.DidYouMean(name, factor.Asked), "?"))
			continue
		}
		d.Names = append(d.Names, name)
	}
	return len(d.Names) > 0
}

func (factorRule) schema(s SchemaParts) any {
	return s.OneOrMany(map[string]any{"enum": factor.Asked}, "A second factor, or two proofs of different kinds")
}

func (factorRule) ways(d *Demand) []way       { return d.factorWays(d.Names) }
func (factorRule) provenBy(by ProofKind) bool { return by == ProveSignIn || by == ProveFactor }
func (factorRule) noun(d *Demand) string      { return factorsInWords(d.Names) }
func (factorRule) cases(_ *Demand, c *Cases)  { c.Factors = true }

func (factorRule) shows(v *Visitor, d *Demand) bool {
	return v.SignedIn && v.Shown().Kinds.Covers(d.kinds)
}

func (factorRule) needs(n need, v *Visitor, d *Demand) (need, bool) {
	n.signIn = n.signIn || !v.SignedIn
	shown := factor.Of(factor.Password) // by signing in
	if v.SignedIn {
		shown = v.Shown().Kinds
	}
	n.factors |= shown.Missing(d.kinds)
	return n, true
}

func (factorRule) told(d *Demand) ([]string, map[string][]string) {
	return d.Names, nil
}

// proof-within: the password was entered a short time ago; beside a factor, that was shown.
type proofWithinRule struct{ plainRule }

func (proofWithinRule) read(p *PartReader, n ast.Node, d *Demand) bool {
	var ok bool
	if d.Within, ok = p.Duration(n, string(ProofWithin)); ok && d.Within == 0 {
		p.At(n, "bad-value", "proof-within: 0 would ask again for each request; use a time such as 10m")
	}
	return true
}

func (proofWithinRule) schema(SchemaParts) any {
	return map[string]any{
		"description": "How recently the visitor entered the password, or confirmed the factor",
		"allOf":       []any{map[string]any{"type": "string", "pattern": document.DurationPattern}, map[string]any{"pattern": `[1-9]`}},
	}
}

func (proofWithinRule) values(d *Demand) []string { return []string{document.FormatDuration(d.Within)} }

func (proofWithinRule) ways(d *Demand) []way {
	if d.Factors != nil {
		return d.factorWays(d.Factors)
	}
	return []way{{d}}
}

func (proofWithinRule) provenBy(by ProofKind) bool { return by == ProveSignIn || by == ProveAgain }

func (proofWithinRule) shows(v *Visitor, d *Demand) bool {
	if d.Factors != nil {
		return v.SignedIn && v.Shown().Within(d.Within).Covers(d.kinds)
	}
	return v.SignedIn && v.ProofAge >= 0 && v.ProofAge <= d.Within
}

func (proofWithinRule) needs(n need, v *Visitor, d *Demand) (need, bool) {
	n.signIn = n.signIn || !v.SignedIn
	if d.Factors == nil {
		n.again = n.again || v.SignedIn
		return n, true
	}
	shown := factor.Of(factor.Password) // by signing in
	if v.SignedIn {
		shown = v.Shown().Within(d.Within)
	}
	n.factors |= shown.Missing(d.kinds)
	return n, true
}

func (proofWithinRule) noun(d *Demand) string {
	if d.Factors != nil {
		return "that within the last " + document.FormatDuration(d.Within)
	}
	return "a password entered within the last " + document.FormatDuration(d.Within)
}

func (proofWithinRule) told(d *Demand) ([]string, map[string][]string) {
	gaps := map[string][]string{"time": {document.FormatDuration(d.Within)}}
	if d.Factors != nil {
		return []string{"so"}, gaps
	}
	return []string{""}, gaps
}

// An age that is asked for matters just beyond it.
func (proofWithinRule) cases(d *Demand, c *Cases) { c.Ages = append(c.Ages, d.Within+justBeyond) }
