// Package site lays a site out as a tree of places, each with what happens there.
package site

import (
	"path"
	"slices"
	"strings"

	"ostiarius/core/place"
	"ostiarius/core/policy"
	"ostiarius/core/policy/edit"
)

// A Spot is a directory or a page of a site.
type Spot struct {
	Path      string         `json:"path"` // canonical
	Directory bool           `json:"directory"`
	Own       bool           `json:"own"`              // a door is written for just this place, or for all below it
	Outcome   policy.Outcome `json:"outcome"`          // what a stranger meets there
	Theirs    policy.Outcome `json:"theirs,omitempty"` // what the visitor meets there who was asked for
	Decider   int            `json:"decider"`          // the index of what decides
	Worry     string         `json:"worry,omitempty"`  // why a place that a stranger can see should perhaps not be seen
}

// A Decider is a door that decides at some places, as people are told of it.
type Decider struct {
	Name     string          `json:"name"`
	Line     int             `json:"line"`           // 0 for none in the file
	Path     string          `json:"path,omitempty"` // as it is written; "" for the rule for unlisted places
	Host     string          `json:"host,omitempty"`
	Methods  []string        `json:"methods,omitempty"`
	Sentence policy.Sentence `json:"sentence"`
	Terms    *edit.Terms     `json:"terms,omitempty"` // nil if it says more than these can
}

// DeciderOf tells people of a door.
func DeciderOf(book *policy.Book, d *policy.Door) Decider {
	told := Decider{Name: d.Named(), Line: d.Line, Path: d.Written, Host: d.Host.String(), Methods: d.Methods.Names(), Sentence: d.Sentence()}
	if terms, ok := edit.TermsOf(d, book); ok {
		told.Terms = &terms
	}
	return told
}

// Spots returns a site as a policy has it: the places that are there, the directories above them, and those that
// doors name, each before what is below it; and what decides at them. With a visitor it says also what that one
// meets; nil for none.
func Spots(book *policy.Book, places []place.Place, as *policy.Visitor) ([]Spot, []Decider) {
	known := map[string]bool{"/": true} // path -> is a directory
	own := map[string]bool{}
	above := func(p string) {
		for p = path.Dir(p); p != "/" && !known[p]; p = path.Dir(p) {
			known[p] = true
		}
	}
	for i := range book.Doors {
		written := book.Doors[i].Path.String()
		at, below := strings.CutSuffix(written, "/**")
		if at == "" {
			at = "/"
		}
		if strings.Contains(at, "*") {
			continue
		}
		own[at] = true
		known[at] = known[at] || below
		above(at)
	}
	for _, p := range places {
		known[p.Path] = known[p.Path] || p.Slash
		above(p.Path)
	}
	all := make([]string, 0, len(known))
	for p := range known {
		all = append(all, p)
	}
	slices.SortFunc(all, compare)
	spots := make([]Spot, len(all))
	stranger, eye := &policy.Visitor{}, looker{}
	deciders, index := []Decider{{Sentence: policy.Sentence{}}}, map[*policy.Door]int{}
	for i, p := range all {
		asked := policy.RequestFor(place.Place{Method: "GET", Path: p, Slash: known[p]})
		d := book.Decide(asked, stranger)
		by, told := index[d.Door]
		if !told && d.Door != nil {
			by = len(deciders)
			index[d.Door] = by
			deciders = append(deciders, DeciderOf(book, d.Door))
		}
		spots[i] = Spot{Path: p, Directory: known[p], Own: own[p], Outcome: d.Outcome, Decider: by}
		if as != nil {
			spots[i].Theirs = book.Decide(asked, as).Outcome
		}
		if d.Outcome == policy.Admit {
			spots[i].Worry = eye.about(p)
		}
	}
	return spots, deciders
}

// compare orders paths so that a directory stands right before all that is below it: a slash before all else.
func compare(a, b string) int {
	for i := range min(len(a), len(b)) {
		switch x, y := a[i], b[i]; {
		case x == y:
		case x == '/':
			return -1
		case y == '/':
			return 1
		default:
			return int(x) - int(y)
		}
	}
	return len(a) - len(b)
}

