package policy

import (
	"net"
	"net/url"
	"slices"
	"strings"

	"github.com/goccy/go-yaml/ast"

	"ostiarius/core/pattern"
)

// A DeclaredElsewhere is where an account may be held that people sign in with: a provider of OpenID Connect, as the policy
// declares it. What it takes to speak to it, such as a secret, is a setting of the process.
type DeclaredElsewhere struct {
	Name   string
	Title  string // for people
	Issuer string // the provider's own name, an https address (OpenID Connect Core 1.0, section 2)
	Client string // the name of this site there
	Joins  bool   // who has no account here may make one with it
	Grants []ClaimGrant
	Scopes []string // that are asked for beside openid, profile and email
	// TrustsAddress says that what it says of an address, that it is proven, counts here: with a proven address here that
	// is the same, the account is the same.
	TrustsAddress bool
	// Here says that whoever signs out here does so here alone.
	Here bool
	Position
}

// A ClaimGrant gives a role to whoever the provider says something of.
type ClaimGrant struct {
	Claim string // the name of what it says, such as groups
	Holds string // what that is, or has among others
	Role  string
}

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
	for _, f := range p.fields(n, "elsewhere", nil) {
		if !p.name(f.key, "account elsewhere", f.name) {
			continue
		}
		d := DeclaredElsewhere{Name: f.name, Title: f.name, Position: position(f.key)}
		before := len(p.findings)
		for _, inner := range p.fields(f.value, "account elsewhere "+f.name,
			[]string{"title", "issuer", "client", "joins", "grants", "scopes", "trusts-address", "sign-out"}) {
			switch inner.name {
			case "title":
				p.textInto(&d.Title, inner)
			case "issuer":
				if p.textInto(&d.Issuer, inner); d.Issuer != "" && !isIssuer(d.Issuer) {
					p.at(inner.value, "bad-value", "%q is no issuer; it is an https address without a query, just as the provider writes it", d.Issuer)
				}
			case "client":
				d.Client = p.oneWord(inner)
			case "joins":
				d.Joins = p.boolean(inner.value, inner.name)
			case "trusts-address":
				d.TrustsAddress = p.boolean(inner.value, inner.name)
			case "sign-out":
				d.Here = p.word(inner.value, inner.name, "there", "here") == "here"
			case "scopes":
				d.Scopes, _ = p.texts(inner.value, inner.name)
				for _, scope := range d.Scopes {
					if !wordsThen.MatchString(scope) {
						p.at(inner.value, "bad-value", "%q is no scope", scope)
					}
				}
			case "grants":
				for _, entry := range p.list(inner.value, inner.name) {
					p.claimGrant(&d, entry)
				}
			}
		}
		if isMapping(f.value) && len(p.findings) == before && (d.Issuer == "" || d.Client == "") {
			p.at(f.key, "missing-key", "an account elsewhere has an issuer, and the client that this site is there: { issuer: "+
				"\"https://id.example\", client: NAME }")
		}
		if i := slices.IndexFunc(p.book.Elsewhere,
			func(other DeclaredElsewhere) bool { return other.Issuer == d.Issuer && d.Issuer != "" }); i >= 0 {
			p.at(f.key, "bad-value", "%s has the same issuer as %s; what one says would be the other's word", d.Name, p.book.Elsewhere[i].Name)
		}
		p.book.Elsewhere = append(p.book.Elsewhere, d)
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

func (p *reader) oneWord(f field) string {
	s, ok := p.text(f.value, f.name)
	if ok && !wordsThen.MatchString(s) {
		p.at(f.value, "bad-value", "%s is one word of up to 200 characters", f.name)
	}
	return s
}

func (p *reader) claimGrant(d *DeclaredElsewhere, n ast.Node) {
	before := len(p.findings)
	var g ClaimGrant
	for _, f := range p.fields(n, "a grant by a claim", []string{"claim", "holds", "role"}) {
		switch f.name {
		case "claim":
			g.Claim = p.oneWord(f)
		case "holds":
			p.textInto(&g.Holds, f)
		case "role":
			if s, ok := p.text(f.value, "role"); ok {
				g.Role = s
				p.roleUses = append(p.roleUses, use{s, f.value})
			}
		}
	}
	switch {
	case len(p.findings) > before || !isMapping(n):
	case g.Claim == "" || g.Holds == "" || g.Role == "":
		p.at(n, "missing-key", "a grant by a claim names all three: { claim: groups, holds: crew, role: NAME }")
	default:
		d.Grants = append(d.Grants, g)
	}
}

// ElsewhereNamed returns what the policy declares under a name; nil if it does not.
func ElsewhereNamed(b *Book, name string) *DeclaredElsewhere {
	if i := slices.IndexFunc(b.Elsewhere, func(d DeclaredElsewhere) bool { return d.Name == name }); i >= 0 {
		return &b.Elsewhere[i]
	}
	return nil
}

// Roles returns the roles that somebody has by what a provider says of them: claims are what it says, as JSON has it.
func (d *DeclaredElsewhere) Roles(claims map[string]any) (roles []string) {
	for _, g := range d.Grants {
		if holds(claims[g.Claim], g.Holds) && !slices.Contains(roles, g.Role) {
			roles = append(roles, g.Role)
		}
	}
	return roles
}

// Mapped returns all roles that it may give.
func (d *DeclaredElsewhere) Mapped() (roles []string) {
	for _, g := range d.Grants {
		roles = append(roles, g.Role)
	}
	return roles
}

// holds reports whether a claim is a text, or has it among others. Nothing else is guessed at: a number is no text.
func holds(claim any, wanted string) bool {
	switch claim := claim.(type) {
	case string:
		return claim == wanted
	case []any:
		return slices.ContainsFunc(claim, func(one any) bool { text, ok := one.(string); return ok && text == wanted })
	case bool:
		return claim && wanted == "true"
	}
	return false
}

func (d *DeclaredElsewhere) told() string {
	return strings.Join([]string{d.Title, d.Issuer, d.Client, strings.Join(d.Scopes, " ")}, "\x00")
}
