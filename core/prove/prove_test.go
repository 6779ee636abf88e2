package prove

import (
	"errors"
	"fmt"
	"math/rand/v2"
	"os"
	"slices"
	"strings"
	"testing"
	"time"

	"ostiarius/core/policy"
	"ostiarius/core/policy/read"
)

func parse(t testing.TB, text string) *policy.Book {
	t.Helper()
	book, findings := read.Parse("doors.yaml", []byte(text))
	if book == nil {
		t.Fatalf("%s\n%+v", text, findings)
	}
	return book
}

func TestCompare(t *testing.T) {
	const head = "roles: {volunteer: , keeper: {includes: volunteer}, trustee: {includes: keeper}}\nkeyrings: {outer: }\nshared: {s: }\n"
	for _, test := range []struct{ name, before, after, want string }{
		{"the same", "doors: [{path: /a, admit: public}]", "doors: [{path: /a/, admit: public}]", ""},
		{"written otherwise", "doors: [{path: [/a, /b], admit: {role: [keeper, trustee]}}]",
			"doors: [{path: /b, admit: {role: keeper}}, {path: /a, admit: {any: [{role: keeper}, {role: trustee}]}}]", ""},
		{"a needless door", "doors: [{path: /a/**, admit: public}]", "doors: [{path: /a/**, admit: public}, {path: /a/b, admit: public}]", ""},
		{"opened", "doors: [{path: /a/**, admit: {role: keeper}}]", "doors: [{path: /a/**, admit: {role: volunteer}}]",
			"opened GET /a role:volunteer: refuse -> admit"},
		{"closed for some", "doors: [{path: /a/**, admit: public}]",
			"doors: [{path: /a/**, admit: public}, {path: /a/*.map, admit: nobody}]", "closed GET /a/.map anonymous: admit -> refuse"},
		{"a method", "doors: [{path: /a, admit: public}]",
			"doors: [{path: /a, admit: public}, {path: /a, methods: [POST], admit: signed-in}]",
			"closed POST /a anonymous: admit -> challenge (sign-in)"},
		{"a host", "doors: [{path: /a, admit: public}]",
			"doors: [{path: /a, admit: public}, {path: /**, host: '*.staff.example', admit: {role: keeper}}]",
			"closed GET any.staff.example/ signed-in: admit -> refuse|closed GET any.staff.example/a anonymous: admit -> challenge (sign-in)"},
		{"an answer only", "doors: [{path: /a, admit: signed-in}]", "doors: [{path: /a, admit: signed-in, ask: basic, realm: R}]",
			"other GET /a anonymous: challenge (sign-in) -> challenge (sign-in, HTTP Basic, realm \"R\")"},
		{"words only", "doors: [{path: /a, admit: nobody}]", "doors: [{path: /a, admit: nobody, otherwise: {refused: {say: No}}}]",
			"other GET /a anonymous: refuse -> refuse (say: No)"},
		{"unlisted", "unlisted: hide\ndoors: [{path: /a, admit: public}]", "unlisted: public\ndoors: [{path: /a, admit: public}]",
			"opened GET / anonymous: hide -> admit"},
		{"an age", "doors: [{path: /a, admit: {role: keeper, proof-within: 10m}}]",
			"doors: [{path: /a, admit: {role: keeper, proof-within: 1h}}]",
			"opened GET /a role:keeper,proof-age:10m1s: challenge (prove-again) -> admit"},
		{"a network", "doors: [{path: /a, admit: {network: 10.0.0.0/8}}]", "doors: [{path: /a, admit: {network: 10.0.0.0/9}}]",
			"closed GET /a anonymous,from:10.128.0.0: admit -> refuse"},
		{"several paths of an entry", "doors: [{path: [/a, /b/**, /**/c], admit: {role: trustee}}, {path: /d, admit: public}]",
			"doors: [{path: [/a, /b/**, /**/c], admit: {role: keeper}}, {path: /d, admit: public}]",
			"opened GET /a role:keeper: refuse -> admit"},
		{"crossed by an unchanged door", "doors: [{path: /a/**, admit: {role: trustee}}, {path: /**/b, admit: signed-in}]",
			"doors: [{path: /a/**, admit: {role: keeper}}, {path: /**/b, admit: signed-in}]",
			"opened GET /a role:keeper: refuse -> admit"},
		{"both ways", "doors: [{path: /a, admit: {shared: s}}]", "doors: [{path: /a, admit: {keyring: outer}}]",
			"closed GET /a anonymous,shared:s: admit -> challenge (keyring outer, HTTP Basic, realm \"outer\")|opened GET /a " +
				"anonymous,keyring:outer|other GET /a anonymous:"},
	} {
		differences, err := Compare(parse(t, head+test.before), parse(t, head+test.after))
		if err != nil {
			t.Fatalf("%s: %v", test.name, err)
		}
		var got []string
		for _, d := range differences {
			got = append(got, fmt.Sprintf("%s %s %s%s %s: %s -> %s", d.Effect, d.Witness.Method, d.Witness.Host, d.Witness.Path,
				d.Witness.Visitor, d.Before, d.After))
		}
		wanted := strings.Split(test.want, "|")
		if test.want != "" && len(got) != len(wanted) {
			t.Errorf("%s: %q, want %q", test.name, got, wanted)
		}
		for _, want := range wanted {
			if want == "" && len(got) > 0 || want != "" && !slices.ContainsFunc(got, func(g string) bool { return strings.HasPrefix(g, want) }) {
				t.Errorf("%s: %q, want %q", test.name, got, want)
			}
		}
	}
}

