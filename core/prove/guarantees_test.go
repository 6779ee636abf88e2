package prove

import (
	"fmt"
	"math/rand/v2"
	"runtime"
	"runtime/debug"
	"runtime/metrics"
	"slices"
	"strings"
	"testing"

	"ostiarius/core/document"
	"ostiarius/core/policy"
	"ostiarius/core/policy/read"
)

// broken returns the findings about guarantees alone.
func broken(t *testing.T, text string) []document.Finding {
	return slices.DeleteFunc(Check(parse(t, text), "doors.yaml"),
		func(f document.Finding) bool { return f.Severity != document.SeverityError })
}

func TestGuarantees(t *testing.T) {
	const head = "roles: {volunteer: , keeper: {includes: volunteer}, trustee: {includes: keeper}}\nkeyrings: {outer: }\ndoors:\n"
	for _, test := range []struct{ name, doors, guarantee, want string }{
		{"holds", "  - {path: /office/**, admit: {role: trustee}}\n", "{path: /office/**, only: {role: keeper}}", ""},
		{"holds with more", "  - {path: /office/**, admit: {keyring: outer, role: trustee, proof-within: 10m}}\n",
			"{path: /office/**, only: {keyring: outer}}", ""},
		{"a forgotten door", "  - {path: /office/**, admit: {role: trustee}}\n  - {path: /office/minutes, admit: {role: volunteer}}\n",
			"{path: /office/**, only: {role: trustee}, because: it holds the keys}",
			"guarantee-broken 7: role:volunteer does at /office/minutes, by line 5 (/office/minutes); it was promised because: it holds the " +
				"keys | GET /office/minutes as role:volunteer -> admit"},
		{"another method", "  - {path: /a, methods: [GET], admit: nobody}\n  - {path: /a, admit: public}\n", "{path: /a, never: public}",
			"guarantee-broken 7: /a is open to everybody, by line 5 (/a) | POST /a as anonymous -> admit"},
		{"only some methods", "  - {path: /a, methods: [GET], admit: nobody}\n  - {path: /a, admit: public}\n",
			"{path: /a, methods: [GET], never: public}", ""},
		{"another host", "  - {path: /a, admit: nobody}\n  - {path: /**, host: '*.x.example', admit: public}\n  - {path: /a, host: " +
			"b.x.example, admit: public}\n", "{path: /a, only: nobody}",
			"guarantee-broken 8: anonymous does at /a, by line 6 (b.x.example/a) | GET b.x.example/a as anonymous -> admit"},
		{"own pages", "  - {path: /**, admit: {role: keeper}}\n", "{path: /**, only: {role: volunteer}}", ""},
		{"open to all", "  - {path: /visit/**, admit: public}\n", "{path: /visit/**, always: public}", ""},
		{"closed beneath", "  - {path: /visit/**, admit: public}\n  - {path: /**/drafts/**, admit: {role: keeper}}\n",
			"{path: /visit/**, always: public}",
			"guarantee-broken 7: not everybody gets in who shows nothing; it is public: anonymous does not at /visit/drafts, by line 4 " +
				"(/visit/**) and line 5 (/**/drafts/**) | GET /visit/drafts as anonymous -> challenge"},
		{"always for a role", "  - {path: /log, admit: {role: keeper, network: 10.0.0.0/8}}\n", "{path: /log, always: {role: trustee}}",
			"guarantee-broken 6: role:trustee does not at /log | GET /log as role:trustee -> refuse"},
		{"unlisted", "  - {path: /a, admit: nobody}\n", "{path: /**, only: {role: keeper}}",
			"guarantee-broken 6: signed-in does at / | GET / as signed-in -> admit"},
		{"an age", "  - {path: /a, admit: {any: [{role: trustee, proof-within: 1h}, {role: keeper, proof-within: 5m}]}}\n",
			"{path: /a, only: {proof-within: 10m}}", "guarantee-broken 6: role:trustee,proof-age:10m1s does at /a | GET /a as " +
				"role:trustee,proof-age:10m1s -> admit"},
		{"a network", "  - {path: /a, admit: {network: [10.0.0.0/8, 192.0.2.0/24]}}\n",
			"{path: /a, only: {network: [10.0.0.0/9, 192.0.0.0/16]}}",
			"guarantee-broken 6: anonymous,from:10.128.0.0 does at /a | GET /a as anonymous,from:10.128.0.0 -> admit"},
	} {
		text := head + test.doors + "guarantees:\n  - " + test.guarantee + "\n"
		var got []string
		for _, f := range broken(t, text) {
			got = append(got, fmt.Sprintf("%s %d: %s | %s", f.Rule, f.Line, f.Message, f.Witness))
		}
		rule, words, _ := strings.Cut(test.want, ": ")
		words, witness, _ := strings.Cut(words, " | ")
		switch {
		case test.want == "" && len(got) > 0:
			t.Errorf("%s: %q", test.name, got)
		case test.want != "" && (len(got) != 1 || !strings.HasPrefix(got[0], rule) || !strings.Contains(got[0], words) ||
			!strings.HasSuffix(got[0], witness)):
			t.Errorf("%s: %q, want %q", test.name, got, test.want)
		}
	}
	var parts []string
	for i := range 30 {
		parts = append(parts, fmt.Sprintf("{shared: s%d}", i))
	}
	entangled := parse(t, head+"  - {path: /a, admit: {all: ["+strings.Join(parts, ",")+
		"]}}\nguarantees: [{path: /a, never: public}]\n"+declared)
	if found := Guarantees(entangled); len(found) != 1 || found[0].State != "unproven" || !strings.Contains(found[0].Message, "line 4 (/a)") {
		t.Errorf("an entangled policy: %+v", found)
	}
}

