package policy

import (
	"fmt"
	"math/rand/v2"
	"net/netip"
	"reflect"
	"slices"
	"strings"
	"testing"
	"time"
)

const lighthouse = `
site: Marram Point Lighthouse Trust
roles:
  volunteer:
  keeper:  { includes: [volunteer] }
  trustee: { includes: [keeper] }
  supporter:
  device:
keyrings:
  outer: { realm: "Trust \"office\"" }
sources:
  - { path: /,    files: ./site }
  - { path: /log, proxy: "http://127.0.0.1:8461" }
unlisted: signed-in
doors:
  - { path: [/, /visit/**, /assets/**], admit: public }
  - { path: /rota/**, admit: signed-in }
  - path: /log/**
    admit: { role: keeper }
    otherwise: { refused: { go: /rota/ask } }
  - { path: /log/**, methods: [POST, DELETE], admit: { role: trustee } }
  - path: /office/**
    admit: { keyring: outer, role: trustee, proof-within: 10m }
    otherwise: hide
  - { path: /vault, admit: { keyring: outer, role: trustee, proof-within: 10m } }
  - { path: /sensors/**, admit: { role: device }, ask: basic, realm: "Sensor feed" }
  - { path: /press/**, admit: { shared: press-kit } }
  - { path: /recordings/**, admit: { any: [ { role: supporter }, { pass: recordings } ] } }
  - { path: /diary, admit: { user: [Ines, walt] } }
  - { path: /hut/**, admit: { all: [ { network: [192.0.2.0/24, "2001:db8::/32"] }, { role: [keeper, device] } ] } }
  - { path: /closed, admit: nobody }
  - path: /members
    admit: { role: supporter }
    otherwise: { anonymous: { say: "Supporters only." }, refused: hide }
  - { path: "/**/*.map", admit: { role: keeper } }
  - { path: /deep/**, admit: { shared: press-kit } }
  - { path: /**, host: "*.staff.example", admit: { role: volunteer } }
landings:
  sign-in:  [ { user: ines, go: /log/ }, { role: trustee, go: /office/ }, { go: /rota/ } ]
  sign-out: [ { go: / } ]
sessions: { idle: 30m, lifetime: 12h, remembered: 0 }
`

func parse(t testing.TB, text string) *Book {
	t.Helper()
	book, findings := Parse("doors.yaml", []byte(text))
	for _, f := range findings {
		t.Errorf("%d:%d: %s", f.Line, f.Column, f.Message)
	}
	if book == nil {
		t.FailNow()
	}
	return book
}

func visitor(t testing.TB, who string) *Visitor {
	t.Helper()
	v, err := ParseVisitor(who)
	if err != nil {
		t.Fatal(err)
	}
	return &v
}

