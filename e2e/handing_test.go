package e2e

import (
	"bytes"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"net/http"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"

	"ostiarius/client"
	"ostiarius/core/policy"
	"ostiarius/core/policy/read"
)

const handingOut = `site: Marram Point
shared:
  press-kit: { title: Press kit, lasts: 7d }
  everything: { title: Everything, lasts: 0 }
passes:
  recordings: { title: Sound recordings, downloads: 4, networks: 4, spread: pause, say: Ask at the shop. }
sources: [ { path: /, files: ./site } ]
unlisted: refuse
doors:
  - { path: /, admit: public }
  - { path: /press/**, admit: { shared: [press-kit, everything] } }
  - { path: /plans/**, admit: { shared: everything } }
  - { path: /recordings/**, admit: { pass: recordings } }
  - { path: /attic/**, admit: { pass: recordings }, otherwise: hide }
`

// handing starts a service from which access is handed out, with files of some sizes.
func handing(t *testing.T) (*Process, string) {
	t.Helper()
	dir := t.TempDir()
	write(t, dir, "doors.yaml", handingOut)
	write(t, dir, "site/index.html", "<h1>The Point</h1>")
	write(t, dir, "site/press/index.html", "<h1>The kit</h1>")
	write(t, dir, "site/plans/index.html", "<h1>The plans</h1>")
	write(t, dir, "site/recordings/index.html", "<h1>The recordings</h1>")
	write(t, dir, "site/attic/box.bin", "old")
	for name, size := range map[string]int{"bell.wav": 3_000_000, "tide.wav": 8_000_000, "lamp.wav": 400_000, "gull.wav": 50_000} {
		content := make([]byte, size)
		rand.NewChaCha8([32]byte{byte(size)}).Read(content)
		write(t, dir, "site/recordings/"+name, string(content))
	}
	return start(t, dir), dir
}

type issuedPass = client.IssuedPass

func issue(t *testing.T, s *Process, args ...string) (p issuedPass) {
	t.Helper()
	code, out, errOut := run(t, "",
		append([]string{"passes", "issue", "recordings", "--to", "ada@carrow.example", "-o", "json", "--data", s.Data}, args...)...)
	if code != 0 || json.Unmarshal([]byte(out), &p) != nil || p.ID == "" || p.Reference == "" || p.Link == "" || p.User == "" ||
		p.Password == "" {
		t.Fatalf("issue: %d %s%s", code, out, errOut)
	}
	if p.Mailed == (p.Letter != nil) || !p.Mailed &&
		(!strings.Contains(p.Letter.Text, p.Link) || !strings.Contains(p.Letter.Text, p.Password)) {
		t.Errorf("what to send where nothing is mailed (%v): %+v", p.Mailed, p.Letter)
	}
	return p
}

type shownPass struct {
	ID, Kind, Recipient, State string
	Until                      *time.Time
	Downloads                  struct{ Used, Allowed int }
	Networks                   int
	Story                      []struct{ What, Detail string }
}

func showPass(t *testing.T, s *Process, id string) (p shownPass) {
	t.Helper()
	code, out, errOut := run(t, "", "passes", "show", id, "-o", "json", "--data", s.Data)
	if code != 0 || json.Unmarshal([]byte(out), &p) != nil {
		t.Fatalf("show: %d %s%s", code, out, errOut)
	}
	return p
}

