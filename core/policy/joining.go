package policy

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/goccy/go-yaml/ast"
)

// JoiningBy says how people get an account by themselves.
type JoiningBy string

// How people get an account by themselves.
const (
	ByNobody     JoiningBy = "nobody"     // not at all: stewards make the accounts
	ByInvitation JoiningBy = "invitation" // whoever was invited
	ByApproval   JoiningBy = "approval"   // whoever asks and is approved
	ByAnybody    JoiningBy = "anybody"
)

// Joining is how people join, and what they have then.
type Joining struct {
	By JoiningBy
	// Unproven says that an account counts before its owner has shown to read the mail of its address; the address
	// counts only after that in any case.
	Unproven bool
	Grants   []JoinGrant
	Terms    string        // the page with the terms of use that one agrees to; "" for none
	Leave    time.Duration // after which an account is deleted whose owner wants that
	// NeverLeave says that only stewards delete accounts.
	NeverLeave bool
	// NamesRest is how long the name of an account that was removed or renamed is given to nobody else: it may be named in the policy, in
	// what happened, and at upstream servers.
	NamesRest time.Duration
	Privacy   string // the page with the notice of what becomes of one's data; "" for none
	Position
}

// Asks reports whether somebody who joins agrees to something.
func (j *Joining) Asks() bool { return j.Terms != "" || j.Privacy != "" }

// A JoinGrant is a role that people have who join.
type JoinGrant struct {
	Role string
	For  time.Duration // 0 for no end
}

// Until returns when the role ends for somebody who joins now; zero for never.
func (g JoinGrant) Until(now time.Time) time.Time {
	if g.For == 0 {
		return time.Time{}
	}
	return now.Add(g.For)
}

func (p *reader) joining(n ast.Node) {
	j := &p.book.Joining
	j.Position = position(n)
	for _, f := range p.fields(n, "joining", []string{"by", "address", "grants", "terms", "privacy", "leave", "names-rest"}) {
		switch f.name {
		case "by":
			j.By = JoiningBy(p.word(f.value, "by", string(ByNobody), string(ByInvitation), string(ByApproval), string(ByAnybody)))
			j.Position = position(f.value)
		case "address":
			j.Unproven = p.word(f.value, "address", "proven", "unproven") == "unproven"
		case "grants":
			for _, entry := range p.list(f.value, "grants") {
				p.joinGrant(entry)
			}
		case "leave":
			if s, ok := f.value.(*ast.StringNode); ok && s.Value == "never" {
				j.NeverLeave = true
			} else {
				j.Leave, _ = p.duration(f.value, "leave")
			}
		case "names-rest":
			j.NamesRest, _ = p.duration(f.value, "names-rest")
		case "terms":
			j.Terms = p.target(f.value)
		case "privacy":
			j.Privacy = p.target(f.value)
		}
	}
}

func (p *reader) joinGrant(n ast.Node) {
	var g JoinGrant
	before := len(p.findings)
	for _, f := range p.fields(n, "a grant", []string{"role", "for"}) {
		switch f.name {
		case "role":
			if s, ok := p.text(f.value, "role"); ok {
				g.Role = s
				p.roleUses = append(p.roleUses, use{s, f.value})
				if s == Steward {
					p.at(f.value, "bad-value", "joining does not make stewards: whoever joins could administer the site; grant that role to people "+
						"yourself")
				}
			}
		case "for":
			g.For, _ = p.duration(f.value, "for")
		}
	}
	if g.Role == "" && len(p.findings) == before {
		p.at(n, "missing-key", "a grant names a role")
	}
	if slices.ContainsFunc(p.book.Joining.Grants, func(other JoinGrant) bool { return other.Role == g.Role }) && len(p.findings) == before {
		p.at(n, "bad-value", "the role %q is granted twice", g.Role)
	}
	p.book.Joining.Grants = append(p.book.Joining.Grants, g)
}

// checkSignedIn warns where being signed in is all that is asked, while anybody can make an account.
func (p *reader) checkSignedIn() {
	b := p.book
	var open []string
	seen := map[int]bool{}
	for i := range b.Doors {
		if d := &b.Doors[i]; d.Admit.Kind == SignedIn && !seen[d.Entry] {
			seen[d.Entry] = true
			open = append(open, d.Named())
		}
	}
	if b.Unlisted.Admit.Kind == SignedIn {
		open = append(open, "what is unlisted")
	}
	switch n := len(open); {
	case n == 0:
		return
	case n > 4:
		open = append(open[:3], fmt.Sprintf("%d more", n-3))
	}
	p.warn(b.Joining.Position, len(ByAnybody), "open-to-joiners", "anybody can make an account, and then sees what asks only for one: "+
		"%s; ask for a role there, or let joining be by approval", strings.Join(open, ", "))
}

// checkJoining warns where the pages that people are to agree to are closed to whoever joins.
func (p *reader) checkJoining() {
	j := &p.book.Joining
	for _, to := range []string{j.Terms, j.Privacy} {
		if to == "" || j.By == ByNobody {
			continue
		}
		if d := p.book.arrive(to, &Visitor{}); !goesOn(d, &Visitor{}) {
			p.turnedAway(j.Position, to, "to read what they agree to", Visitor{}, d)
		}
	}
	if j.By == ByNobody {
		return
	}
	if j.By == ByAnybody {
		p.checkSignedIn()
	}
	var roles []string
	for _, g := range j.Grants {
		roles = append(roles, g.Role)
	}
	v := Visitor{SignedIn: true, Roles: roles}
	for _, l := range p.book.Landings.Join {
		if l.User != "" || l.Role != "" && !p.book.has(roles, l.Role) {
			continue
		}
		if d := p.book.arrive(l.Go, &v); !goesOn(d, &v) {
			p.turnedAway(l.Position, l.Go, "after joining", v, d)
		}
		break
	}
}