func TestDecideAndAnswer(t *testing.T) {
	book := parse(t, lighthouse)
	signIn := func(next string) string { return "303 /door/sign-in?next=" + next }
	for _, test := range []struct {
		request, who string
		outcome      Outcome
		answer       string // status and location or challenge
	}{
		{"GET /", "anonymous", Admit, "200"},
		{"GET /visit/x/y", "anonymous", Admit, "200"},
		{"GET /rota/?week=3&x=a%20b", "anonymous", Challenge, signIn("%2Frota%2F%3Fweek%3D3%26x%3Da%2520b")},
		{"GET /rota", "signed-in", Admit, "200"},
		{"GET /elsewhere", "anonymous", Challenge, signIn("%2Felsewhere")},
		{"GET /elsewhere", "signed-in", Admit, "200"},
		{"GET /log/", "role:volunteer", Refuse, "303 /rota/ask"},
		{"GET /log/", "role:keeper", Admit, "200"},
		{"HEAD /log/", "role:trustee", Admit, "200"},
		{"POST /log/", "role:keeper", Refuse, "403"},
		{"POST /log/", "role:trustee", Admit, "200"},
		{"PUT /log/", "role:keeper", Admit, "200"},
		// Two layers and a fresh proof: from the outside in.
		{"GET /vault", "anonymous", Challenge, `401 Basic realm="Trust \"office\"", charset="UTF-8"`},
		{"GET /vault", "anonymous,keyring:outer", Challenge, signIn("%2Fvault")},
		{"GET /vault", "role:trustee", Challenge, `401 Basic realm="Trust \"office\"", charset="UTF-8"`},
		{"GET /vault", "role:trustee,keyring:outer", Admit, "200"},
		{"GET /vault", "role:trustee,keyring:outer,proof-age:10m", Admit, "200"},
		{"GET /vault", "role:trustee,keyring:outer,proof-age:10m1s", Challenge, "303 /door/prove-again?next=%2Fvault"},
		{"GET /vault", "role:keeper", Refuse, "403"},
		{"GET /vault", "role:keeper,keyring:outer", Refuse, "403"},
		{"GET /office/", "anonymous", Hide, "404"},
		{"GET /office/", "role:keeper", Hide, "404"},
		{"GET /office/", "role:trustee,keyring:outer,proof-age:1h", Challenge, "303 /door/prove-again?next=%2Foffice%2F"},
		{"GET /sensors/", "anonymous", Challenge, `401 Basic realm="Sensor feed", charset="UTF-8"`},
		{"GET /press/kit", "anonymous", Challenge, "303 /door/unlock?next=%2Fpress%2Fkit"},
		{"GET /press/kit", "role:trustee", Challenge, "303 /door/unlock?next=%2Fpress%2Fkit"},
		{"GET /press/kit", "anonymous,shared:press-kit", Admit, "200"},
		{"GET /press/kit", "anonymous,shared:other", Challenge, "303 /door/unlock?next=%2Fpress%2Fkit"},
		{"GET /recordings/a", "anonymous", Challenge, signIn("%2Frecordings%2Fa")},
		{"GET /recordings/a", "anonymous,pass:recordings", Admit, "200"},
		{"GET /recordings/a", "role:volunteer", Challenge, "303 /door/unlock?next=%2Frecordings%2Fa"},
		{"GET /diary", "user:ines", Admit, "200"},
		{"GET /diary", "user:INES", Admit, "200"},
		{"GET /diary", "user:agnes", Refuse, "403"},
		{"GET /diary", "anonymous", Challenge, signIn("%2Fdiary")},
		{"GET /hut/", "role:device,from:192.0.2.7", Admit, "200"},
		{"GET /hut/", "role:trustee,from:2001:db8::9", Admit, "200"},
		{"GET /hut/", "role:device,from:::ffff:192.0.2.7", Admit, "200"},
		{"GET /hut/", "role:device,from:198.51.100.7", Refuse, "403"},
		{"GET /hut/", "role:device", Refuse, "403"},
		{"GET /hut/", "anonymous", Refuse, "403"},
		{"GET /hut/", "anonymous,from:192.0.2.7", Challenge, signIn("%2Fhut%2F")},
		{"GET /closed", "role:steward", Refuse, "403"},
		{"GET /closed", "anonymous", Refuse, "403"},
		{"GET /members", "anonymous", Challenge, "403"},
		{"GET /members", "signed-in", Hide, "404"},
		// Two doors cross here, and both must admit.
		{"GET /assets/site.map", "anonymous", Challenge, signIn("%2Fassets%2Fsite.map")},
		{"GET /assets/site.map", "role:keeper", Admit, "200"},
		{"GET /deep/a.map", "role:keeper", Challenge, "303 /door/unlock?next=%2Fdeep%2Fa.map"},
		{"GET /deep/a.map", "anonymous,shared:press-kit", Challenge, signIn("%2Fdeep%2Fa.map")},
		{"GET /deep/a.map", "role:keeper,shared:press-kit", Admit, "200"},
		{"GET /deep/a.map", "role:supporter,shared:press-kit", Refuse, "403"},
		// A door for some hosts crosses the doors for some paths.
		{"GET http://a.staff.example:8460/rota/", "signed-in", Refuse, "403"},
		{"GET http://A.Staff.Example./rota/", "role:keeper", Admit, "200"},
		{"GET http://staff.example/rota/", "signed-in", Admit, "200"},
		{"GET http://a.staff.example/nowhere", "anonymous", Challenge, signIn("%2Fnowhere")},
		// Own pages: no policy locks them up or opens them.
		{"GET /door/sign-in", "anonymous", Admit, "200"},
		{"GET /door/console/", "anonymous", Challenge, signIn("%2Fdoor%2Fconsole%2F")},
		{"GET /door/console/", "role:trustee", Refuse, "403"},
		{"GET /door/api/v1/people", "role:steward", Admit, "200"},
		{"GET http://x.staff.example/door/sign-in", "anonymous", Admit, "200"},
		{"GET /office%2f", "role:trustee", Reject, "400"},
		{"GET /visit/../office/", "anonymous", Hide, "404"},
	} {
		method, address, _ := strings.Cut(test.request, " ")
		r, query, err := ReadRequest(method, address)
		if err != nil {
			t.Fatal(err)
		}
		v := visitor(t, test.who)
		d := book.Decide(r, v)
		a := book.Answer(d, Browser, query)
		answer := strings.TrimSpace(fmt.Sprint(a.Status, " ", a.Location, a.Authenticate))
		if d.Outcome != test.outcome || answer != test.answer {
			t.Errorf("%s as %s: %s, %s; want %s, %s", test.request, test.who, d.Outcome, answer, test.outcome, test.answer)
		}
		if e := book.Explain(r, v, Browser, query); e.Outcome != d.Outcome || e.Answer.Status != a.Status || len(e.Steps) < 2 {
			t.Errorf("%s as %s: explained as %s %d in %d steps, decided %s %d", test.request, test.who, e.Outcome, e.Answer.Status, len(e.Steps), d.Outcome, a.Status)
		}
	}
}

