package replay

import (
	"fmt"
	"math/rand/v2"
	"regexp"
	"runtime"
	"strconv"
	"strings"
	"testing"
	"time"

	"ostiarius/core/policy"
	"ostiarius/core/policy/read"
)

func book(t testing.TB, text string) *policy.Book {
	t.Helper()
	b, findings := read.Parse("doors.yaml", []byte(text))
	if b == nil {
		t.Fatal(findings)
	}
	return b
}

const oldText = `
roles: { keeper: , trustee: { includes: [keeper] } }
unlisted: public
doors:
  - { path: /log/**, admit: { role: keeper } }
  - { path: /news/**, admit: public }
  - { path: /vault/**, admit: { role: trustee }, otherwise: hide }
`

const newText = `
roles: { keeper: , trustee: { includes: [keeper] } }
unlisted: public
doors:
  - { path: /log/**, admit: { role: trustee } }
  - { path: /news/**, admit: signed-in }
  - { path: /news/today, admit: nobody }
  - { path: /vault/**, admit: public }
`

var kinds = []policy.Visitor{{}, {SignedIn: true}, {SignedIn: true, Roles: []string{"keeper"}},
	{SignedIn: true, Roles: []string{"trustee"}}}

func TestFormats(t *testing.T) {
	at := time.Date(2026, 11, 26, 12, 30, 5, 0, time.UTC).Unix()
	for name, c := range map[string]struct{ line, want string }{
		"common": {`192.0.2.7 - ines [26/Nov/2026:12:30:05 +0000] "GET /log/ HTTP/1.1" 200 120`, "192.0.2.7 ines GET  /log/ 200"},
		"combined": {`192.0.2.7 - - [26/Nov/2026:13:30:05 +0100] "GET /log/?a=1 HTTP/1.1" 403 - "https://marram.example/" ` +
			`"Mozilla/5.0 (X11)"`, "192.0.2.7  GET  /log/?a=1 403"},
		"with a host before": {`marram.example:443 192.0.2.7 - ines [26/Nov/2026:12:30:05 +0000] "POST /log/ HTTP/2.0" 200 120 "-" "x"`,
			"192.0.2.7 ines POST marram.example:443 /log/ 200"},
		"with times after": {`2001:db8::1 - - [26/Nov/2026:06:30:05 -0600] "GET / HTTP/1.1" 304 0 "-" "a \"quoted\" agent" 0.004 ` +
			`"extra"`, "2001:db8::1  GET  / 304"},
		"a whole address": {`192.0.2.7 - - [26/Nov/2026:12:30:05 +0000] "GET http://marram.example/log HTTP/1.1" 200 1`,
			"192.0.2.7  GET marram.example /log 200"},
		"escaped": {`192.0.2.7 - - [26/Nov/2026:12:30:05 +0000] "GET /a\x22b\\c HTTP/1.1" 200 1`, `192.0.2.7  GET  /a"b\c 200`},
		"ours": {`{"time":"2026-11-26T12:30:05.000Z","client":"192.0.2.7","account":"ines","method":"GET","host":"marram.` +
			`example","path":"/log/","protocol":"HTTP/1.1","status":200,"bytes":1,"seconds":0.1,"outcome":"admit","door":"/log/**"}`,
			"192.0.2.7 ines GET marram.example /log/ 200 admit"},
		"a request in it": {`{"level":"info","ts":1795696205.5,"request":{"remote_ip":"192.0.2.9","client_ip":"192.0.2.7",` +
			`"method":"GET","host":"marram.example","uri":"/log/?x=1","headers":{"A":["{\"}"]}},"user_id":"","status":200,` +
			`"resp_headers":{"B":["x"]}}`, "192.0.2.7  GET marram.example /log/?x=1 200"},
		"names of variables": {`{ "time_iso8601": "2026-11-26T12:30:05+00:00", "remote_addr": "192.0.2.7", "remote_user": "ines", ` +
			`"request": "GET /log/ HTTP/1.1", "status": "401", "http_host": "marram.example" }`, "192.0.2.7 ines GET marram.example /log/ 401"},
		"uri without its query": {`{"msec":"1795696205.120","remote_addr":"192.0.2.7","request_method":"PUT","uri":"/x",` +
			`"request_uri":"/log/a%20b?y","status":403,"remote_user":"-"}`, "192.0.2.7  PUT  /log/a%20b?y 403"},
	} {
		var r Record
		if err := Read([]byte(c.line), &r); err != nil {
			t.Errorf("%s: %v", name, err)
			continue
		}
		got := strings.TrimRight(fmt.Sprintf("%s %s %s %s %s %d %s", r.Client, r.User, r.Method, r.Host, r.Target, r.Status, r.Outcome), " ")
		if got != c.want || r.At != at {
			t.Errorf("%s:\n got %s at %d\nwant %s at %d", name, got, r.At, c.want, at)
		}
	}
	for _, bad := range []string{"x", `192.0.2.7 - - "GET / HTTP/1.1" 200`,
		`192.0.2.7 - - [26/Nov/2026:12:30:05 +0000] "\x16\x03" 400 0`, `192.0.2.7 - - [x] "GET / HTTP/1.1" abc`, `{"a":`,
		`{"status":200}`, "[", `a [b] "`} {
		var r Record
		if err := Read([]byte(bad), &r); err == nil {
			t.Errorf("%s was read as %+v", bad, r)
		}
	}
}

