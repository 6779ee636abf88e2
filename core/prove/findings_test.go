package prove

import (
	"fmt"
	"math/rand/v2"
	"regexp"
	"slices"
	"strings"
	"testing"

	"ostiarius/core/document"
	"ostiarius/core/place"
	"ostiarius/core/policy"
	"ostiarius/core/policy/read"
)

func TestFindings(t *testing.T) {
	const head = "roles: {volunteer: , keeper: {includes: volunteer}, trustee: {includes: keeper}}\nunlisted: signed-in\n"
	const asked = "  - {path: /trustees, admit: {role: volunteer}}\n"
	for _, test := range []struct{ name, text, want string }{
		{"nothing", "doors:\n" + asked, ""},
		{"hidden", "doors:\n" + asked + "  - {path: /a/**, admit: {role: keeper}}\n  - {path: /a, admit: public}\n  - {path: /a/*/**, " +
			"admit: signed-in}\n  - {path: [/a/*], admit: {role: trustee}}\n",
			"5 door-never-decides: narrower doors cover all its places, as line 6 (/a) covers /a | GET /a as anonymous -> admit|6 " +
				"open-under-closed"},
		{"not needed", "doors:\n" + asked + "  - {path: /a/**, admit: {role: keeper}}\n  - {path: /a/b, admit: {role: [keeper, trustee]}}\n",
			"6 door-not-needed: by line 5 (/a/**) | GET /a/b as anonymous -> challenge"},
		{"like unlisted, but thought of", "doors:\n" + asked + "  - {path: /a/**, admit: signed-in}\n", ""},
		{"needed for its words", "doors:\n" + asked + "  - {path: /a/**, admit: {role: keeper}}\n  - {path: /a/b, admit: {role: keeper}, " +
			"otherwise: {refused: {say: Ask}}}\n", ""},
		{"crossing", "doors:\n" + asked + "  - {path: /a/**, admit: {role: keeper}}\n  - {path: /b/**, admit: {role: trustee}}\n  - {path: " +
			"/**/*.map, admit: nobody}\n",
			"7 doors-cross: line 5 (/a/**) and line 6 (/b/**): neither lies inside the other, so at places that both cover, as /a/.map, both " +
				"must admit | GET /a/.map as anonymous -> refuse"},
		{"crossing and asking alike", "doors:\n" + asked + "  - {path: /a/**, admit: {role: keeper}}\n  - {path: /**/*.map, admit: {role: " +
			"keeper}}\n", ""},
		{"an exception", "doors:\n" + asked + "  - {path: /a/**, admit: {role: keeper}}\n  - {path: /a/b/*, admit: public}\n",
			"6 open-under-closed: opens /a/b/x to everybody, beneath line 5 (/a/**), which asks for role: keeper | GET /a/b/x as anonymous -> " +
				"admit"},
		{"a promised exception", "doors:\n" + asked + "  - {path: /a/**, admit: {role: keeper}}\n  - {path: /a/b/*, admit: " +
			"public}\nguarantees: [{path: /a/b/*, always: public}]\n", ""},
		{"nobody beneath an open door", "doors:\n" + asked + "  - {path: /a/**, admit: public}\n  - {path: /a/b/**, admit: nobody}\n",
			"6 nobody-under-open: nobody in at /a/b, beneath line 5 (/a/**) | GET /a/b as anonymous -> refuse|6 sibling-open"},
		{"a method", "doors:\n" + asked + "  - {path: /a/**, admit: public}\n  - {path: /a/log, methods: [GET], admit: {role: keeper}}\n",
			"6 method-open: GET /a/log asks for role: keeper, but POST /a/log is open to everybody, by line 5 (/a/**) | POST /a/log as " +
				"anonymous -> admit|6 sibling-open: /a/log.html"},
		{"a method that is named", "doors:\n" + asked + "  - {path: /a, admit: {role: keeper}}\n  - {path: /a, methods: [DELETE], admit: " +
			"public}\n",
			"5 method-open: DELETE /a is open to everybody, by line 6 (DELETE /a) | DELETE /a as anonymous -> admit|6 open-under-closed"},
		{"with .html", "unlisted: public\ndoors:\n" + asked + "  - {path: /report, admit: {role: keeper}}\n",
			"5 sibling-open: /report asks for role: keeper, but /report.html is open to everybody, by the rule for places without a door; many " +
				"servers | GET /report.html as anonymous -> admit|4 sibling-open"},
		{"without .html", "doors:\n" + asked + "  - {path: /pages/**, admit: public}\n  - {path: /pages/report.html, admit: {role: keeper}}\n",
			"6 sibling-open: /pages/report is open to everybody, by line 5 (/pages/**) | GET /pages/report as anonymous -> admit"},
		{"the index", "doors:\n" + asked + "  - {path: /pages/**, admit: public}\n  - {path: [/pages/old, /pages/old.html, /pages/old.htm, " +
			"/pages/old.php], admit: {role: keeper}}\n",
			"6 sibling-open: /pages/old asks for role: keeper, but /pages/old/index.html is open | GET /pages/old/index.html as anonymous -> " +
				"admit|6|6|6"},
		{"roles", "doors:\n  - {path: /trustees, admit: {role: keeper}}\n", "1 role-not-asked: no door asks for the role volunteer"},
		{"a landing asks for it", "doors: [{path: /trustees, admit: {role: keeper}}]\nlandings: {sign-in: [{role: volunteer, go: /}]}", ""},
		{"impossible", "doors:\n" + asked + "  - {path: /a, admit: {all: [{network: 10.0.0.0/8}, {network: 192.0.2.0/24}, signed-in]}}\n  " +
			"- {path: /b, admit: {all: [{user: ann}, {user: bea}]}}\n",
			"5 nobody-can: (network: 10.0.0.0/8, network: 192.0.2.0/24, signed-in)|6 nobody-can: user: ann, user: bea"},
		{"a guarantee aside", "doors:\n" + asked + "guarantees: [{path: /ofice/**, never: public}]\n",
			"5 guarantee-no-door: is the path as meant? | GET /ofice as anonymous -> challenge"},
		{"own pages", "doors:\n" + asked + "  - {path: /**, admit: {role: volunteer}, otherwise: hide}\n", ""},
	} {
		text := head + test.text
		if strings.Contains(test.text, "unlisted:") {
			text = strings.Replace(text, "unlisted: signed-in\n", "", 1)
		}
		var got []string
		for _, f := range Check(parse(t, text), "doors.yaml") {
			got = append(got, fmt.Sprintf("%d %s: %s | %s", f.Line, f.Rule, f.Message, f.Witness))
		}
		wanted := strings.Split(strings.ReplaceAll(test.want, " | ", "\x00"), "|")
		if test.want == "" {
			wanted = nil
		}
		if len(got) != len(wanted) {
			t.Errorf("%s: %q, want %q", test.name, got, wanted)
			continue
		}
		for _, want := range wanted {
			rule, words, _ := strings.Cut(want, ": ")
			words, witness, _ := strings.Cut(words, "\x00")
			if !slices.ContainsFunc(got, func(g string) bool {
				return strings.HasPrefix(g, rule) && strings.Contains(g, words) && strings.HasSuffix(g, witness)
			}) {
				t.Errorf("%s: %q, want %q", test.name, got, want)
			}
		}
	}
}

