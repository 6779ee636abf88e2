package read

import (
	"net"
	"net/url"
	"slices"

	"github.com/goccy/go-yaml/ast"

	"ostiarius/core/document"
	"ostiarius/core/pattern"
	"ostiarius/core/policy"
)

// The forms of an issuer, and of the names of claims, scopes and clients, as the schema has them too.
const (
	issuerPattern = `^(?:https://[^\s/?#@]+|http://(?:localhost|127\.0\.0\.1|\[::1\])(?::[0-9]{1,5})?)(?:/[^\s?#]*)?$`
	wordPattern   = `^[^\s"\\]{1,200}$`
)

var (
	issuers   = pattern.New(issuerPattern)
	wordsThen = pattern.New(wordPattern)
)

func (p *reader) elsewhere(n ast.Node) {
	if _, empty := n.(*ast.NullNode); empty {
		return
	}
	for _, f := range p.Fields(n, "elsewhere", nil) {
		if !p.Name(f.Key, "account elsewhere", f.Name) {
			continue
		}
		d := policy.DeclaredElsewhere{Name: f.Name, Title: f.Name, Position: document.PositionOf(f.Key)}
		before := len(p.Findings)
		for _, inner := range p.Fields(f.Value, "account elsewhere "+f.Name,
			[]string{"title", "issuer", "client", "joins", "grants", "scopes", "trusts-address", "sign-out"}) {
			switch inner.Name {
			case "title":
				p.textInto(&d.Title, inner)
			case "issuer":
				if p.textInto(&d.Issuer, inner); d.Issuer != "" && !isIssuer(d.Issuer) {
					p.At(inner.Value, "bad-value", "%q is no issuer; it is an https address without a query, just as the provider writes it", d.Issuer)
				}
			case "client":
				d.Client = p.oneWord(inner)
			case "joins":
				d.Joins = p.Boolean(inner.Value, inner.Name)
			case "trusts-address":
				d.TrustsAddress = p.Boolean(inner.Value, inner.Name)
			case "sign-out":
				d.Here = p.Word(inner.Value, inner.Name, "there", "here") == "here"
			case "scopes":
				d.Scopes, _ = p.Texts(inner.Value, inner.Name)
				for _, scope := range d.Scopes {
					if !wordsThen.MatchString(scope) {
						p.At(inner.Value, "bad-value", "%q is no scope", scope)
					}
				}
			case "grants":
				for _, entry := range p.List(inner.Value, inner.Name) {
					p.claimGrant(&d, entry)
				}
			}
		}
		if document.IsMapping(f.Value) && len(p.Findings) == before && (d.Issuer == "" || d.Client == "") {
			p.At(f.Key, "missing-key", "an account elsewhere has an issuer, and the client that this site is there: { issuer: "+
				"\"https://id.example\", client: NAME }")
		}
		if i := slices.IndexFunc(p.Book.Elsewhere,
			func(other policy.DeclaredElsewhere) bool { return other.Issuer == d.Issuer && d.Issuer != "" }); i >= 0 {
			p.At(f.Key, "bad-value", "%s has the same issuer as %s; what one says would be the other's word", d.Name, p.Book.Elsewhere[i].Name)
		}
		p.Book.Elsewhere = append(p.Book.Elsewhere, d)
	}
}

func isIssuer(text string) bool {
	u, err := url.Parse(text)
	return err == nil && issuers.MatchString(text) && u.Hostname() != "" && (u.Scheme == "https" || onThisMachine(u.Hostname()))
}

func onThisMachine(host string) bool {
	ip := net.ParseIP(host)
	return host == "localhost" || ip != nil && ip.IsLoopback()
}

func (p *reader) oneWord(f document.Field) string {
	s, ok := p.Text(f.Value, f.Name)
	if ok && !wordsThen.MatchString(s) {
		p.At(f.Value, "bad-value", "%s is one word of up to 200 characters", f.Name)
	}
	return s
}

func (p *reader) claimGrant(d *policy.DeclaredElsewhere, n ast.Node) {
	before := len(p.Findings)
	var g policy.ClaimGrant
	for _, f := range p.Fields(n, "a grant by a claim", []string{"claim", "holds", "role"}) {
		switch f.Name {
		case "claim":
			g.Claim = p.oneWord(f)
		case "holds":
			p.textInto(&g.Holds, f)
		case "role":
			if s, ok := p.Text(f.Value, "role"); ok {
				g.Role = s
				p.UseRole(s, f.Value)
			}
		}
	}
	switch {
	case len(p.Findings) > before || !document.IsMapping(n):
	case g.Claim == "" || g.Holds == "" || g.Role == "":
		p.At(n, "missing-key", "a grant by a claim names all three: { claim: groups, holds: crew, role: NAME }")
	default:
		d.Grants = append(d.Grants, g)
	}
}
