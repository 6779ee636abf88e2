package read

import (
	"fmt"
	"slices"
	"strings"

	"github.com/goccy/go-yaml/ast"

	"ostiarius/core/document"
	"ostiarius/core/policy"
)

func (p *reader) joining(n ast.Node) {
	j := &p.Book.Joining
	j.Position = document.PositionOf(n)
	for _, f := range p.Fields(n, "joining", []string{"by", "address", "grants", "terms", "privacy", "leave", "names-rest"}) {
		switch f.Name {
		case "by":
			j.By = policy.JoiningBy(p.Word(f.Value, "by", string(policy.ByNobody), string(policy.ByInvitation), string(policy.ByApproval),
				string(policy.ByAnybody)))
			j.Position = document.PositionOf(f.Value)
		case "address":
			j.Unproven = p.Word(f.Value, "address", "proven", "unproven") == "unproven"
		case "grants":
			for _, entry := range p.List(f.Value, "grants") {
				p.joinGrant(entry)
			}
		case "leave":
			if s, ok := f.Value.(*ast.StringNode); ok && s.Value == "never" {
				j.NeverLeave = true
			} else {
				j.Leave, _ = p.Duration(f.Value, "leave")
			}
		case "names-rest":
			j.NamesRest, _ = p.Duration(f.Value, "names-rest")
		case "terms":
			j.Terms = p.Target(f.Value)
		case "privacy":
			j.Privacy = p.Target(f.Value)
		}
	}
}

func (p *reader) joinGrant(n ast.Node) {
	var g policy.JoinGrant
	before := len(p.Findings)
	for _, f := range p.Fields(n, "a grant", []string{"role", "for"}) {
		switch f.Name {
		case "role":
			if s, ok := p.Text(f.Value, "role"); ok {
				g.Role = s
				p.UseRole(s, f.Value)
				if s == policy.Steward {
					p.At(f.Value, "bad-value", "registration can't grant this role: everyone who registers could administer the site; "+
						"grant the role to people yourself")
				}
			}
		case "for":
			g.For, _ = p.Duration(f.Value, "for")
		}
	}
	if g.Role == "" && len(p.Findings) == before {
		p.At(n, "missing-key", "a grant names a role")
	}
	if slices.ContainsFunc(p.Book.Joining.Grants, func(other policy.JoinGrant) bool { return other.Role == g.Role }) &&
		len(p.Findings) == before {
		p.At(n, "bad-value", "the role %q is granted twice", g.Role)
	}
	p.Book.Joining.Grants = append(p.Book.Joining.Grants, g)
}

// checkSignedIn warns where being signed in is all that is asked, while anybody can make an account.
func (p *reader) checkSignedIn() {
	b := p.Book
	var open []string
	seen := map[int]bool{}
	for i := range b.Doors {
		if d := &b.Doors[i]; d.Admit.Kind == policy.SignedIn && !seen[d.Entry] {
			seen[d.Entry] = true
			open = append(open, d.Named())
		}
	}
	if b.Unlisted.Admit.Kind == policy.SignedIn {
		open = append(open, "all places without a door")
	}
	switch n := len(open); {
	case n == 0:
		return
	case n > 4:
		open = append(open[:3], fmt.Sprintf("%d more", n-3))
	}
	p.Warn(b.Joining.Position, len(policy.ByAnybody), "open-to-joiners",
		"anyone can register and then see everything that only asks for sign-in: %s; require a role there, or set joining to approval",
		strings.Join(open, ", "))
}

// checkJoining warns where the pages that people are to agree to are closed to whoever joins.
func (p *reader) checkJoining() {
	j := &p.Book.Joining
	for _, to := range []string{j.Terms, j.Privacy} {
		if to == "" || j.By == policy.ByNobody {
			continue
		}
		if d := arrive(p.Book, to, &policy.Visitor{}); !goesOn(d, &policy.Visitor{}) {
			p.turnedAway(j.Position, to, "to read what they agree to", policy.Visitor{}, d)
		}
	}
	if j.By == policy.ByNobody {
		return
	}
	if j.By == policy.ByAnybody {
		p.checkSignedIn()
	}
	var roles []string
	for _, g := range j.Grants {
		roles = append(roles, g.Role)
	}
	v := policy.Visitor{SignedIn: true, Roles: roles}
	for _, l := range p.Book.Landings.Join {
		if l.User != "" || l.Role != "" && !policy.Has(p.Book, roles, l.Role) {
			continue
		}
		if d := arrive(p.Book, l.Go, &v); !goesOn(d, &v) {
			p.turnedAway(l.Position, l.Go, "after joining", v, d)
		}
		break
	}
}