// Real programs that download, each as people use it: in one piece, cut off and resumed, in parts at once.
func TestProgramsDownloadWithAPass(t *testing.T) {
	t.Parallel()
	s, dir := handing(t)
	p := issue(t, s)
	work := t.TempDir()
	is := func(name, file string, used int) {
		t.Helper()
		want, _ := os.ReadFile(filepath.Join(dir, "site/recordings", name))
		got, err := os.ReadFile(filepath.Join(work, file))
		if err != nil || !bytes.Equal(got, want) {
			t.Errorf("%s: %d bytes of %d, %v", name, len(got), len(want), err)
		}
		if shown := showPass(t, s, p.ID); shown.Downloads.Used != used || shown.Downloads.Allowed != 4 {
			t.Errorf("after %s: %+v, want %d", file, shown.Downloads, used)
		}
	}
	tool := func(name string, args ...string) string {
		t.Helper()
		c := exec.Command(name, args...)
		c.Dir = work
		out, err := c.CombinedOutput()
		if err != nil {
			t.Errorf("%s %q: %v %s", name, args, err, out)
		}
		return string(out)
	}
	at := func(name string) string { return s.URL + "/recordings/" + name }
	who := p.User + ":" + p.Password
	if out := tool("curl", "-si", at("bell.wav")); !strings.Contains(out, "401") || !strings.Contains(out, `realm="Sound recordings"`) {
		t.Errorf("a program without credentials: %s", out)
	}
	tool("curl", "-s", "-u", who, "-o", "part.wav", "--range", "0-999999", at("bell.wav"))
	if shown := showPass(t, s, p.ID); shown.Downloads.Used != 0 || shown.State != "open" {
		t.Errorf("a third of a file counts: %+v", shown)
	}
	tool("curl", "-sf", "-u", who, "-o", "part.wav", "-C", "-", at("bell.wav"))
	is("bell.wav", "part.wav", 1)
	tool("curl", "-sfI", "-u", who, at("tide.wav"))
	tool("wget", "-q", "--user="+p.User, "--password="+p.Password, "-O", "bell-again.wav", at("bell.wav"))
	is("bell.wav", "bell-again.wav", 1) // on the same day
	tool("aria2c", "-q", "-x4", "-s4", "-k1M", "--allow-overwrite=true", "--http-user="+p.User, "--http-passwd="+p.Password, "-o",
		"tide.wav", at("tide.wav"))
	is("tide.wav", "tide.wav", 2)
	tool("wget", "-q", "--user="+p.User, "--password="+p.Password, at("lamp.wav"))
	is("lamp.wav", "lamp.wav", 3)
	tool("curl", "-sf", "-u", who, "-o", "gull.wav", at("gull.wav"))
	is("gull.wav", "gull.wav", 4)
	tool("curl", "-sf", "-u", who, "-o", "gull-again.wav", at("gull.wav")) // on the same day, also when the pass is used up
	is("gull.wav", "gull-again.wav", 4)
	for _, name := range []string{"other.wav", ""} {
		out := tool("curl", "-s", "-u", who, at(name))
		var told client.Problem
		if json.Unmarshal([]byte(out), &told) != nil || told.Code != "pass-used-up" || !strings.Contains(told.Detail, "Ask at the shop.") {
			t.Errorf("a pass that is used up at %q: %s", name, out)
		}
	}
	if code, _, errOut := run(t, "", "passes", "revoke", p.ID, "--data", s.Data); code != 0 {
		t.Error(errOut)
	}
	if out := tool("curl", "-s", "-o", "/dev/null", "-w", "%{http_code}", "-u", who, at("")); out != "401" {
		t.Errorf("a revoked pass: %s", out)
	}
	// Where nothing is to be told, nothing is; and the pass leads in all the same.
	other := issue(t, s)
	if out := tool("curl", "-si", s.URL+"/attic/box.bin"); !strings.Contains(out, "404") ||
		strings.Contains(strings.ToLower(out), "www-authenticate") {
		t.Errorf("a hidden place: %s", out)
	}
	if out := tool("curl", "-s", "-u", other.User+":"+other.Password, s.URL+"/attic/box.bin"); out != "old" {
		t.Errorf("a hidden place with a pass: %s", out)
	}
}