// What each rule says, by trying every path that the patterns of the generated policies can
// tell apart, and every visitor.
type brute struct {
	book   *policy.Book
	places []place.Place // one of each kind that the doors tell apart
	all    []place.Place
	people []policy.Visitor
	within [][]bool // whether each door's places are places of another
}

func newBrute(book *policy.Book, places []place.Place, people []policy.Visitor) brute {
	o := brute{book: book, people: people, all: places}
	known := map[string]bool{}
	for range book.Doors {
		o.within = append(o.within, slices.Repeat([]bool{true}, len(book.Doors)))
	}
	for i := 0; i < len(places); i += len(methods) {
		which := ""
		for _, p := range places[i : i+len(methods)] {
			covering := o.covering(p)
			which += fmt.Sprint(covering)
			for _, i := range covering {
				for j := range book.Doors {
					o.within[i][j] = o.within[i][j] && slices.Contains(covering, j)
				}
			}
		}
		if !known[which] { // the same doors cover it with each method, so it tells nothing new
			known[which] = true
			o.places = append(o.places, places[i:i+len(methods)]...)
		}
	}
	return o
}

var methods = []string{"GET", "POST", "PUT", "DELETE"} // the last one is in no policy

func (o brute) covering(p place.Place) (ids []int) {
	for i := range o.book.Doors {
		if o.book.Doors[i].Covers(p) {
			ids = append(ids, i)
		}
	}
	return ids
}

