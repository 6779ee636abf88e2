package prove

import (
	"cmp"
	"fmt"
	"path"
	"slices"
	"strings"
	"unicode/utf8"

	"ostiarius/core/document"
	"ostiarius/core/place"
	"ostiarius/core/policy"
)

// Check returns all that can be proven to be wrong with a Book, or to be worth a look, in
// the order of the file: guarantees that do not hold, and what Findings returns. The file
// is named in the findings.
func Check(b *policy.Book, file string) []document.Finding {
	g, err := Survey(b)
	if err != nil {
		findings := unkept(b, unproven(b, err), file)
		return append(findings, document.Finding{
			Severity: document.SeverityWarning, Rule: "not-examined", File: file, Line: 1, Column: 1,
			Message: "the doors could not be examined: " + err.Error(),
		})
	}
	findings := append(unkept(b, g.Guarantees(), file), g.Findings(file)...)
	document.SortFindings(findings)
	return findings
}

// A finder collects findings about a Ground.
type finder struct {
	*Ground
	file     string
	findings []document.Finding
}

// Findings returns what is worth a look, each with a witness. Each is exact: it is there
// if and only if some place and some visitor, of all, show what its rule says.
func (g *Ground) Findings(file string) []document.Finding {
	f := &finder{Ground: g, file: file}
	f.idle()
	f.needless()
	f.crossing()
	f.exceptions()
	f.methods()
	f.spellings()
	f.roles()
	f.impossible()
	f.aside()
	return f.findings
}

func (f *finder) warn(at document.Position, written, rule string, w *document.Witness, format string, args ...any) {
	f.findings = append(f.findings, document.Finding{
		Severity: document.SeverityWarning, Rule: rule, Message: fmt.Sprintf(format, args...), File: f.file,
		Line: at.Line, Column: at.Column, Length: utf8.RuneCountInString(written), Witness: w,
	})
}

func (f *finder) warnDoor(d *policy.Door, rule string, w *document.Witness, format string, args ...any) {
	f.warn(d.Position, d.Written, rule, w, format, args...)
}

// idle finds doors that never decide: whatever they cover, narrower doors cover too.
func (f *finder) idle() {
	for i, decides := range f.decisive() {
		if !decides {
			d := &f.book.Doors[i]
			p := d.Example()
			f.warnDoor(d, "door-never-decides", f.witness(p, &policy.Visitor{}),
				"this door never decides: narrower doors cover all its places, as %s covers %s", named(f.book.Deciding(p)), p.Path)
		}
	}
}

// decisive tells of each door whether it decides anywhere.
func (f *finder) decisive() []bool {
	decides := make([]bool, f.doors)
	for _, part := range f.parts {
		for _, id := range f.matcher.Narrowest(f.covering(part)) {
			decides[id] = true
		}
	}
	return decides
}

// needless finds doors that could be left out, each for itself, and every visitor would
// still get the same answer everywhere, because other doors give it. What only the rule
// for unlisted places would answer alike is left alone: such a door says that its places
// were thought of.
func (f *finder) needless() {
	needed := make([]bool, f.doors)
	alike := map[string]bool{} // two groups of doors, by what they say -> whether they decide alike
	unclear := map[int32]error{}
	instead := make(map[int32][]*policy.Door)
	for _, part := range f.parts {
		covering := f.covering(part)
		for _, id := range f.matcher.Narrowest(covering) {
			if needed[id] {
				continue
			}
			without := slices.DeleteFunc(slices.Clone(covering), func(other int32) bool { return other == id })
			if len(without) == 0 {
				needed[id] = true
				continue
			}
			now, then := f.deciding(covering), f.deciding(without)
			pair := saying(now) + " / " + saying(then)
			same, known := alike[pair]
			if !known {
				var err error
				if same, err = f.decideAlike(part.Example, now, then); err != nil {
					unclear[id] = err
				}
				alike[pair] = same
			}
			if !same {
				needed[id] = true
				continue
			}
			instead[id] = then
		}
	}
	for i := range f.book.Doors {
		doors := instead[int32(i)]
		if d := &f.book.Doors[i]; len(doors) > 0 && !needed[i] {
			f.warnDoor(d, "door-not-needed", f.witness(d.Example(), &policy.Visitor{}),
				"this door could be left out: without it every visitor gets the same answer everywhere, by %s", named(doors))
		}
	}
	for i := range f.book.Doors {
		if err := unclear[int32(i)]; err != nil {
			f.warnDoor(&f.book.Doors[i], "not-examined", nil, "whether this door is needed could not be examined: %v", err)
		}
	}
}