// The link: whoever fetches it uses nothing up; the button opens, and the address is clean.
func TestTheLinkOfAPass(t *testing.T) {
	t.Parallel()
	s, _ := handing(t)
	p := issue(t, s, "--name", "Ada Carrow")
	link := strings.TrimPrefix(p.Link, s.URL)
	for range 5 { // programs that look at mail
		scanner := newPerson(t, s.URL)
		a := scanner.get(link)
		if a.status != 303 || a.location != "/door/pass" || a.header.Get("Referrer-Policy") != "no-referrer" {
			t.Fatalf("the link: %d %s %v", a.status, a.location, a.header)
		}
		if a := scanner.get("/door/pass"); a.status != 200 || !strings.Contains(a.body, "Ada Carrow") ||
			strings.Contains(a.body, link[len("/door/pass?link="):]) {
			t.Errorf("its page: %d %s", a.status, a.body)
		}
		scanner.do("HEAD", link, "")
	}
	if shown := showPass(t, s, p.ID); shown.State != "waiting" || len(shown.Story) != 1 || shown.Networks != 0 {
		t.Errorf("looking at the link used it: %+v", shown)
	}
	mine := newPerson(t, s.URL)
	mine.get(link)
	if a := mine.do("POST", "/door/pass", ""); a.status != 303 || a.location != "/recordings/" {
		t.Fatalf("the button: %d %s", a.status, a.location)
	}
	mine.is("/recordings/", 200, "")
	mine.is("/recordings/lamp.wav", 200, "")
	mine.is("/door/pass", 410, "") // the token is not brought any more
	if a := mine.get("/door/may?path=/recordings/&path=/press/"); a.body != `{"places":[{"path":"/recordings/","method":"GET",`+
		`"may":true,"outcome":"admit"},{"path":"/press/","method":"GET","may":false,"outcome":"challenge","code":"unlock-needed",`+
		`"name":"press-kit","go":"/door/unlock?next=%2Fpress%2F"}]}`+"\n" {
		t.Errorf("may: %s", a.body)
	}
	// The same with the name and the password, typed.
	typed := newPerson(t, s.URL)
	if a := typed.get("/recordings/", "Accept", "text/html"); a.location != "/door/unlock?next=%2Frecordings%2F" {
		t.Fatalf("a browser is led to %s", a.location)
	}
	form := url.Values{"username": {p.User}, "password": {strings.ToUpper(strings.ReplaceAll(p.Password, "-", " "))}, "next": {"/recordings/"}}
	if a := typed.do("POST", "/door/unlock", form.Encode()); a.status != 303 || a.location != "/recordings/" {
		t.Errorf("typed: %d %s", a.status, a.location)
	}
	typed.is("/recordings/", 200, "")
	form.Set("password", "wrong")
	if a := newPerson(t, s.URL).do("POST", "/door/unlock", form.Encode()); a.status != 422 ||
		!strings.Contains(a.body, "Wrong username or password of a pass") || !strings.Contains(a.body, p.User) {
		t.Errorf("a wrong one: %d %s", a.status, a.body)
	}
	// Signing out closes what a browser holds, and no other.
	if a := typed.do("POST", "/door/sign-out", ""); a.status != 303 {
		t.Errorf("signing out: %d", a.status)
	}
	typed.is("/recordings/", 401, "")
	mine.is("/recordings/", 200, "")
	if code, _, errOut := run(t, "", "passes", "pause", p.ID, "--data", s.Data); code != 0 {
		t.Fatal(errOut)
	}
	if a := mine.get("/door/unlock?next=/recordings/"); !strings.Contains(a.body, "have paused your pass") ||
		!strings.Contains(a.body, "Ask at the shop.") {
		t.Errorf("a paused pass: %s", a.body)
	}
	for _, no := range []string{"/door/pass?link=x", "/door/pass?link=" + strings.Repeat("A", 43), "/door/pass?again=x"} {
		stranger := newPerson(t, s.URL)
		stranger.get(no)
		if a := stranger.get("/door/pass"); a.status != 410 {
			t.Errorf("%s: %d", no, a.status)
		}
		if a := stranger.do("POST", "/door/pass", ""); a.status != 410 {
			t.Errorf("the button of %s: %d", no, a.status)
		}
	}
}