func (o brute) narrowest(ids []int) (doors []int) {
	for _, i := range ids {
		if !slices.ContainsFunc(ids, func(j int) bool { return o.inside(j, i) }) {
			doors = append(doors, i)
		}
	}
	return doors
}

func (o brute) inside(i, j int) bool { return i != j && o.within[i][j] }

func (o brute) doors(ids []int) (doors []*policy.Door) {
	for _, i := range ids {
		doors = append(doors, &o.book.Doors[i])
	}
	return doors
}

func (o brute) open(p place.Place) bool {
	return o.book.Decide(policy.RequestFor(p), &policy.Visitor{}).Public
}

func allOpen(doors []*policy.Door) bool {
	return !slices.ContainsFunc(doors, func(d *policy.Door) bool { return !d.IsPublic() })
}

// findings returns rule and line of what holds.
func (o brute) findings() map[string]bool {
	found := map[string]bool{}
	decides, needed := map[int]bool{}, map[int]bool{}
	pairs := map[[2]int]bool{}
	for _, p := range o.places {
		covering := o.covering(p)
		narrowest := o.narrowest(covering)
		open := len(narrowest) > 0 && allOpen(o.doors(narrowest))
		for k, i := range narrowest {
			d := &o.book.Doors[i]
			decides[i] = true
			for _, j := range narrowest[k+1:] {
				if d.Admit.String() != o.book.Doors[j].Admit.String() {
					pairs[[2]int{i, j}] = true
				}
			}
			without := slices.DeleteFunc(slices.Clone(covering), func(j int) bool { return j == i })
			if len(without) == 0 {
				needed[i] = true
			} else {
				then := o.doors(o.narrowest(without))
				for v := range o.people {
					if shown(o.book.Judge(p, o.doors(narrowest), &o.people[v])) != shown(o.book.Judge(p, then, &o.people[v])) {
						needed[i] = true
						break
					}
				}
			}
			around := slices.DeleteFunc(slices.Clone(covering), func(j int) bool { return !o.inside(i, j) })
			if len(around) > 0 {
				wider := allOpen(o.doors(o.narrowest(around)))
				found[fmt.Sprint("open-under-closed ", d.Line)] = found[fmt.Sprint("open-under-closed ", d.Line)] || open && !wider
				found[fmt.Sprint("nobody-under-open ", d.Line)] = found[fmt.Sprint("nobody-under-open ", d.Line)] || d.AsksNobody() && wider
			}
		}
		if p.Method == "GET" && !open && len(narrowest) > 0 && !o.open(p) {
			for _, method := range methods[1:] {
				other := p
				other.Method = method
				if o.open(other) {
					found[fmt.Sprint("method-open ", o.book.Doors[narrowest[0]].Line)] = true
				}
			}
		}
	}
	for i := range o.book.Doors {
		d := &o.book.Doors[i]
		found[fmt.Sprint("door-never-decides ", d.Line)] = !decides[i]
		found[fmt.Sprint("door-not-needed ", d.Line)] = decides[i] && !needed[i]
		can := slices.ContainsFunc(o.people, func(v policy.Visitor) bool {
			return o.book.Judge(d.Example(), []*policy.Door{d}, &v).Outcome == policy.Admit
		})
		found[fmt.Sprint("nobody-can ", d.Line)] = !can && !d.AsksNobody()
	}
	for i := range o.book.Doors {
		d := &o.book.Doors[i]
		for _, family := range [][]string{{"/a", "/a.html", "/a.htm", "/a.php", "/a/index.html", "/a/index.htm", "/a/index.php"},
			{"/a/b", "/a/b.html", "/a/b.htm", "/a/b.php", "/a/b/index.html", "/a/b/index.htm", "/a/b/index.php"}} {
			for _, path := range family {
				page := place.Place{Path: path, Method: "GET"}
				if d.Written != path && d.Written != path+"/**" || !slices.Contains(o.book.Deciding(page), d) || o.open(page) {
					continue
				}
				for _, other := range family {
					if o.open(place.Place{Path: other, Method: "GET"}) {
						found[fmt.Sprint("sibling-open ", d.Line)] = true
					}
				}
			}
		}
	}
	for i := range o.book.Guarantees {
		g := &o.book.Guarantees[i]
		found[fmt.Sprint("guarantee-no-door ", g.Line)] = !slices.ContainsFunc(o.all,
			func(p place.Place) bool { return g.Covers(p) && len(o.covering(p)) > 0 })
	}
	for _, role := range o.book.Roles {
		found[fmt.Sprint("role-not-asked ", role.Line, " ", role.Column)] = !slices.ContainsFunc(o.book.Doors, func(d policy.Door) bool {
			return slices.ContainsFunc(o.book.RoleNames(), func(asked string) bool {
				return regexp.MustCompile(`role: (\[[^]]*)?\b`+asked+`\b`).MatchString(d.Admit.String()) && o.book.Satisfies(role.Name, asked)
			})
		})
	}
	for pair := range pairs {
		found[fmt.Sprintf("pair %d %d", o.book.Doors[pair[0]].Line, o.book.Doors[pair[1]].Line)] = true
	}
	for key, is := range found {
		if !is {
			delete(found, key)
		}
	}
	return found
}