func TestCompareRefusesWhatItCannotCompare(t *testing.T) {
	if _, err := Compare(parse(t, "doors: [{path: /a, admit: public}]"),
		parse(t, "case: insensitive\ndoors: [{path: /a, admit: public}]")); err == nil {
		t.Error("policies with different places were compared")
	}
	var many strings.Builder
	for i := range 40 {
		fmt.Fprintf(&many, "{shared: s%d},", i)
	}
	entangled := parse(t, declared+"doors: [{path: /a, admit: {all: ["+many.String()+"]}}]")
	if _, err := Compare(entangled, parse(t, "doors: [{path: /a, admit: public}]")); !errors.Is(err, ErrTooEntangled) {
		t.Errorf("forty shared passwords: %v", err)
	}
}

// A policy that overlaps in too many ways ends in an error which names the doors that do.
func TestTooEntangled(t *testing.T) {
	for name, door := range map[string]string{
		"many segments": "/**/a%[1]d/**/b%[1]d/**",
		"many globs":    "/x/*a%[1]d*b%[1]d*",
	} {
		var text strings.Builder
		text.WriteString("doors:\n  - {path: /plain/**, admit: public}\n")
		for i := range 60 {
			fmt.Fprintf(&text, "  - {path: %q, admit: signed-in}\n", fmt.Sprintf(door, i))
		}
		book := parse(t, text.String()+"guarantees: [{path: /**, only: signed-in}]\n")
		if name == "many globs" { // each takes its seconds
			if _, err := Compare(book, book); !errors.Is(err, ErrTooEntangled) || !strings.Contains(err.Error(), "line 3 (") {
				t.Errorf("%s: compare: %v", name, err)
			}
			continue
		}
		began := time.Now()
		findings := Check(book, "doors.yaml")
		t.Logf("%s: %v", name, time.Since(began))
		rules := map[string]string{}
		for _, f := range findings {
			rules[f.Rule] = f.Message
		}
		for _, rule := range []string{"guarantee-unproven", "not-examined"} {
			if !strings.Contains(rules[rule], "overlaps is line 3 (") || !strings.Contains(rules[rule], "more") ||
				strings.Contains(rules[rule], "/plain") {
				t.Errorf("%s: %s: %q", name, rule, rules[rule])
			}
		}
	}
}

// Random pairs of policies, and the answer by trying every path and many visitors.