func TestEffects(t *testing.T) {
	line := func(method, path, user string, status int) string {
		return fmt.Sprintf(`192.0.2.7 - %s [26/Nov/2026:12:30:05 +0000] "%s %s HTTP/1.1" %d 5`, user, method, path, status)
	}
	was := map[string][]string{"ines": {"keeper"}, "tobias": {"trustee"}}
	who := func(name string, _ time.Time) (policy.Visitor, bool) {
		roles, ok := was[name]
		return policy.Visitor{SignedIn: true, Account: name, Roles: roles}, ok
	}
	for _, c := range []struct {
		line string
		old  bool
		want string // effect, before, after, and for whom
	}{
		{line("GET", "/news/today", "-", 200), true, "closed admit refuse anonymous signed-in role:keeper role:trustee"},
		{line("GET", "/news/today", "-", 200), false, "closed 200 refuse anonymous signed-in role:keeper role:trustee"},
		{line("GET", "/news/old", "-", 200), true, "depends admit challenge anonymous"},
		{line("GET", "/log/", "ines", 200), true, "closed admit refuse user:ines,role:keeper"},
		{line("GET", "/log/", "tobias", 200), true, ""},
		{line("GET", "/log/", "nobody-known", 200), true, "depends admit refuse role:keeper"},
		{line("GET", "/vault/", "-", 404), true, "depends hide admit anonymous signed-in role:keeper"},
		{line("GET", "/vault/", "-", 200), true, ""},
		{line("GET", "/vault/", "-", 403), false, "opened 403 admit anonymous signed-in role:keeper role:trustee"},
		{line("GET", "/anything", "-", 200), true, ""},
		{line("GET", "/log/", "-", 500), false, ""},
		{`{"client":"192.0.2.7","method":"GET","path":"/news/old","status":200,"outcome":"admit"}`, false, "closed admit challenge anonymous"},
		{`{"method":"GET","path":"/news/old","status":200,"account":"ines","outcome":"admit"}`, false, ""},
		{`{"client":"192.0.2.7","as":"role:keeper,from:192.0.2.7","method":"GET","path":"/log/","outcome":"admit"}`, false,
			"closed admit refuse role:keeper"},
		{`{"client":"192.0.2.7","as":"role:trustee","method":"GET","path":"/log/","outcome":"admit"}`, false, ""},
		{`{"client":"192.0.2.7","as":"anonymous","method":"GET","path":"/vault/","outcome":"hide"}`, true, "opened hide admit anonymous"},
	} {
		o := Options{New: book(t, newText), Kinds: kinds, Who: who}
		if c.old {
			o.Old = book(t, oldText)
		}
		p := New(o)
		p.Line([]byte(c.line))
		r := p.Result()
		got := ""
		for _, g := range r.Groups {
			got = fmt.Sprintf("%s %s %s %s", g.Effect, g.Before, g.After, strings.Join(g.Visitors, " "))
			if g.Requests != 1 || g.People != 1 || g.Door.Line == 0 {
				t.Errorf("%+v", g)
			}
		}
		if got != c.want {
			t.Errorf("%s (old %t)\n got %q\nwant %q", c.line, c.old, got, c.want)
		}
		if (r.Changed > 0) != (strings.HasPrefix(c.want, "closed") || strings.HasPrefix(c.want, "opened")) {
			t.Errorf("%s: %d changed", c.line, r.Changed)
		}
	}
}