func TestAnswersForScriptsAndPrograms(t *testing.T) {
	book := parse(t, lighthouse)
	for _, test := range []struct {
		path, who string
		client    Client
		status    int
		challenge string
	}{
		{"/rota/", "anonymous", Script, 401, `Session realm="Marram Point Lighthouse Trust"`},
		{"/rota/", "anonymous", API, 401, `Session realm="Marram Point Lighthouse Trust"`},
		{"/sensors/", "anonymous", API, 401, `Basic realm="Sensor feed", charset="UTF-8"`},
		{"/sensors/", "anonymous", Script, 401, `Session realm="Marram Point Lighthouse Trust"`},
		{"/log/", "role:volunteer", API, 403, ""},
		{"/log/", "role:volunteer", Script, 403, ""},
		{"/office/", "anonymous", API, 404, ""},
	} {
		a := book.Answer(book.Decide(Request{"GET", "", test.path}, visitor(t, test.who)), test.client, "")
		if a.Status != test.status || a.Authenticate != test.challenge || a.Location != "" {
			t.Errorf("%s as %s for %s: %+v", test.path, test.who, test.client, a)
		}
	}
}

func TestLandings(t *testing.T) {
	book := parse(t, lighthouse)
	for who, want := range map[string]string{"user:ines,role:trustee": "/log/", "role:trustee": "/office/", "role:device": "/rota/"} {
		if got := book.AfterSignIn(visitor(t, who)); got != want {
			t.Errorf("%s lands on %s, want %s", who, got, want)
		}
	}
}

func TestExplainTellsWhyThisDoor(t *testing.T) {
	book := parse(t, lighthouse)
	e := book.Explain(Request{"POST", "", "/log/"}, visitor(t, "role:keeper"), Browser, "")
	var text []string
	for _, s := range e.Steps {
		text = append(text, s.Text)
	}
	all := strings.Join(text, "\n")
	for _, want := range []string{
		"2 doors cover it: line 18 (/log/**); line 21 (DELETE, POST /log/**)",
		"line 18 (/log/**) does not count, since all that line 21 (DELETE, POST /log/**) covers is part of it",
		"asks: the role trustee", "signed in with the role keeper (which brings volunteer)",
		"missing is the role trustee", "Nothing that this visitor could still prove would help", "Outcome: refuse. Answer: 403",
	} {
		if !strings.Contains(all, want) {
			t.Errorf("the explanation does not say %q:\n%s", want, all)
		}
	}
	if len(e.Doors) != 1 || e.Doors[0].Line != 21 {
		t.Errorf("doors %+v, want line 21", e.Doors)
	}
}

