package read_test

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"ostiarius/core/document"
	"ostiarius/core/policy"
	"ostiarius/core/policy/read"
	"ostiarius/core/policy/sample"
)

func TestParseErrors(t *testing.T) {
	for _, test := range []struct {
		name, text string
		want       []string // "line:column rule: words"
	}{
		{"empty", "", []string{"1:1 missing-key: empty"}},
		{"comment only", "# nothing\n", []string{"1:1 missing-key: empty"}},
		{"scalar", "hello", []string{"1:1 bad-value: the policy is a mapping"}},
		{"list", "- a", []string{"1:1 bad-value: the policy is a mapping"}},
		{"binary", "doors:\n  \x00\xff", []string{"2:3 syntax: control character"}},
		{"a door behind a carriage return", "doors:\n  # closed\r  - {path: /vault/**, admit: public}\n",
			[]string{"2:11 syntax: U+000D begins a new line"}},
		{"a carriage return at the end", "doors: []\r", []string{"1:10 syntax: U+000D begins a new line"}},
		{"a line of Unicode", "doors: []\n# closed\u2028\n", []string{"2:9 syntax: U+2028 begins a new line"}},
		{"what cannot be seen", "doors:\n  - {path: /a\u200bb, admit: public}\n", []string{"2:14 syntax: U+200B cannot be seen"}},
		{"a soft hyphen", "doors:\n  - {path: /a\u00adb, admit: public}\n", []string{"2:14 syntax: U+00AD"}},
		{"a filler", "doors:\n  - {path: /a\u3164b, admit: public}\n", []string{"2:14 syntax: U+3164"}},
		{"a variation selector", "doors:\n  - {path: /a\ufe0fb, admit: public}\n", []string{"2:14 syntax: U+FE0F"}},
		{"a tag", "doors:\n  - {path: /a\U000e0061b, admit: public}\n", []string{"2:14 syntax: U+E0061"}},
		{"a word joiner in a comment", "doors:\n  - {path: /a, admit: public} # a\u2060b\n", []string{"2:34 syntax: U+2060"}},
		{"a tab within a word", "doors:\n  - {path: /a, admit: pub\tlic}\n", []string{"2:26 syntax: a tab is before"}},
		{"text that runs backwards", "doors:\n  - {path: /a, admit: nobody} # \u202eeno on ot\n",
			[]string{"2:33 syntax: U+202E changes the order"}},
		{"not UTF-8", "doors: \xff", []string{"1:8 syntax: not text in UTF-8"}},
		{"broken YAML", "doors: [", []string{"1:8 syntax: not YAML"}},
		{"two documents", "doors: [{path: /, admit: public}]\n---\ndoors: []", []string{"3:1 syntax: second YAML document"}},
		{"no doors", "site: X", []string{"1:1 missing-key: no doors"}},
		{"empty doors", "doors: []", []string{"1:8 bad-value: empty list"}},
		{"misspelt key", "dors: []", []string{"1:1 unknown-key: did you mean \"doors\"?", "1:1 missing-key: no doors"}},
		{"repeated key", "doors: [{path: /, admit: public}]\nsite: A\nsite: B", []string{"3:1 repeated-key: the first is in line 2"}},
		{"many at once", "roles:\n  keeper:\ndoors:\n  - { path: /a, admit: { role: keper } }\n  - { pth: /b, admit: public }\n  - { path: " +
			"c, admit: publik }",
			[]string{"4:32 unknown-role: did you mean \"keeper\"?", "5:7 unknown-key: did you mean \"path\"?",
				"6:13 bad-pattern: starts with /", "6:23 bad-value: did you mean \"public\"?"}},
		{"role as a word", "roles: {keeper: }\ndoors: [{path: /a, admit: keeper}]", []string{"2:27 bad-value: { role: keeper }"}},
		{"no roles", "doors: [{path: /a, admit: {role: x}}]", []string{"1:34 unknown-role: declare roles under the key roles"}},
		{"pattern", "doors: [{path: [a, /b//c, /d/../e, /f%20, /**x], admit: public}]",
			[]string{"1:17 bad-pattern: starts with /", "1:20 bad-pattern: empty segment", "1:27 bad-pattern: canonical",
				"1:36 bad-pattern: write the character itself", "1:43 bad-pattern: segment by itself"}},
		{"equal doors", "doors:\n  - { path: /a/**, admit: public }\n  - { path: [/b, /a/**/], admit: nobody }",
			[]string{"3:18 duplicate-door: line 2, column 13"}},
		{"equal by another spelling", "doors: [{path: /*/**, admit: public}, {path: /**/*, admit: nobody}]",
			[]string{"1:46 duplicate-door: covers exactly the same places as /*/**"}},
		{"equal methods", "doors: [{path: /a, methods: [GET], admit: public}, {path: /a, methods: [HEAD, GET], admit: nobody}]",
			[]string{"1:59 duplicate-door: same places"}},
		{"circle", "roles:\n  a: { includes: b }\n  b: { includes: [c] }\n  c: { includes: a }\ndoors: [{path: /, admit: public}]",
			[]string{"2:3 role-circle: a includes b includes c includes a"}},
		{"itself", "roles:\n  a: { includes: a }\ndoors: [{path: /, admit: public}]", []string{"2:3 role-circle: a includes a"}},
		{"anchor", "doors: &d [{path: /, admit: public}]", []string{"1:8 bad-value: anchor"}},
		{"alias bomb", "a: &a [x, x]\nb: &b [*a, *a]\ndoors: *b", []string{"1:1 unknown-key", "2:1 unknown-key", "3:8 bad-value: alias"}},
		{"merge", "doors: [{<<: *x, path: /}]", nil},
		{"negative", "doors: [{path: /, admit: {proof-within: -1m}}]", []string{"1:41 bad-value: not a duration"}},
		{"zero", "doors: [{path: /, admit: {proof-within: 0}}]", []string{"1:41 bad-value: ask again for each request"}},
		{"duration", "doors: [{path: /, admit: public}]\nsessions: {idle: 30, lifetime: soon, remembered: 1y}",
			[]string{"2:18 bad-value: with a unit", "2:32 bad-value: not a duration", "2:50 bad-value: not a duration"}},
		{"host beyond ASCII", "doors: [{path: /, host: '*.räf.example', admit: public}, {path: /, host: a–b, admit: public}]",
			[]string{"1:25 bad-pattern: browsers send it as *.xn--rf-via.example", "1:74 bad-pattern: browsers send it as xn--ab-41t"}},
		{"network", "doors: [{path: /, admit: {network: [10.0.0.1/8, nonsense, 300.1.1.1]}}]",
			[]string{"1:37 bad-network: did you mean 10.0.0.0/8", "1:49 bad-value: isn't a network", "1:59 bad-network: isn't a network"}},
		{"empty demand", "doors: [{path: /, admit: {}}]", []string{"1:26 bad-value: the demand is empty"}},
		{"empty any", "doors: [{path: /, admit: {any: []}}]", []string{"1:32 bad-value: empty list"}},
		{"null admit", "doors: [{path: /, admit: }]", []string{"1: bad-value: a demand is a mapping"}},
		{"no admit", "doors: [{path: /}]", []string{"1:9 missing-key: admit: public"}},
		{"keyring", "keyrings: {outer: }\ndoors: [{path: /, admit: {keyring: outr}}]", []string{"2:36 unknown-keyring: did you mean \"outer\""}},
		{"realm without basic", "doors: [{path: /, admit: signed-in, realm: X}]", []string{"1:37 bad-value: ask: basic"}},
		{"methods", "doors: [{path: /, methods: [get, 'A B'], admit: public}]",
			[]string{"1:29 bad-value: GET", "1:34 bad-value: does not belong"}},
		{"host", "doors: [{path: /, host: 'a.*.b', admit: public}, {path: /, host: 'a:80', admit: public}]",
			[]string{"1:25 bad-pattern: in front", "1:66 bad-pattern: without a port"}},
		{"otherwise", "doors: [{path: /, admit: nobody, otherwise: {refused: {go: 'https://x/', say: hm}}}, {path: /a, admit: nobody, " +
			"otherwise: away}]",
			[]string{"1:60 bad-value: path on this site", "1:123 bad-value: hide"}},
		{"go", "doors: [{path: /, admit: nobody, otherwise: {refused: {go: //evil.example/}, anonymous: {go: /a/../b}}}]",
			[]string{"1:60 bad-value: empty segment", "1:94 bad-value: segment"}},
		{"own pages", "doors: [{path: /door/sign-in, admit: nobody}, {path: /door/**, admit: nobody}]",
			[]string{"1:16 own-pages: built-in", "1:54 own-pages: built-in"}},
		{"sources", "sources: [{path: /a/*, files: x}, {path: /b}, {path: /c, proxy: 'ftp://x'}, {path: /d, files: x}, {path: /d, files: " +
			"y}]\ndoors: [{path: /, admit: public}]",
			[]string{"1:18 bad-pattern: without *", "1:35 missing-key: either files", "1:65 bad-value: address of a server",
				"1:99 duplicate-source: two sources"}},
		{"prefix", "prefix: /\ndoors: [{path: /, admit: public}]", []string{"1:9 bad-value: one path"}},
		{"word", "unlisted: open\ndoors: [{path: /, admit: public}]", []string{"1:11 bad-value: public, signed-in, refuse or hide"}},
		{"number for text", "site: 5\ndoors: [{path: /, admit: public}]", []string{"1:7 bad-value: quotes"}},
		{"landing", "landings: {sign-in: [{role: x}], sign-of: []}\ndoors: [{path: /, admit: public}]",
			[]string{"1:22 missing-key: a landing needs go", "1:29 unknown-role", "1:34 unknown-key: did you mean \"sign-in\""}},
		{"deep flow", "doors: " + strings.Repeat("[", 100000), []string{"1:58 too-deep: nested"}},
		{"deep dashes", strings.Repeat("- ", 100000), []string{"1:101 too-deep: nested"}},
		{"deep any", "doors: [{path: /, admit: " + strings.Repeat("{any: [", 12) + "public" + strings.Repeat("]}", 12) + "}]",
			[]string{"1: too-deep: any and all"}},
		{"entangled", "doors: [{path: /, admit: {all: [" + strings.Repeat("{any: [{user: a}, {user: b}]},", 12) + "]}}]",
			[]string{"1:9 too-entangled"}},
		{"too large", "#" + strings.Repeat("x", document.MaxSize), []string{"1:1 too-large"}},
	} {
		t.Run(test.name, func(t *testing.T) {
			start := time.Now()
			book, findings := read.Parse("doors.yaml", []byte(test.text))
			if took := time.Since(start); took > 20*time.Second {
				t.Errorf("it took %v", took)
			}
			if book != nil {
				t.Fatal("the policy was accepted")
			}
			if test.want == nil {
				if len(findings) == 0 {
					t.Error("no findings")
				}
				return
			}
			var got []string
			for _, f := range findings {
				got = append(got, fmt.Sprintf("%d:%d %s: %s", f.Line, f.Column, f.Rule, f.Message))
			}
			if len(got) != len(test.want) {
				t.Fatalf("findings:\n%s\nwant %q", strings.Join(got, "\n"), test.want)
			}
			for i, want := range test.want {
				at, words, _ := strings.Cut(want, ": ")
				position, rule, _ := strings.Cut(at, " ")
				if !strings.HasPrefix(got[i], position) || rule != "" && findings[i].Rule != rule || !strings.Contains(got[i], words) {
					t.Errorf("finding %q, want %q", got[i], want)
				}
				if excerpt := findings[i].Excerpt([]byte(test.text)); len(excerpt) > 600 || test.text != "" && !strings.Contains(excerpt, "^") {
					t.Errorf("excerpt %q", excerpt)
				}
			}
		})
	}
}