// One password for a page, or one for all of them.
func TestSharedPasswords(t *testing.T) {
	t.Parallel()
	s, _ := handing(t)
	set := func(in string, args ...string) {
		t.Helper()
		if code, out, errOut := run(t, in, append(append([]string{"shared"}, args...), "--data", s.Data)...); code != 0 {
			t.Fatalf("shared %q: %d %s%s", args, code, out, errOut)
		}
	}
	unlock := func(p *person, name, password, next string) answer {
		return p.do("POST", "/door/unlock", url.Values{"name": {name}, "password": {password}, "next": {next}}.Encode())
	}
	stranger := newPerson(t, s.URL)
	stranger.is("/press/", 303, "/door/unlock?next=%2Fpress%2F")
	if a := unlock(stranger, "press-kit", "copper-kettle-moss", "/press/"); a.status != 422 {
		t.Errorf("before there is one: %d", a.status)
	}
	set("copper-kettle-moss\n", "set", "press-kit", "--password-stdin")
	set("every-last-window\n", "set", "everything", "--password-stdin")
	if a := stranger.get("/door/unlock?next=%2Fpress%2F"); a.status != 200 || !strings.Contains(a.body, "<h1>Press kit</h1>") ||
		!strings.Contains(a.body, `type="password"`) {
		t.Errorf("the page: %d %s", a.status, a.body)
	}
	if a := unlock(stranger, "press-kit", "wrong", "/press/"); a.status != 422 || !strings.Contains(a.body, "Wrong password") {
		t.Errorf("a wrong one: %d %s", a.status, a.body)
	}
	a := unlock(stranger, "press-kit", "copper-kettle-moss", "/press/?part=2")
	if a.status != 303 || a.location != "/press/?part=2" ||
		!strings.Contains(a.header.Get("Set-Cookie"), "Max-Age=604800; HttpOnly; SameSite=Lax") {
		t.Fatalf("the right one: %d %s %v", a.status, a.location, a.header)
	}
	stranger.is("/press/", 200, "")
	stranger.is("/plans/", 303, "/door/unlock?next=%2Fplans%2F")
	stranger.is("/door/unlock?next=/press/", 303, "/press/")
	all := newPerson(t, s.URL)
	if a := unlock(all, "press-kit", "every-last-window", "/press/"); a.status != 303 ||
		strings.Contains(a.header.Get("Set-Cookie"), "Max-Age") {
		t.Errorf("the one for all, at its page: %d %v", a.status, a.header)
	}
	all.is("/press/", 200, "")
	all.is("/plans/", 200, "")
	script := newPerson(t, s.URL)
	if a := script.do("POST", "/door/unlock", `{"name":"press-kit","password":"copper-kettle-moss"}`, "Content-Type",
		"application/json"); a.status != 200 || a.body != `{"next":"/press/","unlocked":true}`+"\n" {
		t.Errorf("a script: %d %s", a.status, a.body)
	}
	for _, name := range []string{"nothing", "", "press-kit; DROP"} {
		if a := newPerson(t, s.URL).do("POST", "/door/unlock", fmt.Sprintf(`{"name":%q,"password":"x"}`, name), "Content-Type",
			"application/json"); a.status != 422 || !strings.Contains(a.body, `"code":"wrong"`) {
			t.Errorf("the name %q: %d %s", name, a.status, a.body)
		}
	}
	// Another one, with the one before for a while; then what is unlocked is ended.
	set("", "rotate", "press-kit", "--grace", "24h")
	late := newPerson(t, s.URL)
	if a := unlock(late, "press-kit", "copper-kettle-moss", "/press/"); a.status != 303 {
		t.Errorf("the one before: %d", a.status)
	}
	stranger.is("/press/", 200, "")
	var unlocks []client.Unlock
	_, out, _ := run(t, "", "shared", "list", "press-kit", "-o", "json", "--data", s.Data)
	if json.Unmarshal([]byte(out), &unlocks) != nil || len(unlocks) != 3 {
		t.Fatalf("unlocks: %s", out)
	}
	set("", "end", "press-kit", "--unlock", unlocks[0].Handle)
	late.is("/press/", 303, "/door/unlock?next=%2Fpress%2F")
	set("", "end", "press-kit")
	stranger.is("/press/", 303, "/door/unlock?next=%2Fpress%2F")
	all.is("/press/", 200, "")
	set("copper-kettle-moss\n", "set", "press-kit", "--password-stdin")
	if a := unlock(stranger, "press-kit", "copper-kettle-moss", ""); a.status != 303 || a.location != "/press/" {
		t.Errorf("to where it leads: %d %s", a.status, a.location)
	}
	set("", "end", "press-kit", "--password")
	stranger.is("/press/", 303, "/door/unlock?next=%2Fpress%2F")
	slowed := 0
	for range 12 {
		if a := unlock(newPerson(t, s.URL), "everything", "guess", "/plans/"); a.status == 429 {
			slowed++
		}
	}
	if slowed < 5 {
		t.Errorf("%d of 12 guesses were slowed", slowed)
	}
	_, log, _ := run(t, "", "activity", "--data", s.Data, "-o", "json")
	for _, secret := range []string{"copper-kettle-moss", "every-last-window"} {
		if strings.Contains(log+s.Log(), secret) {
			t.Errorf("%s stands in the activity or the log", secret)
		}
	}
}