// Each policy has its errors marked: the line, the column and words of the message.
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
		{"not UTF-8", "doors: \xff", []string{"1:8 syntax: not text in UTF-8"}},
		{"broken YAML", "doors: [", []string{"1:8 syntax: not YAML"}},
		{"two documents", "doors: [{path: /, admit: public}]\n---\ndoors: []", []string{"3:1 syntax: second YAML document"}},
		{"no doors", "site: X", []string{"1:1 missing-key: no doors"}},
		{"empty doors", "doors: []", []string{"1:8 bad-value: empty list"}},
		{"misspelt key", "dors: []", []string{"1:1 unknown-key: did you mean \"doors\"?", "1:1 missing-key: no doors"}},
		{"repeated key", "doors: [{path: /, admit: public}]\nsite: A\nsite: B", []string{"3:1 repeated-key: the first is in line 2"}},
		{"many at once", "roles:\n  keeper:\ndoors:\n  - { path: /a, admit: { role: keper } }\n  - { pth: /b, admit: public }\n  - { path: c, admit: publik }",
			[]string{"4:32 unknown-role: did you mean \"keeper\"?", "5:7 unknown-key: did you mean \"path\"?", "6:13 bad-pattern: starts with /", "6:23 bad-value: did you mean \"public\"?"}},
		{"role as a word", "roles: {keeper: }\ndoors: [{path: /a, admit: keeper}]", []string{"2:27 bad-value: { role: keeper }"}},
		{"no roles", "doors: [{path: /a, admit: {role: x}}]", []string{"1:34 unknown-role: declared under the key roles"}},
		{"pattern", "doors: [{path: [a, /b//c, /d/../e, /f%20, /**x], admit: public}]",
			[]string{"1:17 bad-pattern: starts with /", "1:20 bad-pattern: empty segment", "1:27 bad-pattern: canonical", "1:36 bad-pattern: write the character itself", "1:43 bad-pattern: segment by itself"}},
		{"equal doors", "doors:\n  - { path: /a/**, admit: public }\n  - { path: [/b, /a/**/], admit: nobody }", []string{"3:18 duplicate-door: line 2, column 13"}},
		{"equal by another spelling", "doors: [{path: /*/**, admit: public}, {path: /**/*, admit: nobody}]", []string{"1:46 duplicate-door: covers exactly the same places as /*/**"}},
		{"equal methods", "doors: [{path: /a, methods: [GET], admit: public}, {path: /a, methods: [HEAD, GET], admit: nobody}]", []string{"1:59 duplicate-door: same places"}},
		{"circle", "roles:\n  a: { includes: b }\n  b: { includes: [c] }\n  c: { includes: a }\ndoors: [{path: /, admit: public}]", []string{"2:3 role-circle: a includes b includes c includes a"}},
		{"itself", "roles:\n  a: { includes: a }\ndoors: [{path: /, admit: public}]", []string{"2:3 role-circle: a includes a"}},
		{"anchor", "doors: &d [{path: /, admit: public}]", []string{"1:8 bad-value: anchor"}},
		{"alias bomb", "a: &a [x, x]\nb: &b [*a, *a]\ndoors: *b", []string{"1:1 unknown-key", "2:1 unknown-key", "3:8 bad-value: alias"}},
		{"merge", "doors: [{<<: *x, path: /}]", nil},
		{"negative", "doors: [{path: /, admit: {proof-within: -1m}}]", []string{"1:41 bad-value: not a duration"}},
		{"zero", "doors: [{path: /, admit: {proof-within: 0}}]", []string{"1:41 bad-value: ask again for each request"}},
		{"duration", "doors: [{path: /, admit: public}]\nsessions: {idle: 30, lifetime: soon, remembered: 1y}", []string{"2:18 bad-value: with its unit", "2:32 bad-value: not a duration", "2:50 bad-value: not a duration"}},
		{"host beyond ASCII", "doors: [{path: /, host: '*.räf.example', admit: public}, {path: /, host: a–b, admit: public}]", []string{"1:25 bad-pattern: browsers send it as *.xn--rf-via.example", "1:74 bad-pattern: browsers send it as xn--ab-41t"}},
		{"network", "doors: [{path: /, admit: {network: [10.0.0.1/8, nonsense, 300.1.1.1]}}]", []string{"1:37 bad-network: did you mean 10.0.0.0/8", "1:49 bad-value: no network", "1:59 bad-network: no network"}},
		{"empty demand", "doors: [{path: /, admit: {}}]", []string{"1:26 bad-value: empty demand"}},
		{"empty any", "doors: [{path: /, admit: {any: []}}]", []string{"1:32 bad-value: empty list"}},
		{"null admit", "doors: [{path: /, admit: }]", []string{"1: bad-value: a demand is a mapping"}},
		{"no admit", "doors: [{path: /}]", []string{"1:9 missing-key: whom to admit"}},
		{"keyring", "keyrings: {outer: }\ndoors: [{path: /, admit: {keyring: outr}}]", []string{"2:36 unknown-keyring: did you mean \"outer\""}},
		{"realm without basic", "doors: [{path: /, admit: signed-in, realm: X}]", []string{"1:37 bad-value: ask: basic"}},
		{"methods", "doors: [{path: /, methods: [get, 'A B'], admit: public}]", []string{"1:29 bad-value: GET", "1:34 bad-value: does not belong"}},
		{"host", "doors: [{path: /, host: 'a.*.b', admit: public}, {path: /, host: 'a:80', admit: public}]", []string{"1:25 bad-pattern: in front", "1:66 bad-pattern: without a port"}},
		{"otherwise", "doors: [{path: /, admit: nobody, otherwise: {refused: {go: 'https://x/', say: hm}}}, {path: /a, admit: nobody, otherwise: away}]",
			[]string{"1:60 bad-value: path on this site", "1:123 bad-value: hide"}},
		{"go", "doors: [{path: /, admit: nobody, otherwise: {refused: {go: //evil.example/}, anonymous: {go: /a/../b}}}]", []string{"1:60 bad-value: empty segment", "1:94 bad-value: segment"}},
		{"own pages", "doors: [{path: /door/sign-in, admit: nobody}, {path: /door/**, admit: nobody}]", []string{"1:16 own-pages: built-in", "1:54 own-pages: built-in"}},
		{"sources", "sources: [{path: /a/*, files: x}, {path: /b}, {path: /c, proxy: 'ftp://x'}, {path: /d, files: x}, {path: /d, files: y}]\ndoors: [{path: /, admit: public}]",
			[]string{"1:18 bad-pattern: without *", "1:35 missing-key: either files", "1:65 bad-value: address of a server", "1:99 duplicate-source: two sources"}},
		{"prefix", "prefix: /\ndoors: [{path: /, admit: public}]", []string{"1:9 bad-value: one path"}},
		{"word", "unlisted: open\ndoors: [{path: /, admit: public}]", []string{"1:11 bad-value: public, signed-in, refuse or hide"}},
		{"number for text", "site: 5\ndoors: [{path: /, admit: public}]", []string{"1:7 bad-value: quotes"}},
		{"landing", "landings: {sign-in: [{role: x}], sign-of: []}\ndoors: [{path: /, admit: public}]", []string{"1:22 missing-key: where to go", "1:29 unknown-role", "1:34 unknown-key: did you mean \"sign-in\""}},
		{"deep flow", "doors: " + strings.Repeat("[", 100000), []string{"1:58 too-deep: nested"}},
		{"deep dashes", strings.Repeat("- ", 100000), []string{"1:101 too-deep: nested"}},
		{"deep any", "doors: [{path: /, admit: " + strings.Repeat("{any: [", 12) + "public" + strings.Repeat("]}", 12) + "}]", []string{"1: too-deep: any and all"}},
		{"entangled", "doors: [{path: /, admit: {all: [" + strings.Repeat("{any: [{user: a}, {user: b}]},", 12) + "]}}]", []string{"1:9 too-entangled"}},
		{"too large", "#" + strings.Repeat("x", MaxSize), []string{"1:1 too-large"}},
	} {
		t.Run(test.name, func(t *testing.T) {
			start := time.Now()
			book, findings := Parse("doors.yaml", []byte(test.text))
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

func TestExcerpt(t *testing.T) {
	text := "doors:\n  - { path: /é, admit: { role: keeeper } }\n"
	_, findings := Parse("doors.yaml", []byte(text))
	want := "    2 |   - { path: /é, admit: { role: keeeper } }\n      |                                ^^^^^^^\n"
	if got := findings[0].Excerpt([]byte(text)); got != want {
		t.Errorf("excerpt\n%s\nwant\n%s", got, want)
	}
}

func TestVisitorNotation(t *testing.T) {
	for _, who := range []string{
		"anonymous", "signed-in", "role:keeper", "role:keeper+device", "user:ines", "user:ines,role:keeper",
		"role:keeper,proof-age:5m,keyring:outer,shared:press-kit,pass:recordings,from:192.0.2.7",
		"anonymous,shared:a+b,from:2001:db8::1", "signed-in,proof-age:1h30m",
	} {
		v, err := ParseVisitor(who)
		if err != nil || v.String() != who {
			t.Errorf("%s is read as %s, %v", who, v, err)
		}
	}
	v, err := ParseVisitor("role:chief,proof-age:5m,from:192.0.2.7")
	want := Visitor{SignedIn: true, Roles: []string{"chief"}, ProofAge: 5 * time.Minute, From: netip.MustParseAddr("192.0.2.7")}
	if err != nil || !reflect.DeepEqual(v, want) {
		t.Errorf("%+v, %v", v, err)
	}
	for _, bad := range []string{"", "nobody", "role:", "role:a++b", "role", "anonymous:x", "user:a,user:b", "proof-age:5m", "role:a,proof-age:-1m", "role:a,from:x", "role:a,anonymous", "role:a,,role:b", "user:a b"} {
		if v, err := ParseVisitor(bad); err == nil {
			t.Errorf("%q was read as %s", bad, v)
		}
	}
}

func TestDuration(t *testing.T) {
	for text, want := range map[string]time.Duration{"0": 0, "90s": 90 * time.Second, "10m": 10 * time.Minute, "1h30m": 90 * time.Minute, "30d": 720 * time.Hour, "1d12h": 36 * time.Hour} {
		if got, err := ParseDuration(text); err != nil || got != want {
			t.Errorf("%s = %v, %v", text, got, err)
		}
		if back, err := ParseDuration(FormatDuration(want)); err != nil || back != want {
			t.Errorf("%v is written %s", want, FormatDuration(want))
		}
	}
	for _, bad := range []string{"", "5", "d", "1.5d", "-1d", "-1m", "1d-1h", "1w", "99999d", "1h1d", "1h 2m", "1d1d"} {
		if got, err := ParseDuration(bad); err == nil {
			t.Errorf("%q was read as %v", bad, got)
		}
	}
}

// The oracle of decisions: every door is tried, every pair of covering doors compared,
// and what a visitor could still prove is found by trying every set of proofs.

func oracle(b *Book, r Request, v *Visitor) (Outcome, ProofKind) {
	d := b.Decide(r, v) // for the place only
	if d.Outcome == Reject {
		return Reject, ""
	}
	var counting []*Door
	for i := range b.Doors {
		door := &b.Doors[i]
		if !door.Covers(d.Place) {
			continue
		}
		inner := false
		for j := range b.Doors {
			if b.Doors[j].Covers(d.Place) && b.Relate(j, i).String() == "inside" {
				inner = true
			}
		}
		if !inner {
			counting = append(counting, door)
		}
	}
	if len(counting) == 0 {
		counting = []*Door{&b.Unlisted}
	}
	admitted := func(v *Visitor) bool {
		return !slices.ContainsFunc(counting, func(door *Door) bool { return !meets(b, &door.Admit, v) })
	}
	if admitted(v) {
		return Admit, ""
	}
	// Everything that this visitor could prove, cheapest first within each number.
	type proof struct {
		kind ProofKind
		cost int
		give func(*Visitor)
	}
	var proofs []proof
	for _, s := range []string{"s1", "s2"} {
		proofs = append(proofs, proof{ProveShared, 103, func(v *Visitor) { v.Shared = append(slices.Clone(v.Shared), s) }})
	}
	proofs = append(proofs, proof{ProvePass, 105, func(v *Visitor) { v.Passes = append(slices.Clone(v.Passes), "p1") }})
	for _, k := range []string{"k1", "k2"} {
		proofs = append(proofs, proof{ProveKeyring, 104, func(v *Visitor) { v.Keyrings = append(slices.Clone(v.Keyrings), k) }})
	}
	if v.SignedIn {
		proofs = append(proofs, proof{ProveAgain, 101, func(v *Visitor) { v.ProofAge = 0 }})
	} else {
		// Signing in can make anybody of a stranger: one of the accounts, with any roles.
		for _, name := range []string{"", "ann", "bob"} {
			proofs = append(proofs, proof{ProveSignIn, 102, func(v *Visitor) {
				if v.SignedIn {
					v.Account = "twice" // one cannot sign in as two people
					v.Roles = nil
					v.SignedIn = false
					return
				}
				v.SignedIn, v.Account, v.Roles, v.ProofAge = true, name, []string{"a", "b", "c"}, 0
			}})
		}
	}
	best, bestSet := 1<<30, 0
	for set := 1; set < 1<<len(proofs); set++ {
		cost := 0
		given := *v
		for i, p := range proofs {
			if set&(1<<i) != 0 {
				cost += p.cost
				p.give(&given)
			}
		}
		if cost < best && admitted(&given) {
			best, bestSet = cost, set
		}
	}
	if bestSet == 0 {
		return Refuse, ""
	}
	var kinds []ProofKind
	for i, p := range proofs {
		if bestSet&(1<<i) != 0 {
			kinds = append(kinds, p.kind)
		}
	}
	for _, first := range []ProofKind{ProveKeyring, ProveSignIn, ProveAgain, ProveShared, ProvePass} {
		if slices.Contains(kinds, first) {
			return Challenge, first
		}
	}
	panic("no proof")
}

// meets is the plain reading of a demand, not by ways.
func meets(b *Book, d *Demand, v *Visitor) bool {
	holds := func(p Demand) bool { return meets(b, &p, v) }
	switch d.Kind {
	case Public:
		return true
	case Any:
		return slices.ContainsFunc(d.Parts, holds)
	case All:
		return !slices.ContainsFunc(d.Parts, func(p Demand) bool { return !holds(p) })
	case Shared:
		return slices.ContainsFunc(d.Names, func(n string) bool { return slices.Contains(v.Shared, n) })
	case Pass:
		return slices.ContainsFunc(d.Names, func(n string) bool { return slices.Contains(v.Passes, n) })
	case Keyring:
		return slices.ContainsFunc(d.Names, func(n string) bool { return slices.Contains(v.Keyrings, n) })
	case Network:
		return v.From.IsValid() && slices.ContainsFunc(d.Nets, func(n netip.Prefix) bool { return n.Contains(v.From) })
	case SignedIn:
		return v.SignedIn
	case User:
		return v.SignedIn && slices.Contains(d.Names, v.Account)
	case Role: // a includes b, b includes c
		rank := map[string]int{"a": 3, "b": 2, "c": 1}
		return v.SignedIn && slices.ContainsFunc(d.Names, func(asked string) bool {
			return slices.ContainsFunc(v.Roles, func(has string) bool { return rank[has] >= rank[asked] })
		})
	case ProofWithin:
		return v.SignedIn && v.ProofAge <= d.Within
	}
	return false
}

func randomDemand(r *rand.Rand, depth int) string {
	if depth < 2 && r.IntN(3) == 0 {
		word := []string{"any", "all"}[r.IntN(2)]
		return fmt.Sprintf("{%s: [%s, %s]}", word, randomDemand(r, depth+1), randomDemand(r, depth+1))
	}
	atoms := []string{
		"public", "signed-in", "nobody", "{role: a}", "{role: b}", "{role: c}", "{role: [b, c]}", "{user: ann}", "{user: [ann, bob]}",
		"{shared: s1}", "{shared: [s1, s2]}", "{pass: p1}", "{keyring: k1}", "{keyring: k2}", "{network: 192.0.2.0/24}", "{proof-within: 5m}",
		"{role: a, keyring: k1, proof-within: 5m}", "{shared: s1, role: c}",
	}
	return atoms[r.IntN(len(atoms))]
}

func TestDecideAgainstOracle(t *testing.T) {
	r := rand.New(rand.NewPCG(5, 6))
	paths := []string{"/", "/a", "/a/b", "/a/b/c.map", "/b/x", "/b/a", "/c"}
	patterns := []string{"/", "/a", "/a/**", "/a/b", "/**/*.map", "/**/b/**", "/*/b", "/b/**", "/**", "/*", "/b/a"}
	visitors := []string{
		"anonymous", "signed-in", "role:a", "role:b,proof-age:1h", "role:c", "user:ann,proof-age:1h", "user:bob", "anonymous,shared:s1",
		"anonymous,keyring:k1,from:192.0.2.9", "role:c,keyring:k1+k2,proof-age:10m,from:192.0.2.9", "signed-in,pass:p1,shared:s2",
	}
	for range 400 {
		var text strings.Builder
		text.WriteString("roles: {a: {includes: b}, b: {includes: c}, c: }\nkeyrings: {k1: , k2: }\n")
		fmt.Fprintf(&text, "unlisted: %s\ndoors:\n", []string{"public", "signed-in", "refuse"}[r.IntN(3)])
		for _, i := range r.Perm(len(patterns))[:2+r.IntN(6)] {
			fmt.Fprintf(&text, "  - {path: %q, admit: %s}\n", patterns[i], randomDemand(r, 0))
		}
		book := parse(t, text.String())
		for range 30 {
			request := Request{"GET", "", paths[r.IntN(len(paths))]}
			who := visitors[r.IntN(len(visitors))]
			v := visitor(t, who)
			want, wantProof := oracle(book, request, v)
			d := book.Decide(request, v)
			if d.Outcome != want || want == Challenge && d.Proof.Kind != wantProof {
				t.Fatalf("%s\n%s as %s: %s by %q, want %s by %q", text.String(), request.Path, who, d.Outcome, d.Proof.Kind, want, wantProof)
			}
		}
	}
}

func TestDecideDoesNotAllocate(t *testing.T) {
	book := parse(t, lighthouse)
	for _, test := range []struct{ path, who string }{
		{"/visit/tours/", "anonymous"}, {"/log/2026/11", "role:trustee"}, {"/assets/site.map", "role:keeper"},
		{"/rota/", "anonymous"}, {"/office/", "role:keeper"},
	} {
		v := visitor(t, test.who)
		r := Request{"GET", "marram.example", test.path}
		if n := testing.AllocsPerRun(100, func() { book.Decide(r, v) }); n != 0 {
			t.Errorf("%s as %s: %v allocations", test.path, test.who, n)
		}
	}
}

func FuzzParse(f *testing.F) {
	f.Add([]byte(lighthouse))
	f.Add([]byte("doors: [{path: /**, admit: {any: [{role: steward}, {network: 10.0.0.0/8}]}, otherwise: hide}]"))
	f.Add([]byte("doors: &a [*a]"))
	f.Add([]byte("doors:\n- path: |\n    /x\n  admit: public\n"))
	f.Fuzz(func(t *testing.T, text []byte) {
		book, findings := Parse("doors.yaml", text)
		if (book == nil) != HasErrors(findings) {
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
			v, _ := ParseVisitor(who)
			for _, path := range []string{"/", "/a/../b", "/door/console/"} {
				r := Request{"GET", "", path}
				if e := book.Explain(r, &v, Browser, ""); e.Outcome != book.Decide(r, &v).Outcome {
					t.Fatal("explained otherwise than decided")
				}
			}
		}
	})
}

func FuzzParseVisitor(f *testing.F) {
	f.Add("role:chief+robot,proof-age:5m,keyring:outer,from:192.0.2.7")
	f.Add("user:ann")
	f.Fuzz(func(t *testing.T, who string) {
		v, err := ParseVisitor(who)
		if err != nil {
			return
		}
		again, err := ParseVisitor(v.String())
		if err != nil || again.String() != v.String() {
			t.Fatalf("%q -> %q -> %q, %v", who, v, again, err)
		}
	})
}

func TestTargetsThatTurnAway(t *testing.T) {
	for _, test := range []struct{ name, text, want string }{
		{"fine", "roles: {keeper: }\ndoors: [{path: /log, admit: {role: keeper}, otherwise: {refused: {go: /ask}, anonymous: {go: /}}}, {path: /ask, admit: signed-in}, {path: /, admit: public}]", ""},
		{"closed to the refused", "roles: {keeper: }\ndoors: [{path: /log, admit: {role: keeper}, otherwise: {refused: {go: /office}}}, {path: /office, admit: {role: steward}}]",
			"2:71 go-turned-away: signed-in is sent to /office from /log and turned away again: line 2 (/office) asks the role steward"},
		{"closed to strangers", "doors: [{path: /log, admit: signed-in, otherwise: {anonymous: {go: /in}}}, {path: /in, admit: signed-in}]",
			"1:68 go-turned-away: anonymous is sent to /in from /log"},
		{"itself", "doors: [{path: /log/**, admit: nobody, otherwise: {refused: {go: /log/why}}}]", "1:66 go-loop: signed-in is sent round in a circle: from /log/** to /log/why, then to /log/why again"},
		{"two", "doors: [{path: /a, admit: nobody, otherwise: {refused: {go: /b}}}, {path: /b, admit: nobody, otherwise: {refused: {go: /a}}}]",
			"1:61 go-loop: signed-in is sent round in a circle: from /a to /b, then to /a, then to /b again"},
		{"landing", "roles: {keeper: }\ndoors: [{path: /office, admit: nobody}, {path: /**, admit: signed-in}]\nlandings: {sign-in: [{role: keeper, go: /office}, {go: /}], sign-out: [{go: /bye}]}",
			"3:41 go-turned-away: role:keeper is sent to /office after signing in|3:77 go-turned-away: anonymous is sent to /bye after signing out"},
	} {
		book, findings := Parse("doors.yaml", []byte(test.text))
		if book == nil {
			t.Fatalf("%s: %+v", test.name, findings)
		}
		byPlace := map[string]string{}
		for _, f := range findings {
			byPlace[fmt.Sprintf("%d:%d", f.Line, f.Column)] = fmt.Sprintf("%d:%d %s: %s", f.Line, f.Column, f.Rule, f.Message)
			if f.Severity != SeverityWarning || f.Witness == nil {
				t.Errorf("%s: %+v", test.name, f)
			}
		}
		if test.want == "" && len(findings) > 0 {
			t.Errorf("%s: %+v", test.name, findings)
		}
		for _, want := range strings.Split(test.want, "|") {
			at, _, _ := strings.Cut(want, " ")
			if !strings.Contains(byPlace[at], want) {
				t.Errorf("%s: %q, want %q", test.name, byPlace, want)
			}
		}
	}
}

// On a site without letter case the own pages are found in any case, wherever the keys
// stand in the file.
func TestOwnPagesWithoutCase(t *testing.T) {
	book := parse(t, "prefix: /Door\ndoors: [{path: /**, admit: nobody}]\ncase: insensitive")
	for path, want := range map[string]Outcome{"/door/sign-in": Admit, "/DOOR/Sign-In": Admit, "/Door/Console/": Challenge, "/door/API/v1/people": Challenge, "/Doors": Refuse} {
		if d := book.Decide(Request{"GET", "", path}, &Visitor{}); d.Outcome != want {
			t.Errorf("%s: %s, want %s", path, d.Outcome, want)
		}
	}
}