var naiveLine = regexp.MustCompile(`^(\S+) - (\S+) \[[^\]]+\] "(\S+) (\S+) HTTP/1.1" (\d+) `)

// naive counts by the words of the documentation, one line after the other.
func naive(t *testing.T, lines []string, before, after *policy.Book) (requests map[Effect]int64, changed, uncovered int64) {
	requests = map[Effect]int64{}
	for _, l := range lines {
		f := naiveLine.FindStringSubmatch(l)
		if f == nil {
			t.Fatal(l)
		}
		status, _ := strconv.Atoi(f[5])
		r := policy.Request{Method: f[3], Path: f[4]}
		if after.Decide(r, &policy.Visitor{}).Door == &after.Unlisted {
			uncovered++
		}
		up, down, same := 0, 0, 0
		for _, k := range kinds {
			if f[2] != "-" && !k.SignedIn {
				continue
			}
			was, is := before.Decide(r, &k).Outcome, after.Decide(r, &k).Outcome
			could := map[int][]policy.Outcome{
				200: {"admit"}, 401: {"challenge", "refuse", "hide"}, 403: {"challenge", "refuse", "hide"},
				303: {"challenge", "refuse", "admit"}, 404: {"hide", "admit"},
			}[status]
			fits := false
			for _, o := range could {
				fits = fits || o == was
			}
			switch {
			case !fits:
			case was == is || (was != "admit") == (is != "admit"):
				same++
			case is == "admit":
				up++
			default:
				down++
			}
		}
		switch {
		case up+down == 0:
			continue
		case same+up == 0:
			requests[Closed]++
		case same+down == 0:
			requests[Opened]++
		default:
			requests[Depends]++
		}
		if same == 0 {
			changed++
		}
	}
	return requests, changed, uncovered
}

// What a replay counts is what one counts by hand; also if lines are dealt out to several.
func TestCountsAsByHand(t *testing.T) {
	random := rand.New(rand.NewPCG(7, 11))
	pick := func(of ...string) string { return of[random.IntN(len(of))] }
	before, after := book(t, oldText), book(t, newText)
	for range 30 {
		var lines []string
		for range 400 {
			path := "/" + pick("log", "news", "vault", "other") + pick("", "/", "/today", "/x", "/a/b", "/"+strconv.Itoa(random.IntN(50)))
			lines = append(lines, fmt.Sprintf(`192.0.2.%d - %s [26/Nov/2026:12:%02d:05 +0000] "%s %s HTTP/1.1" %s 5`, random.IntN(200),
				pick("-", "-", "somebody"), random.IntN(60), pick("GET", "POST"), path, pick("200", "200", "401", "403", "303", "404")))
		}
		requests, changed, uncovered := naive(t, lines, before, after)
		whole := New(Options{New: after, Old: before, Kinds: kinds})
		other := whole.Beside()
		for _, l := range lines {
			if random.IntN(2) == 0 {
				whole.Line([]byte(l))
			} else {
				other.Line([]byte(l))
			}
		}
		whole.Merge(other)
		r := whole.Result()
		got := map[Effect]int64{}
		for _, g := range r.Groups {
			got[g.Effect] += g.Requests
		}
		var bare int64
		for _, u := range r.Uncovered {
			bare += u.Requests
		}
		if fmt.Sprint(got) != fmt.Sprint(requests) || r.Changed != changed || bare != uncovered || r.Requests != int64(len(lines)) {
			t.Fatalf("got %v, %d, %d; by hand %v, %d, %d", got, r.Changed, bare, requests, changed, uncovered)
		}
	}
}

