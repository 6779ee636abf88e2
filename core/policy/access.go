package policy

import (
	"cmp"
	"math"
	"net/url"
	"slices"
	"strings"
	"time"

	"github.com/goccy/go-yaml/ast"

	"ostiarius/core/place"
)

// A DeclaredShared is a shared password as the policy declares it: one password that opens doors for all who
// have it. The password itself is a record.
type DeclaredShared struct {
	Name  string
	Title string        // what it opens, for people
	Say   string        // what the page says where it is asked for; "" for the usual words
	Lasts time.Duration // how long an unlock lasts; 0 until the browser is closed
	// Forever says that an unlock does not end by itself.
	Forever bool
	Position
}

// Ends returns when an unlock ends that was made at a time; zero for never. One that lasts until the browser is
// closed ends by itself when it is so old that no browser can have stayed open.
func (d *DeclaredShared) Ends(made time.Time) time.Time {
	switch {
	case d.Forever:
		return time.Time{}
	case d.Lasts == 0:
		return made.Add(longestOpen)
	}
	return made.Add(d.Lasts)
}

const longestOpen = 30 * 24 * time.Hour

// A DeclaredPass is a kind of pass as the policy declares it: what passes of that name have in common.
type DeclaredPass struct {
	Name      string
	Title     string        // what it opens, for people, and the realm of HTTP Basic
	Say       string        // how to ask for another one; "" for the usual words
	Go        string        // where a pass leads; "" for the first place that it opens
	Lasts     time.Duration // 0 for no end
	FirstUse  bool          // that counts from the first use and not from the issue
	Downloads int           // 0 for any number
	Networks  int           // from which one pass may be used within a day; 0 for any number
	Pause     bool          // a pass that is used from more is paused, and not only marked
	Position
}

// What passes are like of which the policy does not say.
const (
	usualPassLasts    = 14 * 24 * time.Hour
	usualPassNetworks = 4
)

func (p *reader) shared(n ast.Node) {
	if _, empty := n.(*ast.NullNode); empty {
		return
	}
	for _, f := range p.fields(n, "shared", nil) {
		if !p.name(f.key, "shared password", f.name) {
			continue
		}
		d := DeclaredShared{Name: f.name, Title: f.name, Position: position(f.key)}
		if _, empty := f.value.(*ast.NullNode); !empty {
			for _, inner := range p.fields(f.value, "shared password "+f.name, []string{"title", "say", "lasts"}) {
				switch inner.name {
				case "title":
					p.textInto(&d.Title, inner)
				case "say":
					p.textInto(&d.Say, inner)
				case "lasts":
					d.Lasts, d.Forever = p.lasts(inner.value)
				}
			}
		}
		p.book.Shared = append(p.book.Shared, d)
	}
}

func (p *reader) passes(n ast.Node) {
	if _, empty := n.(*ast.NullNode); empty {
		return
	}
	for _, f := range p.fields(n, "passes", nil) {
		if !p.name(f.key, "kind of pass", f.name) {
			continue
		}
		d := DeclaredPass{Name: f.name, Title: f.name, Lasts: usualPassLasts, Networks: usualPassNetworks, Position: position(f.key)}
		if _, empty := f.value.(*ast.NullNode); !empty {
			for _, inner := range p.fields(f.value, "kind of pass "+f.name,
				[]string{"title", "say", "go", "lasts", "counts-from", "downloads", "networks", "spread"}) {
				p.passKey(&d, inner)
			}
		}
		p.book.Passes = append(p.book.Passes, d)
	}
}

func (p *reader) passKey(d *DeclaredPass, f field) {
	switch f.name {
	case "title":
		p.textInto(&d.Title, f)
	case "say":
		p.textInto(&d.Say, f)
	case "go":
		d.Go = p.target(f.value)
	case "lasts":
		lasts, forever := p.lasts(f.value)
		if d.Lasts = lasts; lasts == 0 && !forever {
			p.at(f.value, "bad-value", "a pass lasts for a time such as 14d, or forever")
		}
	case "counts-from":
		d.FirstUse = p.word(f.value, "counts-from", "issue", "first-use") == "first-use"
	case "downloads":
		d.Downloads = p.anyOrNumber(f)
	case "networks":
		d.Networks = p.anyOrNumber(f)
	case "spread":
		d.Pause = p.word(f.value, "spread", "note", "pause") == "pause"
	}
}

func (p *reader) textInto(to *string, f field) {
	if s, ok := p.text(f.value, f.name); ok {
		*to = s
	}
}