// manyDoors returns doors that lie over each other and ask for few things.
func manyDoors(r *rand.Rand) []string {
	patterns := []string{"/a", "/a/**", "/a/b", "/a/*", "/a/*/**", "/a.html", "/a/b.php", "/**/*b", "/**/a/**", "/*/b", "/**", "/*", "/*a*"}
	var all []string
	chosen := r.Perm(len(patterns))[:3+r.IntN(4)]
	if r.IntN(5) == 0 {
		chosen = []int{1, 0, 4} // the first has nothing left for itself
	}
	for _, i := range chosen {
		asks := []string{"public", "public", "nobody", "signed-in", "{role: b}", "{role: [a, b]}", demand(r, 0)}[r.IntN(7)]
		if r.IntN(4) == 0 {
			asks += ", methods: " + []string{"[GET]", "[POST]", "[GET, PUT]"}[r.IntN(3)]
		}
		all = append(all, fmt.Sprintf("  - {path: %q, admit: %s}\n", patterns[i], asks))
	}
	return all
}

func TestFindingsAgainstBruteForce(t *testing.T) {
	r := rand.New(rand.NewPCG(15, 16))
	var places []place.Place
	paths := []string{"/"}
	for from := 0; from < len(paths); from++ {
		if strings.Count(paths[from], "/") < 4 {
			for _, segment := range []string{"a", "b", "ab", "xa", "x", "y", "a.html", "b.php"} {
				paths = append(paths, strings.TrimSuffix(paths[from], "/")+"/"+segment)
			}
		}
	}
	for _, path := range paths {
		for _, method := range methods {
			places = append(places, place.Place{Path: path, Method: method})
		}
	}
	var people []policy.Visitor
	for _, who := range []string{"anonymous", "signed-in", "role:a", "role:b", "role:c", "role:a+c", "user:ann", "user:ann,role:b",
		"user:ann,role:a+c", "role:b,proof-age:1h", "user:ann,role:a+c,proof-age:6m", "signed-in,proof-age:6m",
		"user:ann,role:a+c,factor:password+code", "role:c,factor:passkey+code@6m", "role:a+c,factor:password@6m+passkey",
		"user:ann,role:a+c,factor:password+code@6m"} {
		for proofs := range 16 {
			v, err := policy.ParseVisitor(who)
			if err != nil {
				t.Fatal(err)
			}
			for i, proof := range []string{",shared:s", ",pass:p", ",keyring:k", ",from:192.0.2.3"} {
				if proofs&(1<<i) != 0 {
					if v, err = policy.ParseVisitor(v.String() + proof); err != nil {
						t.Fatal(err)
					}
				}
			}
			people = append(people, v)
		}
	}
	times := map[string]int{}
	for range share(120) {
		source := text(r, manyDoors(r)) + fmt.Sprintf("guarantees: [{path: %q, never: public}]\n",
			[]string{"/b", "/y/**", "/a/b", "/x/y", "/ab/*"}[r.IntN(5)])
		book, findings := read.Parse("doors.yaml", []byte(source))
		if book == nil {
			if !strings.Contains(fmt.Sprint(findings), "duplicate-door") {
				t.Fatal(findings)
			}
			continue
		}
		want := newBrute(book, places, people).findings()
		got := map[string]bool{}
		for _, f := range Check(book, "doors.yaml") {
			switch f.Rule {
			case "doors-cross":
				// The lines that are named, each with the line that names them.
				for _, word := range strings.Split(f.Message, "line ")[1:] {
					var other int
					fmt.Sscan(strings.TrimRight(strings.Fields(word)[0], "("), &other)
					got[fmt.Sprintf("pair %d %d", min(f.Line, other), max(f.Line, other))] = true
				}
			case "open-under-closed": // with the lines of the others that are said with it
				got[fmt.Sprint(f.Rule, " ", f.Line)] = true
				doors, _, _ := strings.Cut(f.Message, ", beneath ")
				for _, word := range strings.Split(doors, "line ")[1:] {
					var other int
					fmt.Sscan(strings.TrimRight(strings.Fields(word)[0], "("), &other)
					got[fmt.Sprint(f.Rule, " ", other)] = true
				}
			case "role-not-asked": // all roles stand in one line
				got[fmt.Sprint(f.Rule, " ", f.Line, " ", f.Column)] = true
			case "guarantee-broken":
				continue // see TestGuaranteesAgainstBruteForce
			default:
				got[fmt.Sprint(f.Rule, " ", f.Line)] = true
			}
			if f.Witness != nil {
				v, err := policy.ParseVisitor(f.Witness.Visitor)
				d := book.Decide(policy.Request{Method: f.Witness.Method, Host: f.Witness.Host, Path: f.Witness.Path}, &v)
				if err != nil || string(d.Outcome) != f.Witness.Outcome {
					t.Fatalf("%s\n%s: the witness %s comes to %s (%v)", source, f.Message, f.Witness, d.Outcome, err)
				}
			}
		}
		for key := range want {
			times[strings.Fields(key)[0]]++
			if !got[key] {
				t.Fatalf("%s\n%s is not found; found %v", source, key, got)
			}
		}
		for key := range got {
			if !want[key] {
				t.Fatalf("%s\n%s is found and not so; %v", source, key, want)
			}
		}
	}
	for _, rule := range []string{"door-never-decides", "door-not-needed", "open-under-closed", "nobody-under-open", "method-open",
		"sibling-open", "role-not-asked", "guarantee-no-door", "pair"} {
		if times[rule] < 3 {
			t.Errorf("%s occurred %d times; that shows little: %v", rule, times[rule], times)
		}
	}
}

