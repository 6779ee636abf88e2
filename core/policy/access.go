package policy

import (
	"cmp"
	"net/url"
	"slices"
	"strings"
	"time"

	"ostiarius/core/document"
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
	document.Position
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
	document.Position
}

// What passes are like of which the policy does not say.
const (
	UsualPassLasts    = 14 * 24 * time.Hour
	UsualPassNetworks = 4
)

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