// The service that is killed while it counts has never counted less than was delivered in full, and at most one more.
func TestKilledWhileItCounts(t *testing.T) {
	t.Parallel()
	s, dir := handing(t)
	p := issue(t, s, "--downloads", "1000")
	random := rand.New(rand.NewPCG(17, 9))
	whole, size := 0, int64(8_000_000)
	for round := range 6 {
		path := fmt.Sprintf("/recordings/copy-%d.wav", round)
		if err := os.Link(filepath.Join(dir, "site/recordings/tide.wav"), filepath.Join(dir, "site"+path)); err != nil {
			t.Fatal(err)
		}
		stop := random.Int64N(size)
		req, _ := http.NewRequest("GET", s.URL+path, nil)
		req.SetBasicAuth(p.User, p.Password)
		resp, err := http.DefaultClient.Do(req)
		if err != nil {
			t.Fatal(err)
		}
		got := int64(0)
		buffer := make([]byte, 64<<10)
		for killed := false; ; {
			n, err := resp.Body.Read(buffer)
			if got += int64(n); got >= stop && !killed {
				s.Kill()
				killed = true
			}
			if err != nil {
				break
			}
		}
		resp.Body.Close()
		data := s.Data
		if s, err = Start("serve", "--policy", filepath.Join(dir, "doors.yaml"), "--listen", "127.0.0.1:0", "--data", data); err != nil {
			t.Fatal(err)
		}
		s.Data = data
		t.Cleanup(func() { s.Stop() })
		if got >= size*95/100 { // what was in flight arrived
			whole++
		}
		shown := showPass(t, s, p.ID).Downloads.Used
		if shown < whole || shown > whole+1 {
			t.Fatalf("round %d: %d of %d bytes came; %d counted, %d came in full", round, got, size, shown, whole)
		}
		// The rest: it is one download.
		req.Header.Set("Range", fmt.Sprintf("bytes=%d-", got))
		req.URL.Host = strings.TrimPrefix(s.URL, "http://")
		if got < size {
			if resp, err = http.DefaultClient.Do(req); err != nil {
				t.Fatal(err)
			}
			if _, err := bytes.NewBuffer(nil).ReadFrom(resp.Body); err != nil {
				t.Fatal(err)
			}
			resp.Body.Close()
		}
		whole = round + 1
		if shown := showPass(t, s, p.ID).Downloads.Used; shown != whole {
			t.Fatalf("round %d: resumed, %d counted, want %d", round, shown, whole)
		}
	}
}