func demand(r *rand.Rand, depth int) string {
	if depth < 2 && r.IntN(4) == 0 {
		return fmt.Sprintf("{%s: [%s, %s]}", []string{"any", "all"}[r.IntN(2)], demand(r, depth+1), demand(r, depth+1))
	}
	atoms := []string{"public", "signed-in", "nobody", "{role: a}", "{role: b}", "{role: [b, c]}", "{user: ann}", "{shared: s}",
		"{pass: p}", "{keyring: k}", "{network: 192.0.2.0/24}", "{proof-within: 5m}", "{role: c, keyring: k}", "{factor: two}",
		"{factor: code, proof-within: 5m}"}
	return atoms[r.IntN(len(atoms))]
}

func doors(r *rand.Rand) []string {
	patterns := []string{"/", "/a", "/a/**", "/a/b", "/**/*b", "/**/a/**", "/*/b", "/b/**", "/**", "/*", "/*a*"}
	var all []string
	for _, i := range r.Perm(len(patterns))[:1+r.IntN(5)] {
		extra := ""
		if r.IntN(5) == 0 {
			extra = ", methods: [POST]"
		}
		if r.IntN(5) == 0 {
			extra += ", otherwise: " + []string{"hide", "{refused: {say: no}}", "{anonymous: hide}"}[r.IntN(3)]
		}
		all = append(all, fmt.Sprintf("  - {path: %q, admit: %s%s}\n", patterns[i], demand(r, 0), extra))
	}
	return all
}

func text(r *rand.Rand, doors []string) string {
	return "roles: {a: {includes: b}, b: , c: }\nkeyrings: {k: }\nshared: {s: }\npasses: {p: }\nunlisted: " +
		[]string{"public", "signed-in", "hide"}[r.IntN(3)] + "\ndoors:\n" + strings.Join(doors, "")
}

// holds reports whether all doors are among the refs.
func holds(refs []policy.DoorRef, doors []*policy.Door) bool {
	return !slices.ContainsFunc(doors, func(d *policy.Door) bool { return !slices.Contains(refs, policy.Refer(d)) })
}

func TestCompareAgainstBruteForce(t *testing.T) {
	r := rand.New(rand.NewPCG(11, 12))
	segments := []string{"a", "b", "ab", "xa", "x"}
	paths := []string{"/"}
	for _, one := range segments {
		paths = append(paths, "/"+one)
		for _, two := range segments {
			paths = append(paths, "/"+one+"/"+two)
			for _, three := range segments {
				paths = append(paths, "/"+one+"/"+two+"/"+three)
			}
		}
	}
	var people []policy.Visitor
	for _, who := range []string{"anonymous", "signed-in", "role:a", "role:b", "role:c", "role:a+c", "user:ann", "user:ann,role:b",
		"role:b,proof-age:1h", "signed-in,proof-age:6m"} {
		for _, more := range []string{"", ",shared:s", ",pass:p", ",keyring:k", ",from:192.0.2.3", ",shared:s,keyring:k,from:192.0.2.9,pass:p"} {
			v, err := policy.ParseVisitor(who + more)
			if err != nil {
				t.Fatal(err)
			}
			people = append(people, v)
		}
	}
	differing := 0
	for range share(150) {
		first := doors(r)
		second := slices.Clone(first)
		second[r.IntN(len(second))] = doors(r)[0]
		one, other := text(r, first), text(r, second)
		before, findings := read.Parse("before", []byte(one))
		after, findings2 := read.Parse("after", []byte(other))
		if before == nil || after == nil {
			if !strings.Contains(fmt.Sprint(findings, findings2), "duplicate-door") {
				t.Fatal(findings, findings2)
			}
			continue
		}
		differences, err := Compare(before, after)
		if err != nil {
			t.Fatal(err)
		}
		lines := map[string]bool{}
		for _, d := range differences {
			line := fmt.Sprint(d.Effect, d.BeforeDoors, d.AfterDoors)
			if lines[line] {
				t.Fatalf("%s\n%s: two lines for %s", one, other, line)
			}
			lines[line] = true
			v, err := policy.ParseVisitor(d.Witness.Visitor)
			if err != nil {
				t.Fatal(err)
			}
			request := policy.Request{Method: d.Witness.Method, Host: d.Witness.Host, Path: d.Witness.Path}
			then, now := before.Decide(request, &v), after.Decide(request, &v)
			if shown(then) != d.Before || shown(now) != d.After || d.Before == d.After {
				t.Fatalf("the witness %+v shows %s and %s", d, shown(then), shown(now))
			}
		}
		for _, path := range paths {
			for _, method := range []string{"GET", "POST"} {
				for i := range people {
					request := policy.Request{Method: method, Path: path}
					then, now := before.Decide(request, &people[i]), after.Decide(request, &people[i])
					if shown(then) == shown(now) {
						continue
					}
					differing++
					effect := "other"
					if now.Outcome == policy.Admit && then.Outcome != policy.Admit {
						effect = "opened"
					} else if then.Outcome == policy.Admit && now.Outcome != policy.Admit {
						effect = "closed"
					}
					was, is := responsible(before.Deciding(then.Place), after.Deciding(now.Place))
					if !slices.ContainsFunc(differences, func(d Difference) bool {
						return d.Effect == effect && holds(d.BeforeDoors, was) && holds(d.AfterDoors, is)
					}) {
						t.Fatalf("%s\n%s\n%s %s as %s: %s -> %s is not told: %+v", one, other, method, path, people[i], shown(then), shown(now), differences)
					}
				}
			}
		}
	}
	if differing < 1000 {
		t.Errorf("only %d decisions differed; that shows little", differing)
	}
}