// A guarantee holds if no path and no visitor breaks it, on generated policies.
func TestGuaranteesAgainstBruteForce(t *testing.T) {
	r := rand.New(rand.NewPCG(13, 14))
	segments := []string{"a", "b", "ab", "xa", "x"}
	paths := []string{"/"}
	for _, one := range segments {
		paths = append(paths, "/"+one)
		for _, two := range segments {
			paths = append(paths, "/"+one+"/"+two, "/"+one+"/"+two+"/b")
		}
	}
	var people []policy.Visitor
	for _, who := range []string{"anonymous", "signed-in", "role:a", "role:b", "role:c", "role:a+c", "user:ann", "role:b,proof-age:1h"} {
		for _, more := range []string{"", ",shared:s", ",pass:p", ",keyring:k", ",from:192.0.2.3", ",shared:s,keyring:k,from:192.0.2.9,pass:p"} {
			v, err := policy.ParseVisitor(who + more)
			if err != nil {
				t.Fatal(err)
			}
			people = append(people, v)
		}
	}
	failed, held := 0, 0
	for range share(300) {
		pattern := []string{"/a/**", "/**", "/**/b", "/a", "/*/b"}[r.IntN(5)]
		says := []string{"only: " + demand(r, 0), "always: " + demand(r, 0), "never: public"}[r.IntN(3)]
		source := text(r, doors(r)) + fmt.Sprintf("guarantees: [{path: %q, %s}]\n", pattern, says)
		book, _ := read.Parse("doors.yaml", []byte(source))
		if book == nil {
			continue
		}
		found := broken(t, source)
		g := &book.Guarantees[0]
		breaks := func(request policy.Request, v *policy.Visitor) bool {
			d := book.Decide(request, v)
			in := d.Outcome == policy.Admit
			return g.Only && in && !book.Meets(g, v) || g.Always && !in && book.Meets(g, v) || g.Never && d.Public
		}
		for _, path := range paths {
			for i := range people {
				request := policy.Request{Method: "GET", Path: path}
				if g.Path.Covers(path) && breaks(request, &people[i]) && len(found) == 0 {
					t.Fatalf("%s\nis broken at %s by %s, which is not found", source, path, people[i])
				}
			}
		}
		if len(found) == 0 {
			held++
			continue
		}
		failed++
		w := found[0].Witness
		v, err := policy.ParseVisitor(w.Visitor)
		if err != nil || !breaks(policy.Request{Method: w.Method, Host: w.Host, Path: w.Path}, &v) {
			t.Fatalf("%s\nthe witness %s breaks nothing (%v)", source, w, err)
		}
	}
	if failed < 50 || held < 20 {
		t.Errorf("%d broken and %d held; that shows little", failed, held)
	}
}

// Policies of up to 10,000 doors and 50 roles with 100 guarantees: the guarantees alone, and
// all that check proves.
func BenchmarkGuarantees(b *testing.B) {
	for _, n := range []int{100, 1000, 10_000} {
		run := func(name string, prove func(book *policy.Book) bool) {
			b.Run(fmt.Sprintf("%s/doors=%d", name, n), func(b *testing.B) {
				book := parse(b, large(n))
				b.ReportAllocs()
				for b.Loop() {
					if !prove(book) {
						b.Fatal("not as expected")
					}
				}
				b.ReportMetric(peak(func() { prove(book) }), "MB-peak")
			})
		}
		run("guarantees", func(book *policy.Book) bool {
			return !slices.ContainsFunc(Guarantees(book), func(p Guarantee) bool { return p.State != "holds" })
		})
		run("check", func(book *policy.Book) bool {
			idle := slices.DeleteFunc(Check(book, "doors.yaml"), func(f document.Finding) bool { return f.Rule != "door-not-needed" })
			return len(idle) == n/10
		})
	}
}

// large returns a policy of n doors, every tenth of which could be left out.
func large(n int) string {
	var text strings.Builder
	text.WriteString("roles:\n")
	for i := range 50 {
		fmt.Fprintf(&text, "  role%d: { includes: [role%d] }\n", i, (i+1)%51)
	}
	text.WriteString("  role50:\ndoors:\n")
	for i := range n {
		if i%10 == 9 {
			fmt.Fprintf(&text, "  - { path: /area%d/room%d/inner, admit: { role: role%d } }\n", (i-1)%100, i-1, (i-1)%50)
			continue
		}
		fmt.Fprintf(&text, "  - { path: /area%d/room%d/**, admit: { role: role%d } }\n", i%100, i, i%50)
	}
	text.WriteString("guarantees:\n")
	for i := range 100 {
		fmt.Fprintf(&text, "  - { path: /area%d/*/**, only: signed-in }\n", i)
	}
	return text.String()
}

// peak returns how much the heap grows at most while f runs, in megabytes, measured at the
// ends of collections that are forced often.
func peak(f func()) float64 {
	runtime.GC()
	defer debug.SetGCPercent(debug.SetGCPercent(10))
	var before runtime.MemStats
	runtime.ReadMemStats(&before)
	done, most := make(chan bool), make(chan uint64)
	go func() {
		var highest uint64
		sample := []metrics.Sample{{Name: "/memory/classes/heap/objects:bytes"}}
		for {
			select {
			case <-done:
				most <- highest
				return
			default:
				metrics.Read(sample)
				highest = max(highest, sample[0].Value.Uint64())
				runtime.Gosched()
			}
		}
	}()
	f()
	done <- true
	return float64(<-most-min(before.HeapAlloc, 1<<60)) / (1 << 20)
}