// lasts reads a duration or the word forever.
func (p *reader) lasts(n ast.Node) (d time.Duration, forever bool) {
	if s, ok := n.(*ast.StringNode); ok && s.Value == "forever" {
		return 0, true
	}
	d, _ = p.duration(n, "lasts")
	return d, false
}

// anyOrNumber reads a number from 1 on, or the word any, which is 0.
func (p *reader) anyOrNumber(f field) int {
	switch n := f.value.(type) {
	case *ast.StringNode:
		if n.Value == "any" {
			return 0
		}
	case *ast.IntegerNode:
		if v, ok := n.Value.(uint64); ok && v >= 1 && v <= math.MaxInt32 {
			return int(v)
		}
	}
	p.at(f.value, "bad-value", "%s is a number from 1 on, or any", f.name)
	return 0
}

// checkAccess says which shared passwords and kinds of pass are named and not declared.
func (p *reader) checkAccess() {
	var shared, passes []string
	for _, d := range p.book.Shared {
		shared = append(shared, d.Name)
	}
	for _, d := range p.book.Passes {
		passes = append(passes, d.Name)
	}
	for _, use := range p.sharedUses {
		if !slices.Contains(shared, use.name) {
			p.at(use.at, "unknown-shared", "unknown shared password %q%s; shared passwords are declared under the key shared", use.name,
				strings.TrimSuffix(didYouMean(use.name, shared), "?"))
		}
	}
	for _, use := range p.passUses {
		if !slices.Contains(passes, use.name) {
			p.at(use.at, "unknown-pass", "unknown kind of pass %q%s; kinds of pass are declared under the key passes", use.name,
				strings.TrimSuffix(didYouMean(use.name, passes), "?"))
		}
	}
}

// SharedNamed returns what the policy declares of a shared password; nil if it does not.
func SharedNamed(b *Book, name string) *DeclaredShared {
	if i := slices.IndexFunc(b.Shared, func(d DeclaredShared) bool { return d.Name == name }); i >= 0 {
		return &b.Shared[i]
	}
	return nil
}

// PassNamed returns what the policy declares of a kind of pass; nil if it does not.
func PassNamed(b *Book, name string) *DeclaredPass {
	if i := slices.IndexFunc(b.Passes, func(d DeclaredPass) bool { return d.Name == name }); i >= 0 {
		return &b.Passes[i]
	}
	return nil
}

// Opened returns the first place that opens to holders of a pass, or to visitors who know a shared password: of the doors that ask for
// it, the one that stands first and at which something is known to answer; "/" if there is none. It is percent-encoded, as in a link.
func Opened(b *Book, kind Kind, name string) string {
	first := ""
	for i := range b.Doors {
		d := &b.Doors[i]
		if !names(d.Admit, kind, name) {
			continue
		}
		path, below := strings.CutSuffix(d.Path.String(), "/**")
		if strings.Contains(path, "*") {
			continue
		}
		if below {
			path += "/"
		}
		if b.answers == nil {
			return inLink(path)
		}
		first = cmp.Or(first, path)
		at := b.answers(place.Place{Method: "GET", Host: d.Host.String(), Path: cmp.Or(strings.TrimSuffix(path, "/"), "/"), Slash: below})
		if at != "" && names(b.Deciding(pathOf(at, d.Host.String()))[0].Admit, kind, name) {
			return inLink(at)
		}
	}
	return inLink(cmp.Or(first, "/"))
}

// LinkTo returns a link to a path of the site, percent-encoded: to what is known to answer there or below, as Opened has it.
func LinkTo(b *Book, path string) string {
	if b.answers != nil {
		at := b.answers(pathOf(path, ""))
		if at != "" && b.Deciding(pathOf(at, ""))[0] == b.Deciding(pathOf(path, ""))[0] { // another door may hide the name
			return inLink(at)
		}
	}
	return inLink(path)
}

func inLink(address string) string { return (&url.URL{Path: address}).EscapedPath() }

// pathOf returns the place at an address that was made from a path.
func pathOf(address, host string) place.Place {
	return place.Place{Method: "GET", Host: host, Path: cmp.Or(strings.TrimSuffix(address, "/"), "/"), Slash: strings.HasSuffix(address, "/")}
}

// AnswerBy sets what returns the address at or below a place at which something is known to answer: of a directory that has no page of
// its own, a file in it. It returns "" if nothing does.
func AnswerBy(b *Book, answers func(place.Place) string) { b.answers = answers }

func names(d Demand, kind Kind, name string) bool {
	return d.Kind == kind && slices.Contains(d.Names, name) ||
		slices.ContainsFunc(d.Parts, func(part Demand) bool { return names(part, kind, name) })
}

// MostShared is the most shared passwords that one try is compared with, since each comparison is work on
// purpose.
const MostShared = 4