// The service and explain say the same of 500 situations: places, and what somebody holds there.
func TestServiceAndExplainAgreeAboutHandingOut(t *testing.T) {
	t.Parallel()
	random := rand.New(rand.NewPCG(17, 500))
	demands := []string{"{ shared: a }", "{ shared: [a, b] }", "{ pass: p }", "{ pass: [p, q] }",
		"{ any: [ { shared: a }, { pass: p } ] }", "{ shared: b, pass: q }", "{ any: [ { role: keeper }, { pass: p } ] }",
		"{ role: keeper, shared: a }", "{ all: [ { shared: a }, { shared: b } ] }", "{ any: [ signed-in, { shared: b } ] }",
		"{ network: 127.0.0.0/8, pass: p }", "signed-in", "public"}
	var text strings.Builder
	text.WriteString("roles: { keeper: }\nshared: { a: , b: }\npasses: { p: { title: P, downloads: any, networks: any }, q: { title: Q, " +
		"downloads: any, networks: any } }\nsources: [ { path: /, files: ./site } ]\nunlisted: hide\ndoors:\n")
	const doors = 40
	for i := range doors {
		other := []string{"", ", otherwise: hide", ", otherwise: { refused: { say: No. } }"}[random.IntN(3)]
		fmt.Fprintf(&text, "  - { path: /d%d/**, admit: %s%s }\n", i, demands[random.IntN(len(demands))], other)
	}
	text.WriteString("  - { path: /*/crossing/**, admit: { shared: b } }\n")
	dir := t.TempDir()
	write(t, dir, "site/index.html", "x")
	write(t, dir, "doors.yaml", text.String())
	s := start(t, dir)
	book, findings := read.Parse("doors.yaml", []byte(text.String()))
	if book == nil {
		t.Fatal(findings)
	}
	run(t, "seven-brass-prisms\n", "people", "add", "ines", "--role", "keeper", "--password-stdin", "--data", s.Data)
	run(t, "paint-and-lentil-soup\n", "people", "add", "walt", "--password-stdin", "--data", s.Data)
	run(t, "copper-kettle-moss\n", "shared", "set", "a", "--password-stdin", "--data", s.Data)
	run(t, "every-last-window\n", "shared", "set", "b", "--password-stdin", "--data", s.Data)
	links := map[string]string{}
	for _, kind := range []string{"p", "q"} {
		var p issuedPass
		_, out, _ := run(t, "", "passes", "issue", kind, "--to", "a@b.example", "--no-mail", "-o", "json", "--data", s.Data)
		json.Unmarshal([]byte(out), &p)
		links[kind] = strings.TrimPrefix(p.Link, s.URL)
	}
	// Each kind of visitor once, with what they hold.
	type holder struct {
		who string
		*person
	}
	var holders []holder
	for _, who := range []string{"anonymous", "user:walt", "user:ines"} {
		for held := range 16 {
			p := newPerson(t, s.URL)
			name := who
			if account, ok := strings.CutPrefix(who, "user:"); ok {
				p.signIn(account, map[string]string{"ines": "seven-brass-prisms", "walt": "paint-and-lentil-soup"}[account], "/")
			}
			var shared, passes []string
			for bit, n := range []string{"a", "b"} {
				if held>>bit&1 == 1 {
					shared = append(shared, n)
					if a := p.do("POST", "/door/unlock",
						url.Values{"name": {n}, "password": {map[string]string{
							"a": "copper-kettle-moss", "b": "every-last-window",
						}[n]}}.Encode()); a.status != 303 {
						t.Fatal(a.status, a.body)
					}
				}
			}
			for bit, n := range []string{"p", "q"} {
				if held>>(bit+2)&1 == 1 {
					passes = append(passes, n)
					p.get(links[n])
					if a := p.do("POST", "/door/pass", ""); a.status != 303 {
						t.Fatal(a.status, a.body)
					}
				}
			}
			if len(shared) > 0 {
				name += ",shared:" + strings.Join(shared, "+")
			}
			if len(passes) > 0 {
				name += ",pass:" + strings.Join(passes, "+")
			}
			holders = append(holders, holder{name + ",from:127.0.0.1", p})
		}
	}
	outcomes := map[policy.Outcome]int{}
	for range 500 {
		h := holders[random.IntN(len(holders))]
		path := fmt.Sprintf("/d%d/%s", random.IntN(doors+2), []string{"", "x", "crossing/y"}[random.IntN(3)])
		visitor, err := policy.ParseVisitor(h.who)
		if err != nil {
			t.Fatal(err)
		}
		if visitor.Account == "ines" {
			visitor.Roles = []string{"keeper"}
		}
		d := book.Decide(policy.Request{Method: "GET", Host: strings.TrimPrefix(s.URL, "http://"), Path: path}, &visitor)
		want := book.Answer(d, policy.Browser, "")
		a := h.get(path, "Accept", "text/html")
		status := want.Status
		if d.Outcome == policy.Admit {
			status = 404 // there is no such file
		}
		outcomes[d.Outcome]++
		if a.status != status || a.location != want.Location {
			t.Errorf("%s as %s: %d %s, explain says %s, %d %s", path, h.who, a.status, a.location, d.Outcome, want.Status, want.Location)
		}
		said := string(d.Outcome)
		if status == 404 { // what is hidden, and what is not there
			said = "missing"
		}
		if _, told := asked(t, h.person, path); told.Outcome != said {
			t.Errorf("%s as %s: may says %s, explain says %s", path, h.who, told.Outcome, d.Outcome)
		}
	}
	if outcomes[policy.Admit] < 50 || outcomes[policy.Challenge] < 50 || outcomes[policy.Hide] < 20 || outcomes[policy.Refuse] < 3 {
		t.Errorf("%v; that shows little", outcomes)
	}
}