func TestDuration(t *testing.T) {
	for text, want := range map[string]time.Duration{
		"0": 0, "90s": 90 * time.Second, "10m": 10 * time.Minute, "1h30m": 90 * time.Minute, "30d": 720 * time.Hour, "1d12h": 36 * time.Hour,
	} {
		if got, err := document.ParseDuration(text); err != nil || got != want {
			t.Errorf("%s = %v, %v", text, got, err)
		}
		if back, err := document.ParseDuration(document.FormatDuration(want)); err != nil || back != want {
			t.Errorf("%v is written %s", want, document.FormatDuration(want))
		}
	}
	for _, bad := range []string{"", "5", "d", "1.5d", "-1d", "-1m", "1d-1h", "1w", "99999d", "1h1d", "1h 2m", "1d1d"} {
		if got, err := document.ParseDuration(bad); err == nil {
			t.Errorf("%q was read as %v", bad, got)
		}
	}
}

// The oracle of decisions: every door is tried, every pair of covering doors compared,
// and what a visitor could still prove is found by trying every set of proofs.

func FuzzParse(f *testing.F) {
	f.Add([]byte(sample.Lighthouse))
	f.Add([]byte("doors: [{path: /**, admit: {any: [{role: steward}, {network: 10.0.0.0/8}]}, otherwise: hide}]"))
	f.Add([]byte("doors: &a [*a]"))
	f.Add([]byte("doors:\n- path: |\n    /x\n  admit: public\n"))
	f.Fuzz(func(t *testing.T, text []byte) {
		book, findings := read.Parse("doors.yaml", text)
		if (book == nil) != document.HasErrors(findings) {
			t.Fatalf("book %v, findings %v", book != nil, findings)
		}
		for _, finding := range findings {
			if finding.Line < 1 || finding.Column < 1 || finding.Message == "" || finding.Rule == "" {
				t.Fatalf("finding %+v", finding)
			}
			finding.Excerpt(text)
		}
		if book == nil {
			return
		}
		for _, who := range []string{"anonymous", "role:keeper,from:192.0.2.1"} {
			v, _ := policy.ParseVisitor(who)
			for _, path := range []string{"/", "/a/../b", "/door/console/"} {
				r := policy.Request{Method: "GET", Host: "", Path: path}
				if e := book.Explain(r, &v, policy.Browser, ""); e.Outcome != book.Decide(r, &v).Outcome {
					t.Fatal("explained otherwise than decided")
				}
			}
		}
	})
}