// Worries about places that are for some people, and not for nobody.
const (
	forAdministrators = "may be for administrators"
	forSome           = "may be private"
)

// worries say what the names of files and directories may hold that is not for strangers.
var worries = []struct {
	why   string
	names []string // of a segment, or its beginning with * behind, or its end with * before
}{
	{"may be a backup", []string{"backup*", "*.bak", "*.old", "*.orig", "*.save", "*~", "old-site*", "*.tar", "*.tar.gz", "*.tgz",
		"*.7z", "*.rar"}},
	{"may be a database dump", []string{"*.sql", "*.sql.gz", "*.sqlite", "*.sqlite3", "*.db", "*.mdb", "dump*"}},
	{"may contain keys or passwords",
		[]string{"*.env", ".env*", "*.pem", "*.key", "*.p12", "*.pfx", "*.kdbx", "id_rsa*", "*password*", "*secret*", ".htpasswd*",
			"*.htpasswd", "credentials*"}},
	{"was left by an editor or tool", []string{".git", ".svn", ".hg", "*.swp", "*.swo", ".DS_Store", "*.log"}},
	{forAdministrators, []string{"admin", "admin.*", "administration", "backend", "intern", "internal", "private", "staff", "staging",
		"test", "tmp"}},
	{"perhaps mail or personal data", []string{"*.mbox", "*.pst", "*.eml", "*.vcf", "mailbox*", "members.csv", "*addresses*.csv"}},
	{forSome, []string{"board", "clients", "crew", "customers", "extranet", "intranet", "invoices", "member", "members", "minutes",
		"office", "payroll", "team"}},
	{"an archive", []string{"*.zip", "*.gz"}},
}

// An index finds the worry about a segment without trying all names.
type index struct {
	whole    map[string]string
	begins   map[byte][][2]string // by the first character: the beginning, and why
	ends     map[byte][][2]string // by the last
	contains [][2]string
}

var known = func() index {
	x := index{map[string]string{}, map[byte][][2]string{}, map[byte][][2]string{}, nil}
	for _, w := range worries {
		for _, name := range w.names {
			name = strings.ToLower(name)
			part := strings.Trim(name, "*")
			switch begins, ends := strings.HasSuffix(name, "*"), strings.HasPrefix(name, "*"); {
			case begins && ends:
				x.contains = append(x.contains, [2]string{part, w.why})
			case begins:
				x.begins[part[0]] = append(x.begins[part[0]], [2]string{part, w.why})
			case ends:
				last := part[len(part)-1]
				x.ends[last] = append(x.ends[last], [2]string{part, w.why})
			default:
				x.whole[name] = w.why
			}
		}
	}
	return x
}()

// about returns the worry about one segment, "" for none.
func (x *index) about(segment string) string {
	if segment == "" {
		return ""
	}
	segment = strings.ToLower(segment)
	if why := x.whole[segment]; why != "" {
		return why
	}
	for _, name := range x.begins[segment[0]] {
		if strings.HasPrefix(segment, name[0]) {
			return name[1]
		}
	}
	for _, name := range x.ends[segment[len(segment)-1]] {
		if len(segment) > len(name[0]) && strings.HasSuffix(segment, name[0]) {
			return name[1]
		}
	}
	for _, name := range x.contains {
		if strings.Contains(segment, name[0]) {
			return name[1]
		}
	}
	return ""
}

// A looker finds the worries about many places, most of which stand in the directory of the one before.
type looker struct{ dir, why string }

func (l *looker) about(p string) string {
	cut := strings.LastIndexByte(p, '/') + 1
	if p[:cut] != l.dir {
		l.dir, l.why = p[:cut], Worry(p[:cut])
	}
	if l.why != "" {
		return l.why
	}
	return known.about(p[cut:])
}

// Worry says why a place that strangers can see should perhaps not be seen, going by its name; "" if there is
// no reason.
func Worry(p string) string {
	for segment := range strings.SplitSeq(p, "/") {
		if why := known.about(segment); why != "" {
			return why
		}
	}
	return ""
}