func FuzzCheck(f *testing.F) {
	f.Add("doors: [{path: /a/**, admit: public}, {path: /**/b, admit: nobody}]", "/a/b")
	f.Add("doors: [{path: /a, methods: [POST], admit: signed-in}, {path: '/*', admit: public}]\nguarantees: [{path: /a, never: public}]", "/a")
	f.Fuzz(func(t *testing.T, text, path string) {
		book, _ := read.Parse("doors.yaml", []byte(text))
		if book == nil {
			return
		}
		p, err := place.Read("GET", "", path, book.Rules)
		for _, finding := range Check(book, "doors.yaml") {
			if w := finding.Witness; w != nil {
				v, failed := policy.ParseVisitor(w.Visitor)
				if failed != nil {
					t.Fatalf("%+v: %v", finding, failed)
				}
				if d := book.Decide(policy.Request{Method: w.Method, Host: w.Host, Path: w.Path}, &v); string(d.Outcome) != w.Outcome {
					t.Fatalf("%+v: comes to %s", finding, d.Outcome)
				}
			}
			if err == nil && finding.Rule == "door-never-decides" && !book.IsOwn(p) {
				for _, d := range book.Deciding(p) {
					if d.Position == (document.Position{Line: finding.Line, Column: finding.Column}) {
						t.Fatalf("%+v: decides %s", finding, path)
					}
				}
			}
		}
	})
}