// asked is what /door/may says of a path.
func asked(t *testing.T, p *person, path string) (answer, client.PlaceToGo) {
	t.Helper()
	a := p.get("/door/may?" + url.Values{"path": {path}}.Encode())
	var told client.May
	if err := json.Unmarshal([]byte(a.body), &told); err != nil || len(told.Places) != 1 {
		t.Fatal(a.status, a.body)
	}
	return a, told.Places[0]
}

// In a browser: the password is masked until it is shown; a link leaves its token in no address that was visited.
func TestBrowserUnlocks(t *testing.T) {
	t.Parallel()
	ctx := tab(t)
	s, _ := handing(t)
	run(t, "copper-kettle-moss\n", "shared", "set", "press-kit", "--password-stdin", "--data", s.Data)
	do(ctx, t, chromedp.Navigate(s.URL+"/press/"))
	look(ctx, t, "h1", "Press kit")
	do(ctx, t, keys("#password", "copper-kettle"), chromedp.Click(`//button[.="Show"]`), chromedp.WaitVisible(`input#password[type=text]`))
	accessible(ctx, t, "unlock, shown")
	do(ctx, t, chromedp.Click(`//button[.="Hide"]`), chromedp.WaitVisible(`input#password[type=password]`), keys("#password", "\r"))
	look(ctx, t, "main", "Wrong password")
	accessible(ctx, t, "unlock, wrong")
	do(ctx, t, keys("#password", "copper-kettle-moss\r"))
	look(ctx, t, "h1", "The kit")

	p := issue(t, s, "--name", "Ada Carrow")
	// as a link is followed
	if _, err := chromedp.Run(ctx, chromedp.Evaluate[bool](fmt.Sprintf("(location.assign(%q), true)", p.Link))); err != nil {
		t.Fatal(err)
	}
	look(ctx, t, "main", "It was issued to Ada Carrow")
	at(ctx, t, s.URL+"/door/pass")
	accessible(ctx, t, "a pass")
	do(ctx, t, chromedp.Click(`//button[.="Open"]`))
	look(ctx, t, "h1", "The recordings")
	at(ctx, t, s.URL+"/recordings/")
	history, err := chromedp.Run(ctx, chromedp.NavigationEntries())
	if err != nil || len(history.Entries) < 3 {
		t.Fatal(history, err)
	}
	token := p.Link[strings.Index(p.Link, "link=")+len("link="):]
	for _, entry := range history.Entries {
		if strings.Contains(entry.URL, token) {
			t.Errorf("the token stands in the history: %s", entry.URL)
		}
	}
	if _, out, _ := run(t, "", "activity", "-o", "json", "--data", s.Data); strings.Contains(out+s.Log(), token) {
		t.Error("the token stands in the activity or the log")
	}
}