func TestCrowd(t *testing.T) {
	random := rand.New(rand.NewPCG(3, 5))
	for _, n := range []int{0, 1, 96, 97, 1000, 5000} {
		var a, b crowd
		for range n {
			h := random.Uint64()
			for range 3 {
				if random.IntN(2) == 0 {
					a.add(h)
				} else {
					b.add(h)
				}
			}
		}
		a.merge(&b)
		if got := a.count(); n <= exactly && got != n || float64(got) < 0.95*float64(n) || float64(got) > 1.05*float64(n) {
			t.Errorf("%d people are counted as %d", n, got)
		}
	}
}

// Whatever is asked for, what is held does not grow.
func TestBounded(t *testing.T) {
	p := New(Options{New: book(t, newText), Kinds: kinds})
	held := func() uint64 {
		runtime.GC()
		var m runtime.MemStats
		runtime.ReadMemStats(&m)
		return m.HeapAlloc
	}
	line := func(i int) {
		p.Line(fmt.Appendf(nil, `192.0.2.7 - - [26/Nov/2026:12:30:05 +0000] "GET /news/today%d HTTP/1.1" 200 5`, i))
	}
	for i := range 50_000 {
		line(i)
	}
	before := held()
	for i := range 200_000 {
		line(i + 50_000)
	}
	if after := held(); after > before+8<<20 {
		t.Errorf("%d bytes more are held after 200,000 other addresses", after-before)
	}
	r := p.Result()
	if len(r.Groups) > mostGroups+1 {
		t.Errorf("%d groups", len(r.Groups))
	}
}

func FuzzRead(f *testing.F) {
	f.Add([]byte(`192.0.2.7 - - [26/Nov/2026:12:30:05 +0000] "GET /a\x22b HTTP/1.1" 200 1`))
	f.Add([]byte(`{"ts":1795696205.5,"request":{"method":"GET","uri":"/log/\u00e4"},"status":200}`))
	f.Fuzz(func(t *testing.T, text []byte) {
		var r Record
		if err := Read(text, &r); err != nil {
			return
		}
		if len(r.Method) == 0 || len(r.Target) == 0 || r.Status < 0 {
			t.Fatalf("%q was read as %+v", text, r)
		}
	})
}

func BenchmarkReplay(b *testing.B) {
	line := []byte(`192.0.2.7 - - [26/Nov/2026:12:30:05 +0000] "GET /news/old HTTP/1.1" 200 512 "https://marram.example/" "Mozilla/5.0 ` +
		`(X11; Linux x86_64; rv:120.0) Gecko/20100101 Firefox/120.0"`)
	p := New(Options{New: book(b, newText), Old: book(b, oldText), Kinds: kinds})
	b.Run("judged", func(b *testing.B) {
		b.SetBytes(int64(len(line)))
		for b.Loop() {
			p.Line(line)
		}
	})
	b.Run("read", func(b *testing.B) {
		b.SetBytes(int64(len(line)))
		var r Record
		for b.Loop() {
			Read(line, &r)
		}
	})
	b.Run("split alone", func(b *testing.B) { // the baseline: what reading words costs at least
		b.SetBytes(int64(len(line)))
		for b.Loop() {
			strings.Fields(string(line))
		}
	})
}