// A role that includes steward is no role that changes nothing, though no door of the site asks for it.
func TestRolesThatAdminister(t *testing.T) {
	book, findings := read.Parse("doors.yaml", []byte("roles:\n  keeper:\n  office: { includes: [keeper, head] }\n  head: { includes: "+
		"steward }\n  steward: { includes: keeper }\n  idle:\ndoors: [{path: /log, admit: {role: keeper}}]\n"))
	if book == nil {
		t.Fatal(findings)
	}
	var got []string
	for _, f := range Check(book, "doors.yaml") {
		if strings.HasPrefix(f.Rule, "role-") {
			got = append(got, fmt.Sprint(f.Line, " ", f.Rule))
		}
	}
	if want := "3 role-administers, 4 role-administers, 6 role-not-asked"; strings.Join(got, ", ") != want {
		t.Errorf("%v, want %s", got, want)
	}
}

// A role that comes to include steward opens the administration, though no door of the policy says so.
func TestCompareTellsWhoAdministers(t *testing.T) {
	const doors = "doors: [{path: /log, admit: {role: keeper}}]\n"
	plain, wide := parse(t, "roles: {keeper: }\n"+doors), parse(t, "roles: {keeper: {includes: steward}}\n"+doors)
	for effect, books := range map[string][2]*policy.Book{"opened": {plain, wide}, "closed": {wide, plain}, "": {wide, wide}} {
		differences, err := Compare(books[0], books[1])
		if err != nil {
			t.Fatal(err)
		}
		told := slices.ContainsFunc(differences, func(d Difference) bool {
			return d.Witness.Path == "/door/api" && d.Witness.Visitor == "role:keeper" && d.Effect == effect
		})
		if told != (effect != "") || effect == "" && len(differences) > 0 {
			t.Errorf("%q: %+v", effect, differences)
		}
	}
}

// Doors that are open beneath the same closed one are said once, and with the guarantee that the message has, it is said no more.
func TestOpenDoorsAreAcknowledgedAtOnce(t *testing.T) {
	doors := `doors:
  - { path: /**, admit: signed-in }
  - { path: [ /, /visit/**, "/a b/*" ], admit: public }
  - { path: /news/**, admit: public }
  - { path: /form, methods: [ POST, PUT ], admit: public }
  - { path: /shop/**, host: shop.example, admit: public }
  - { path: /keepers/**, admit: { user: ann } }
  - { path: /keepers/plan, admit: public }
`
	said := func(text string) (all []document.Finding) {
		t.Helper()
		book, findings := read.Parse("doors.yaml", []byte(text))
		if book == nil {
			t.Fatal(findings)
		}
		for _, f := range Check(book, "doors.yaml") {
			if f.Severity == document.SeverityError {
				t.Fatal(f)
			}
			if f.Rule == "open-under-closed" {
				all = append(all, f)
			}
		}
		return all
	}
	found := said(doors)
	if len(found) != 4 {
		t.Errorf("%d findings: %v", len(found), found)
	}
	meant := "guarantees:\n"
	for _, f := range found {
		_, guarantee, _ := strings.Cut(f.Message, "this guarantee says so: ")
		meant += "  " + guarantee + "\n"
	}
	if left := said(doors + meant); len(left) > 0 {
		t.Errorf("with\n%s it is still said: %v", meant, left)
	}
}