func FuzzCompare(f *testing.F) {
	f.Add("doors: [{path: /a/**, admit: public}]", "doors: [{path: /**/b, admit: signed-in}]", "/a/b")
	f.Add("doors: [{path: /*.pdf, methods: [GET], admit: {shared: x}}]", "doors: [{path: /**, host: '*.x', admit: nobody}]", "/a.pdf")
	f.Fuzz(func(t *testing.T, one, other, path string) {
		before, _ := read.Parse("before", []byte(one))
		after, _ := read.Parse("after", []byte(other))
		if before == nil || after == nil {
			return
		}
		differences, err := Compare(before, after)
		if err != nil {
			return
		}
		request := policy.Request{Method: "GET", Path: path}
		var v policy.Visitor
		then, now := before.Decide(request, &v), after.Decide(request, &v)
		if then.Outcome != policy.Reject && shown(then) != shown(now) && len(differences) == 0 {
			t.Fatalf("%s: %s -> %s is not told", path, shown(then), shown(now))
		}
	})
}

func BenchmarkCompare(b *testing.B) {
	for _, n := range []int{100, 1000, 10_000} {
		b.Run(fmt.Sprintf("doors=%d", n), func(b *testing.B) {
			make := func(changed bool) *policy.Book {
				var text strings.Builder
				text.WriteString("roles: {keeper: , trustee: {includes: keeper}}\ndoors:\n")
				for i := range n {
					role := "keeper"
					if changed && i%(n/20) == 0 {
						role = "trustee"
					}
					fmt.Fprintf(&text, "  - { path: /area%d/room%d/**, admit: { role: %s } }\n", i%100, i, role)
				}
				return parse(b, text.String())
			}
			before, after := make(false), make(true)
			b.ReportAllocs()
			for b.Loop() {
				if found, err := Compare(before, after); err != nil || len(found) != 20 {
					b.Fatal(len(found), err)
				}
			}
		})
	}
}

// share is how many of the policies that are made up are looked at one by one: a part of them, and all
// with ORACLE=long, as `make fuzz` has it.
func share(all int) int {
	if os.Getenv("ORACLE") == "long" {
		return all
	}
	return all * 2 / 5
}

// declared are forty shared passwords.
var declared = func() string {
	var names []string
	for i := range 40 {
		names = append(names, fmt.Sprintf("s%d: ", i))
	}
	return "shared: {" + strings.Join(names, ", ") + "}\n"
}()