// saying is all of some doors that a decision depends on.
func saying(doors []*policy.Door) string {
	var b strings.Builder
	for _, d := range doors {
		fmt.Fprintf(&b, "%s|%t|%s|%s|%s;", d.Admit, d.Basic, d.Realm, d.Otherwise.Anonymous, d.Otherwise.Refused)
	}
	return b.String()
}

// decideAlike reports whether two groups of doors would give every visitor the same answer
// at a place.
func (f *finder) decideAlike(p place.Place, one, other []*policy.Door) (bool, error) {
	all, err := visitors(append(demands(one), demands(other)...), f.book)
	if err != nil {
		return false, err
	}
	return !slices.ContainsFunc(all, func(v policy.Visitor) bool {
		return shown(f.book.Judge(p, one, &v)) != shown(f.book.Judge(p, other, &v))
	}), nil
}

// crossing finds doors that cross and ask for different things, so that places which both
// cover ask for both. It is said once at the door that crosses the most others.
func (f *finder) crossing() {
	meet := map[int32]map[int32]place.Place{}
	note := func(a, b int32, p place.Place) {
		if meet[a] == nil {
			meet[a] = map[int32]place.Place{}
		}
		if _, known := meet[a][b]; !known {
			meet[a][b] = p
		}
	}
	for _, part := range f.parts {
		narrowest := f.matcher.Narrowest(f.covering(part))
		for i, a := range narrowest {
			for _, b := range narrowest[i+1:] {
				if f.book.Doors[a].Admit.String() != f.book.Doors[b].Admit.String() {
					note(a, b, part.Example)
					note(b, a, part.Example)
				}
			}
		}
	}
	var doors []int32
	for id := range meet {
		doors = append(doors, id)
	}
	slices.SortFunc(doors, func(a, b int32) int {
		return cmp.Or(cmp.Compare(len(meet[b]), len(meet[a])), cmp.Compare(a, b))
	})
	for _, id := range doors {
		var others []int32
		for other := range meet[id] {
			others = append(others, other)
		}
		if len(others) == 0 {
			continue
		}
		slices.Sort(others)
		var names []string
		first := meet[id][others[0]]
		for _, other := range others {
			names = append(names, named([]*policy.Door{&f.book.Doors[other]}))
			delete(meet[other], id)
		}
		d := &f.book.Doors[id]
		f.warnDoor(d, "doors-cross", f.witness(first, &policy.Visitor{}),
			"this door crosses %s: neither lies inside the other, so at places that both cover, as %s, both must admit", several(names, 4),
			first.Path)
		meet[id] = nil
	}
}

// exceptions finds what a narrower door decides the other way than a wider one: places
// under a closed door that are open to everybody, unless a guarantee says that they are,
// and doors for nobody under an open one.
func (f *finder) exceptions() {
	said := map[int32]bool{}
	open := map[string]*opened{}
	var order []*opened
	defer func() {
		for _, o := range order {
			f.warnOpened(o)
		}
	}()
	for _, part := range f.parts {
		covering := f.covering(part)
		narrowest := f.matcher.Narrowest(covering)
		isOpen := len(narrowest) > 0 && !slices.ContainsFunc(narrowest, func(id int32) bool { return !f.book.Doors[id].IsPublic() })
		for _, id := range narrowest {
			d := &f.book.Doors[id]
			if said[id] || !isOpen && !d.AsksNobody() {
				continue
			}
			around := slices.DeleteFunc(slices.Clone(covering), func(other int32) bool { return !f.matcher.Inside(int(id), int(other)) })
			if len(around) == 0 {
				continue
			}
			wider := f.deciding(around)
			widerOpen := !slices.ContainsFunc(wider, func(d *policy.Door) bool { return !d.IsPublic() })
			switch {
			case isOpen && !widerOpen && !f.promisedOpen(d):
				said[id] = true
				beneath := named(wider) + ", which asks for " + asks(wider)
				key := beneath + of(d)
				if open[key] == nil {
					open[key] = &opened{beneath: beneath, of: of(d), example: part.Example}
					order = append(order, open[key])
				}
				open[key].doors = append(open[key].doors, d)
			case !isOpen && d.AsksNobody() && widerOpen:
				said[id] = true
				f.warnDoor(d, "nobody-under-open", f.witness(part.Example, &policy.Visitor{}),
					"this door lets nobody in at %s, beneath %s, which is open to everybody", part.Example.Path, named(wider))
			}
		}
	}
}

// opened are doors that open places to everybody beneath the same closed ones.
type opened struct {
	beneath string
	of      string // the hosts and methods that they are for, as a guarantee has them
	doors   []*policy.Door
	example place.Place // that the first of them opens
}

