package site

import (
	"cmp"
	"fmt"
	"maps"
	"path"
	"slices"
	"strings"

	"ostiarius/core/document"
	"ostiarius/core/pattern"
	"ostiarius/core/place"
	"ostiarius/core/policy"
	"ostiarius/core/policy/edit"
)

// A Stance says what a first policy does with what it knows nothing of.
type Stance string

// Of what nobody has decided yet, Closed asks to sign in, and Open lets everybody see. What is surely not for
// strangers is closed in both.
const (
	Closed Stance = "closed"
	Open   Stance = "open"
)

// A Sketch is what a first policy is made of.
type Sketch struct {
	Stance Stance
	Site   string        // its name; "" if it is not known
	Files  string        // the directory of its files, "" for none
	Proxy  string        // the server that answers, "" for none
	From   string        // where the places are from, in words, such as "the files in ./public"
	Places []place.Place // that are known

	Open  bool              // what looks public is open, and not only offered in comments
	Roles map[string]string // path of a proposal for some people -> the role that they have
}

// A Proposal is a door that a site may need, and why.
type Proposal struct {
	Path  string      `json:"path"` // a pattern
	Admit policy.Kind `json:"admit" enum:"nobody|signed-in|public"`
	Why   string      `json:"why"`
}

// Propose returns the doors that a site may need, by the names of its places: first what is surely for nobody, then
// what is perhaps for some people only, then what looks as if it were for everybody.
func Propose(places []place.Place) (all []Proposal) {
	never, some := private(places)
	for _, group := range []struct {
		admit   policy.Kind
		reasons []reason
	}{{policy.Nobody, never}, {policy.SignedIn, some}, {policy.Public, public(places, never, some)}} {
		for _, r := range group.reasons {
			all = append(all, Proposal{r.path, group.admit, r.why})
		}
	}
	return all
}

// Draft writes a first policy, in the text of which each line says why it stands there. It has no errors.
func Draft(s Sketch) string {
	var b strings.Builder
	line := func(format string, args ...any) { fmt.Fprintf(&b, format+"\n", args...) }
	line("# A first policy, made of %s. Every line says why it stands here; change what is not so.", s.From)
	line("site: %s", document.Scalar(cmp.Or(s.Site, "This site")))
	line("")
	switch {
	case s.Files != "":
		line("sources:                             # what stands behind the doors")
		line("  - { path: /, files: %s }", document.Scalar(s.Files))
		line("")
	case s.Proxy != "":
		line("sources:                             # what stands behind the doors")
		line("  - { path: /, proxy: %s }", document.Scalar(s.Proxy))
		line("")
	}
	line("# What no door covers. Of the doors below, the most specific one decides, wherever it stands.")
	line("unlisted: signed-in")
	line("")
	if len(s.Roles) > 0 {
		line("roles:                               # people get them by name, with: ostiarius people grant")
		for _, role := range slices.Compact(slices.Sorted(maps.Values(s.Roles))) {
			line("  %s:", role)
		}
		line("")
	}
	line("doors:")
	if s.Stance == Open {
		line("  - { path: /**, admit: public }       # everyone can see places without a door below")
	} else {
		line("  - { path: /**, admit: signed-in }    # visitors have to sign in, except as the doors below say")
	}
	headings := map[policy.Kind]string{
		policy.Nobody:   "Probably shouldn't be on the web at all. Remove these files.",
		policy.SignedIn: "These look private. Choose who can see them: { role: NAME }, with the role under roles.",
		policy.Public:   "These look public. Remove the first # of the ones that are.",
	}
	mark := map[policy.Kind]string{policy.Public: "# "}
	if s.Open {
		headings[policy.Public], mark[policy.Public] = "Public places.", ""
	}
	var last policy.Kind
	for _, p := range Propose(s.Places) {
		if p.Admit == policy.Public && s.Stance == Open {
			continue // as everything is
		}
		if p.Admit != last {
			line("")
			line("  # %s", headings[p.Admit])
			last = p.Admit
		}
		admit := string(p.Admit)
		if role := s.Roles[p.Path]; role != "" && p.Admit == policy.SignedIn {
			admit = "{ role: " + role + " }"
		}
		line("  %s- { path: %s, admit: %s }%s# %s", mark[p.Admit], document.Scalar(p.Path), admit, gap(p.Path, len(mark[p.Admit]+admit)+7), p.Why)
	}
	return b.String()
}

