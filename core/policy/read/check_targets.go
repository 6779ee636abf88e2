package read

import (
	"slices"
	"strings"
	"unicode/utf8"

	"ostiarius/core/document"
	"ostiarius/core/place"
	"ostiarius/core/policy"
)

// checkTargets looks at every address that the policy sends people to, and warns where
// the people who are sent there are turned away again.
//
// Who is sent is known up to what tells the doors apart: each role alone, the users that
// are named, somebody without a role, and somebody who is not signed in.
func (p *reader) checkTargets() {
	b := p.Book
	kinds := []policy.Visitor{{SignedIn: true}}
	for _, role := range b.RoleNames() {
		kinds = append(kinds, policy.Visitor{SignedIn: true, Roles: []string{role}})
	}
	for i := range b.Doors {
		d := &b.Doors[i]
		if i > 0 && b.Doors[i-1].Entry == d.Entry && b.Doors[i-1].Otherwise == d.Otherwise {
			continue // said once for an entry
		}
		if to := d.Otherwise.Anonymous; to.Go != "" {
			p.checkSent(d, to, policy.Visitor{})
		}
		if to := d.Otherwise.Refused; to.Go != "" {
			for _, v := range kinds {
				if !p.checkSent(d, to, v) {
					break
				}
			}
		}
	}
	// After signing in, whoever fits a line and none before it must be admitted there.
	for _, v := range kinds {
		for i, l := range b.Landings.SignIn {
			if l.User != "" || l.Role != "" && !policy.Has(b, v.Roles, l.Role) || l.Role == "" && len(v.Roles) > 0 && i > 0 {
				continue
			}
			if d := arrive(b, l.Go, &v); !goesOn(d, &v) {
				p.turnedAway(l.Position, l.Go, "after signing in", v, d)
			}
			break
		}
	}
	for _, l := range b.Landings.SignOut {
		if d := arrive(b, l.Go, &policy.Visitor{}); !goesOn(d, &policy.Visitor{}) {
			p.turnedAway(l.Position, l.Go, "after signing out", policy.Visitor{}, d)
		}
	}
}

// arrive decides what becomes of a visitor who is sent to an address of this site.
func arrive(b *policy.Book, address string, v *policy.Visitor) policy.Decision {
	_, path, _ := place.SplitTarget(address)
	return b.Decide(policy.Request{Method: "GET", Path: path}, v)
}

// goesOn reports whether a visitor who has been sent somewhere is not turned away there:
// is admitted or, being signed in already, is asked for something more.
func goesOn(d policy.Decision, v *policy.Visitor) bool {
	return d.Outcome == policy.Admit || v.SignedIn && d.Outcome == policy.Challenge
}

// checkSent checks one kind of visitor that a door sends elsewhere, and follows the way
// while others send on. It returns false if it has warned.
func (p *reader) checkSent(d *policy.Door, to policy.Instead, v policy.Visitor) bool {
	b := p.Book
	from := d.Example()
	example := policy.Request{Method: from.Method, Host: from.Host, Path: policy.Escape(from)}
	first := b.Decide(example, &v)
	if first.Door != d || first.Instead != to {
		return true // this visitor is not sent, or not by this door
	}
	way := []string{to.Go}
	for {
		next := arrive(b, way[len(way)-1], &v)
		if goesOn(next, &v) {
			return true
		}
		onward := next.Instead.Go
		if onward == "" {
			p.turnedAway(to.Position, to.Go, "from "+d.Label(), v, next)
			return false
		}
		for _, before := range way {
			if before == onward {
				p.Warn(to.Position, utf8.RuneCountInString(to.Go), "go-loop", "%s is redirected in a circle: from %s to %s, then to %s again",
					v, d.Label(), strings.Join(way, ", then to "), onward)
				p.Findings[len(p.Findings)-1].Witness = &document.Witness{
					Method: "GET", Host: from.Host, Path: from.Path, Visitor: v.String(), Outcome: string(first.Outcome),
				}
				return false
			}
		}
		way = append(way, onward)
	}
}

// checkShells says what it means that the page of an application is public, unless the policy promises that its first page is.
func (p *reader) checkShells() {
	for i := range p.Book.Sources {
		s := &p.Book.Sources[i]
		first := place.Place{Method: "GET", Path: s.Path, Slash: true}
		if !s.Shell || slices.ContainsFunc(p.Book.Guarantees, func(g policy.Guarantee) bool {
			return g.Always && g.Demand().Kind == policy.Public && g.Covers(first)
		}) {
			continue
		}
		p.Warn(s.Position, utf8.RuneCountInString(s.Files), "shell-is-public",
			"everyone can read the code of the application at %s, even at protected routes, so protect the data where it is served; to "+
				"confirm this, open %[1]s with a door and guarantee it: - { path: %[1]s, always: public }", s.Path)
		p.Findings[len(p.Findings)-1].Witness = &document.Witness{Method: "GET", Path: s.Path, Visitor: "anonymous"}
	}
}

func (p *reader) turnedAway(at document.Position, to, when string, v policy.Visitor, d policy.Decision) {
	door := "it has no door"
	if d.Door != nil && d.Door != &p.Book.Unlisted {
		door = d.Door.Named() + " asks for " + d.Door.Ask()
	}
	p.Warn(at, utf8.RuneCountInString(to), "go-turned-away", "%s is sent to %s %s and turned away again: %s", v, to, when, door)
	p.Findings[len(p.Findings)-1].Witness = &document.Witness{
		Method: "GET", Path: d.Place.Path, Visitor: v.String(), Outcome: string(d.Outcome),
	}
}