// of is for which hosts and methods a door is, as more keys of a guarantee.
func of(d *policy.Door) (keys string) {
	if !d.Host.Any() {
		keys += fmt.Sprintf(", host: %q", d.Host.String())
	}
	if !d.Methods.Any() {
		keys += ", methods: [ " + strings.Join(d.Methods.Names(), ", ") + " ]"
	}
	return keys
}

// warnOpened says it once for all of them, with the guarantee by which they are meant.
func (f *finder) warnOpened(o *opened) {
	first := o.doors[0]
	slices.SortFunc(o.doors, func(a, b *policy.Door) int {
		return cmp.Or(cmp.Compare(a.Line, b.Line), cmp.Compare(a.Column, b.Column))
	})
	var paths, others []string
	for _, d := range o.doors {
		path := d.Written
		if !plainPath(path) {
			path = fmt.Sprintf("%q", path)
		}
		if !slices.Contains(paths, path) {
			paths = append(paths, path)
		}
		if d != first {
			others = append(others, named([]*policy.Door{d}))
		}
	}
	at := paths[0]
	if len(paths) > 1 {
		at = "[ " + strings.Join(paths, ", ") + " ]"
	}
	also := ""
	if len(others) > 0 {
		also = ", as " + strings.Join(others, ", ") + " do with theirs"
	}
	f.warnDoor(first, "open-under-closed", f.witness(o.example, &policy.Visitor{}),
		"this door opens %s to everybody%s, beneath %s; if that is meant, this guarantee says so: - { path: %s%s, always: public }",
		o.example.Path, also, o.beneath, at, o.of)
}

// plainPath reports whether a path with stars can stand in YAML as it is.
func plainPath(path string) bool {
	return strings.HasPrefix(path, "/") && !strings.ContainsAny(path, " :#,[]{}\"'`")
}

func asks(doors []*policy.Door) string {
	var all []string
	for _, d := range doors {
		all = append(all, d.Admit.String())
	}
	return strings.Join(all, " and ")
}

// promisedOpen reports whether a guarantee says that all places of a door are open to
// everybody.
func (f *finder) promisedOpen(d *policy.Door) bool {
	for i := range f.book.Guarantees {
		if g := &f.book.Guarantees[i]; g.Always && g.Demand().Kind == policy.Public && d.Set.Within(g.Set) {
			return true
		}
	}
	return false
}

// methods finds addresses that are closed to a GET while another method is open to
// everybody. All addresses are looked at: they are divided anew by the doors' hosts and
// paths alone, and of each division all methods that a door around it names.
func (f *finder) methods() {
	sets := setsOf(f.book)
	if !slices.ContainsFunc(sets, func(s place.Set) bool { return !s.Methods.Any() }) {
		return
	}
	for i := range sets {
		sets[i].Methods = place.Methods{}
	}
	matcher, _ := place.NewMatcher(sets)
	parts, err := matcher.Parts(maxSteps)
	if err != nil {
		f.findings = append(f.findings,
			document.Finding{Severity: document.SeverityWarning, Rule: "not-examined", File: f.file, Line: 1, Column: 1,
				Message: "the methods could not be examined: " + blame(err, func(set int) string { return nameAmong(f.book, set) }).Error()})
		return
	}
	said := map[*policy.Door]bool{}
	for _, part := range parts {
		p := part.Example
		if f.book.IsOwn(p) {
			continue
		}
		p.Method = "GET"
		closed := f.book.Deciding(p)[0]
		if said[closed] || closed == &f.book.Unlisted || f.isOpen(p) {
			continue
		}
		for _, method := range f.methodsAt(part) {
			other := p
			other.Method = method
			if !f.isOpen(other) {
				continue
			}
			said[closed] = true
			f.warnDoor(closed, "method-open", f.witness(other, &policy.Visitor{}),
				"GET %s asks for %s, but %s %s is open to everybody, by %s", p.Path, closed.Admit, method, p.Path, named(f.book.Deciding(other)))
			break
		}
	}
}

// methodsAt returns the methods that the doors around a part tell apart, and one that
// none of them names.
func (f *finder) methodsAt(part place.Part) []string {
	var all []string
	for _, id := range part.Covering {
		if int(id) < f.doors {
			all = append(all, f.book.Doors[id].Methods.Names()...)
		}
	}
	for _, method := range []string{"POST", "PUT", "DELETE", "PATCH", "X-OTHER"} {
		if !slices.Contains(all, method) {
			all = append(all, method)
			break
		}
	}
	slices.SortFunc(all, func(a, b string) int { return cmp.Or(strings.Compare(order(a), order(b)), strings.Compare(a, b)) })
	return all
}