// Undecided returns the proposals that would change something: what is surely for nobody and is not closed yet, what
// is perhaps for some people and open to strangers, and what looks public and is not.
func Undecided(book *policy.Book, all []Proposal) (left []Proposal) {
	stranger, member := &policy.Visitor{}, &policy.Visitor{SignedIn: true}
	for _, p := range all {
		set, err := edit.NewDoor(book, p.Path, "")
		if err != nil || book.DoorFor(set.Set) != nil {
			continue
		}
		at, _ := strings.CutSuffix(p.Path, "/**")
		r := policy.Request{Method: "GET", Path: strings.ReplaceAll(cmp.Or(at, "/"), "*", "x")}
		open := book.Decide(r, stranger).Outcome == policy.Admit
		switch p.Admit {
		case policy.Nobody:
			if open || book.Decide(r, member).Outcome == policy.Admit {
				left = append(left, p)
			}
		case policy.SignedIn:
			if open {
				left = append(left, p)
			}
		case policy.Public:
			if !open {
				left = append(left, p)
			}
		}
	}
	return left
}

// gap aligns the reasons, where the paths are not too long.
func gap(p string, rest int) string {
	return strings.Repeat(" ", max(2, 38-len(document.Scalar(p))-rest))
}

// unwritable are characters of names that stand for themselves in no pattern.
var unwritable = pattern.New(`[%#?;\\]`)

// A reason is a place or what is below it, and why it is told of.
type reason struct{ path, why string }

// private finds what is not for strangers: what is for nobody at all, and what is for some people.
func private(places []place.Place) (never, some []reason) {
	seen := map[string]bool{}
	var eye looker
	for _, p := range places {
		if eye.about(p.Path) == "" {
			continue
		}
		// The first segment that worries stands for all that is below it.
		at := ""
		for segment := range strings.SplitSeq(strings.TrimPrefix(p.Path, "/"), "/") {
			at += "/" + segment
			why := known.about(segment)
			if why == "" {
				continue
			}
			pattern := at
			if at != p.Path || p.Slash {
				pattern += "/**"
			}
			// A name can have characters that stand for others in a pattern, or cannot stand there.
			pattern = unwritable.ReplaceAllString(pattern, "*")
			if _, err := place.ParsePattern(pattern, place.Rules{}); err != nil || seen[pattern] {
				break
			}
			seen[pattern] = true
			if r := (reason{pattern, why}); why == forAdministrators || why == forSome {
				some = append(some, r)
			} else {
				never = append(never, r)
			}
			break
		}
	}
	byPath := func(a, b reason) int { return strings.Compare(a.path, b.path) }
	slices.SortFunc(never, byPath)
	slices.SortFunc(some, byPath)
	return never, some
}

// The most lines for what looks public.
const mostPublic = 40

// public finds what looks as if it were for everybody: the first page, and what stands directly below it.
func public(places []place.Place, but ...[]reason) (all []reason) {
	closed := map[string]bool{}
	for _, reasons := range but {
		for _, r := range reasons {
			closed[strings.TrimSuffix(r.path, "/**")] = true
		}
	}
	pages, files := map[string]int{}, map[string]int{}
	deep := map[string]bool{} // there is something below
	first, last, odd := false, "", false
	for _, p := range places {
		if p.Path == "/" {
			first = true
			continue
		}
		top, _, below := strings.Cut(p.Path[1:], "/")
		at := "/" + top
		if at != last {
			last, odd = at, closed[at] || strings.Contains(at, "*") || unwritable.MatchString(at)
		}
		if odd {
			continue
		}
		deep[at] = deep[at] || below || p.Slash
		if p.Slash || path.Ext(p.Path) == ".html" || path.Ext(p.Path) == ".htm" || path.Ext(p.Path) == "" {
			pages[at]++
		} else {
			files[at]++
		}
	}
	if first {
		all = append(all, reason{"/", "the first page"})
	}
	var tops []string
	for at := range pages {
		tops = append(tops, at)
	}
	for at := range files {
		if pages[at] == 0 {
			tops = append(tops, at)
		}
	}
	slices.Sort(tops)
	for i, at := range tops {
		if i == mostPublic {
			break
		}
		r := reason{at + "/**", counted(pages[at], files[at])}
		if !deep[at] {
			r = reason{at, "a page"}
			if pages[at] == 0 {
				r.why = "a file"
			}
		}
		all = append(all, r)
	}
	return all
}

func counted(pages, files int) string {
	amount := func(n int, noun string) string {
		if n == 1 {
			return "1 " + noun
		}
		return fmt.Sprintf("%d %ss", n, noun)
	}
	switch {
	case files == 0:
		return amount(pages, "page")
	case pages == 0:
		return amount(files, "file")
	}
	return amount(pages, "page") + " and " + amount(files, "file")
}