func order(method string) string {
	if i := slices.Index([]string{"POST", "PUT", "DELETE", "PATCH"}, method); i >= 0 {
		return fmt.Sprint(i)
	}
	return "9"
}

func (f *finder) isOpen(p place.Place) bool {
	return f.book.Decide(policy.RequestFor(p), &policy.Visitor{}).Public
}

// The endings that servers commonly add to or take from the address of a page.
var endings = []string{"", ".html", ".htm", ".php", "/index.html", "/index.htm", "/index.php"}

// spellings finds pages whose address a door names and closes, while an address that many
// servers answer with the same page is open to everybody: /report and /report.html. A door
// for a directory, such as /report/**, names the address of the directory.
func (f *finder) spellings() {
	for i := range f.book.Doors {
		d := &f.book.Doors[i]
		address, isDirectory := strings.CutSuffix(d.Path.String(), "/**")
		if address == "" && isDirectory || strings.Contains(address, "*") || !d.Methods.Covers("GET") {
			continue
		}
		page := d.Example()
		page.Method, page.Path = "GET", path.Clean("/"+address)
		if !slices.Contains(f.book.Deciding(page), d) || f.isOpen(page) {
			continue
		}
		stem := page.Path
		for _, ending := range endings[1:] {
			if cut, ok := strings.CutSuffix(page.Path, ending); ok && cut != "" && !strings.HasSuffix(cut, "/") {
				stem = cut
			}
		}
		for _, ending := range endings {
			other := page
			other.Path = strings.TrimSuffix(stem, "/") + ending
			if other.Path == page.Path || other.Path == "" || f.book.IsOwn(other) || !f.isOpen(other) {
				continue
			}
			f.warnDoor(d, "sibling-open", f.witness(other, &policy.Visitor{}),
				"%s asks for %s, but %s is open to everybody, by %s; many servers give the same page for both", page.Path, d.Admit, other.Path,
				named(f.book.Deciding(other)))
			break
		}
	}
}

// roles finds roles that open no door, and such as open the built-in doors of the administration.
func (f *finder) roles() {
	for _, r := range f.book.Roles {
		switch {
		case r.Name == policy.Steward:
		case f.book.Satisfies(r.Name, policy.Steward):
			f.warn(r.Position, r.Name, "role-administers", nil, "the role %s includes steward: who has it may administer Ostiarius, and so do "+
				"everything; if that is not meant, leave steward out", r.Name)
		case !f.book.Matters(r.Name):
			f.warn(r.Position, r.Name, "role-not-asked", nil,
				"no door asks for the role %s, nor for one that it includes: to have it changes nothing", r.Name)
		}
	}
}

// impossible finds doors that ask for what nobody can show at once.
func (f *finder) impossible() {
	possible := map[string]bool{}
	for i := range f.book.Doors {
		d := &f.book.Doors[i]
		if d.AsksNobody() {
			continue
		}
		says := d.Admit.String()
		can, known := possible[says]
		if !known {
			all, err := visitors([]policy.Demand{d.Admit}, f.book)
			if err != nil {
				f.warnDoor(d, "not-examined", nil, "whether anybody can meet what this door asks could not be examined: %v", err)
			}
			can = err != nil || slices.ContainsFunc(all, func(v policy.Visitor) bool {
				return f.book.Judge(d.Example(), []*policy.Door{d}, &v).Outcome == policy.Admit
			})
			possible[says] = can
		}
		if !can {
			f.warnDoor(d, "nobody-can", f.witness(d.Example(), &policy.Visitor{SignedIn: true, Roles: f.book.RoleNames()}),
				"nobody can show all that this door asks at once (%s); if nobody is meant, admit: nobody says so", says)
		}
	}
}

// aside finds guarantees about places where no door of the policy decides anything.
func (f *finder) aside() {
	guarded := make([]bool, len(f.book.Guarantees))
	for _, part := range f.parts {
		if len(f.covering(part)) == 0 {
			continue
		}
		for _, id := range part.Covering {
			if int(id) >= f.first {
				guarded[int(id)-f.first] = true
			}
		}
	}
	for i := range f.book.Guarantees {
		if g := &f.book.Guarantees[i]; !guarded[i] {
			f.warn(g.Position, g.Written, "guarantee-no-door", f.witness(g.Example(), &policy.Visitor{}),
				"no door covers any place of this guarantee, so it is only about the rule for unlisted places; is the path as meant?")
		}
	}
}
