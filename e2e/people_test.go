package e2e

import (
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"

	"ostiarius/client"
)

// keepers is a site with a log for keepers that wants the password again after a while.
func keepers(t *testing.T) (s *Process, api *client.Client) {
	t.Helper()
	dir := t.TempDir()
	for _, page := range []string{"index.html", "log/index.html", "log/new/index.html", "office/index.html", "members/index.html",
		"account/changed.html"} {
		write(t, dir, "site/"+page, "<!doctype html><html lang=en><title>"+page+"</title><main><h1>"+page+"</h1></main>")
	}
	write(t, dir, "doors.yaml", `
site: Marram Point
roles: { keeper: , trustee: }
sources: [ { path: /, files: ./site } ]
doors:
  - { path: [/, /members/**], admit: public }
  - { path: /account/**, admit: signed-in }
  - { path: /log/**, admit: { role: keeper } }
  - { path: /log/new/**, admit: { role: keeper, proof-within: 1ms } }
  - { path: /office/**, admit: { role: trustee } }
  - { path: /office/hidden, admit: { role: trustee }, otherwise: hide }
landings:
  sign-in: [ { user: ines, go: /log/ }, { role: trustee, go: /office/ }, { go: /members/ } ]
  sign-out: [ { go: /members/?bye } ]
  password-change: [ { role: trustee, go: /account/changed.html } ]
`)
	s = start(t, dir)
	api = client.New(s.Data)
	for _, p := range []client.NewPerson{
		{Name: "ines", Email: "ines@marram.example", Password: "seven-brass-prisms", Roles: []string{"keeper"}},
		{Name: "tobias", Password: "quiet-harbour-ledger", Roles: []string{"trustee"}},
		{Name: "agnes", Password: "amber-lantern-shelf", Roles: []string{"steward"}},
	} {
		if _, err := client.AddPerson.Ask(t.Context(), api, p); err != nil {
			t.Fatal(err)
		}
	}
	return s, api
}

func TestLandings(t *testing.T) {
	t.Parallel()
	s, _ := keepers(t)
	for _, test := range []struct{ name, password, next, lands string }{
		{"ines", "seven-brass-prisms", "", "/log/"},
		{"INES@marram.example", "seven-brass-prisms", "", "/log/"},
		{"tobias", "quiet-harbour-ledger", "", "/office/"},
		{"agnes", "amber-lantern-shelf", "", "/members/"},
		{"tobias", "quiet-harbour-ledger", "/log/?day=1", "/log/?day=1"},
	} {
		p := newPerson(t, s.URL)
		if a := p.signIn(test.name, test.password, test.next); a.status != 303 || a.location != test.lands {
			t.Errorf("%s: %d %s, want %s", test.name, a.status, a.location, test.lands)
		}
		if test.next == "" { // signed in already: straight on
			p.is("/door/sign-in", 303, test.lands)
		}
		if a := p.do("POST", "/door/sign-out", ""); a.location != "/members/?bye" {
			t.Errorf("%s signs out to %s", test.name, a.location)
		}
	}
}

func TestRefusalsHaveAReference(t *testing.T) {
	t.Parallel()
	s, api := keepers(t)
	p := newPerson(t, s.URL)
	p.signIn("ines", "seven-brass-prisms", "")
	a := p.get("/office/?secret=in-the-query", "Accept", "text/html")
	number := regexp.MustCompile(`<strong>([A-Z2-7]{4}-[A-Z2-7]{4})</strong>`).FindStringSubmatch(a.body)
	if a.status != 403 || number == nil || !strings.Contains(a.body, "the role trustee") ||
		!strings.Contains(a.body, "<strong>ines</strong> (keeper)") {
		t.Fatalf("%d\n%s", a.status, a.body)
	}
	code, out, _ := run(t, "", "activity", "--reference", strings.ToLower(number[1]), "--data", s.Data)
	if code != 0 || !strings.Contains(out, "refused") || !strings.Contains(out, "ines") || !strings.Contains(out, "at /office/**") ||
		strings.Contains(out, "in-the-query") {
		t.Errorf("exit %d\n%s", code, out)
	}
	var problem struct{ Reference string }
	json.Unmarshal([]byte(p.get("/office/", "Accept", "application/json").body), &problem)
	events, err := api.Activity(t.Context(), client.ActivityQuery{Reference: problem.Reference})
	if err != nil || len(events) != 1 {
		t.Errorf("reference %q: %v %v", problem.Reference, events, err)
	}
	// What is hidden shows no reference, and is recorded all the same.
	if hidden := p.get("/office/hidden"); hidden.status != 404 || regexp.MustCompile(`[A-Z2-7]{4}-[A-Z2-7]{4}`).MatchString(hidden.body) {
		t.Errorf("%d %s", hidden.status, hidden.body)
	}
	if events, _ := api.Activity(t.Context(), client.ActivityQuery{Kind: "hidden"}); len(events) != 1 || events[0].Door != "/office/hidden" {
		t.Errorf("%+v", events)
	}
}

// A form of the site's own is led back to with a code, and never anywhere else.
func TestOwnFormOfTheSite(t *testing.T) {
	t.Parallel()
	s, _ := keepers(t)
	p := newPerson(t, s.URL)
	post := func(fields ...string) answer {
		v := url.Values{}
		for i := 0; i < len(fields); i += 2 {
			v.Set(fields[i], fields[i+1])
		}
		return p.do("POST", "/door/sign-in", v.Encode())
	}
	if a := post("username", "ines", "password", "wrong", "form", "/members/?tab=2", "next",
		"/log/"); a.location != "/members/?error=wrong&next=%2Flog%2F&tab=2" {
		t.Errorf("%d %s", a.status, a.location)
	}
	if a := post("username", "ines", "form", "/members/"); a.location != "/members/?error=missing" {
		t.Errorf("%d %s", a.status, a.location)
	}
	for _, form := range []string{"https://elsewhere.example/", "//elsewhere.example/", `/\elsewhere.example`, "/members/\r\nX: y"} {
		if a := post("username", "ines", "password", "wrong", "form", form); a.status != 422 || a.location != "" || a.header.Get("X") != "" {
			t.Errorf("%q: %d %s", form, a.status, a.location)
		}
	}
	for range 3 {
		post("username", "ines", "password", "wrong", "form", "/members/")
	}
	if a := post("username", "ines", "password", "wrong", "form",
		"/members/"); !regexp.MustCompile(`^/members/\?error=too-many&wait=\d+$`).MatchString(a.location) {
		t.Errorf("%d %s", a.status, a.location)
	}
	if a := p.signIn("ines", "wrong", ""); a.status != 429 || a.header.Get("Retry-After") == "" ||
		!strings.Contains(a.body, "You can try again in ") {
		t.Errorf("%d %s", a.status, a.body)
	}
	if a := post("username", "tobias", "password", "quiet-harbour-ledger", "form", "/members/", "next",
		"/members/"); a.location != "/members/" {
		t.Errorf("%d %s", a.status, a.location)
	}
}

func TestSignInWithJSON(t *testing.T) {
	t.Parallel()
	s, api := keepers(t)
	p := newPerson(t, s.URL)
	post := func(body string) (int, map[string]any) {
		a := p.do("POST", "/door/sign-in", body, "Content-Type", "application/json")
		var said map[string]any
		if err := json.Unmarshal([]byte(a.body), &said); err != nil {
			t.Fatalf("%s: %v in %s", body, err, a.body)
		}
		return a.status, said
	}
	if err := client.DisablePerson.Do(t.Context(), api, client.Disabled{Account: "agnes", Disabled: true}); err != nil {
		t.Fatal(err)
	}
	for body, want := range map[string]string{
		`{"username": "ines", "password": "wrong"}`:                   "422 wrong",
		`{"username": "nobody", "password": "wrong"}`:                 "422 wrong",
		`{"username": "agnes", "password": "amber-lantern-shelf"}`:    "403 disabled",
		`{"username": "ines"}`:                                        "422 missing",
		`{"username": "ines", "password": "x", "roles": ["steward"]}`: "400 malformed",
		`[]`: "400 malformed",
		`{"username": "ines", "password": "` + strings.Repeat("x", 100_000) + `"}`: "400 malformed",
	} {
		if status, said := post(body); fmt.Sprint(status, " ", said["code"]) != want {
			t.Errorf("%.80s: %d %v, want %s", body, status, said, want)
		}
	}
	status, said := post(`{"username": "ines", "password": "seven-brass-prisms", "next": "/log/"}`)
	if status != 200 || said["name"] != "ines" || said["next"] != "/log/" || fmt.Sprint(said["roles"]) != "[keeper]" {
		t.Errorf("%d %v", status, said)
	}
	p.is("/log/", 200, "")
}

// The same is said, and done, whether or not there is such an account.
func TestNoEnumeration(t *testing.T) {
	s, api := keepers(t)
	if _, err := client.AddPerson.Ask(t.Context(), api, client.NewPerson{Name: "quill"}); err != nil { // no password yet
		t.Fatal(err)
	}
	strip := func(a answer, name string) string {
		a.header.Del("Date")
		a.header.Del("Content-Length") // the name is in the form
		return fmt.Sprint(a.status, a.header, strings.ReplaceAll(a.body, name, "NAME"))
	}
	names := []string{"ines", "nobody", "quill", "ines@marram.example", "nobody@marram.example"}
	alike := func(when string, ask func(name string) answer) {
		t.Helper()
		var first string
		for _, name := range names {
			got := strip(ask(name), name)
			if first == "" {
				first = got
			} else if got != first {
				t.Errorf("%s: %s is told\n%s\nand another\n%s", when, name, got, first)
			}
		}
	}
	try := func(name string) answer { return newPerson(t, s.URL).signIn(name, "not-this-one", "/log/") }
	for i := range 5 { // as many are looked at without a wait
		alike(fmt.Sprint("try ", i), try)
	}
	// Then they wait, which lasts until it is over: how long is told in one field and one sentence. That all wait as long is tested with a
	// clock that stands still (TestNobodyIsTold).
	alike("slowed", func(name string) (a answer) {
		for range 5 {
			if a = try(name); a.status == http.StatusTooManyRequests {
				break
			}
		}
		if wait, err := strconv.Atoi(a.header.Get("Retry-After")); err != nil || wait < 1 {
			t.Errorf("%s is told to wait %q", name, a.header.Get("Retry-After"))
		}
		a.header.Del("Retry-After")
		a.body = regexp.MustCompile(`try again in (a second|\d+ (seconds|minutes))\.`).ReplaceAllString(a.body, "try again.")
		return a
	})
}

func TestInterruptedPost(t *testing.T) {
	t.Parallel()
	s, _ := keepers(t)
	p := newPerson(t, s.URL)
	// Not signed in: led to sign in, told that it did not arrive, and back to the form.
	a := p.do("POST", "/log/", "entry=lamp+lit", "Accept", "text/html", "Referer", s.URL+"/log/?day=2")
	if a.location != "/door/sign-in?next=%2Flog%2F%3Fday%3D2&unsent" {
		t.Fatalf("%d %s", a.status, a.location)
	}
	if page := p.get(a.location); !strings.Contains(page.body, "did not arrive") {
		t.Errorf("nothing is said of it:\n%s", page.body)
	}
	p.signIn("ines", "seven-brass-prisms", "/log/?day=2")
	a = p.do("POST", "/log/new/", "entry=lamp+lit", "Accept", "text/html", "Referer", s.URL+"/log/")
	if a.location != "/door/prove-again?next=%2Flog%2F&unsent" {
		t.Fatalf("%d %s", a.status, a.location)
	}
	if page := p.get(a.location); !strings.Contains(page.body, "did not arrive") {
		t.Errorf("nothing is said of it:\n%s", page.body)
	}
	for _, referer := range []string{"https://elsewhere.example/log/", "", "::", s.URL + "/door/sign-in"} {
		if a := p.do("POST", "/log/new/", "x=y", "Accept", "text/html", "Referer",
			referer); a.location != "/door/prove-again?next=%2Flog%2Fnew%2F&unsent" {
			t.Errorf("from %q: %s", referer, a.location)
		}
	}
}

// Another token at every sign-in; the one that was there before ends, and none that was
// brought along is taken.
func TestNoFixation(t *testing.T) {
	t.Parallel()
	s, api := keepers(t)
	planted := "AAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAA"
	p := newPerson(t, s.URL)
	u, _ := url.Parse(s.URL)
	p.http.Jar.SetCookies(u, []*http.Cookie{{Name: "ostiarius-session", Value: planted}})
	token := func() string {
		for _, c := range p.http.Jar.Cookies(u) {
			if c.Name == "ostiarius-session" {
				return c.Value
			}
		}
		return ""
	}
	signedIn := func(token string) bool {
		return strings.Contains(newPerson(t, s.URL).get("/door/me", "Cookie", "ostiarius-session="+token).body, `"signedIn":true`)
	}
	p.signIn("ines", "seven-brass-prisms", "")
	first := token()
	if first == planted || signedIn(planted) || !signedIn(first) {
		t.Fatal("a planted token was taken")
	}
	p.signIn("tobias", "quiet-harbour-ledger", "")
	second := token()
	if second == first || signedIn(first) || !signedIn(second) {
		t.Error("the session before goes on")
	}
	// A change of rights makes another token, too, which the browser gets at once.
	if err := client.GrantRole.Do(t.Context(), api, client.NewGrant{Account: "tobias", Role: "keeper"}); err != nil {
		t.Fatal(err)
	}
	p.is("/log/", 200, "")
	if token() == second || !signedIn(token()) {
		t.Error("the token did not change with the rights")
	}
	// Two cookies of that name are none: one of them was planted.
	if strings.Contains(newPerson(t, s.URL).get("/door/me", "Cookie",
		"ostiarius-session="+planted+"; ostiarius-session="+token()).body, `"signedIn":true`) {
		t.Error("two cookies are one")
	}
	for _, name := range []string{"Ostiarius-Session", "__Host-ostiarius-session", "ostiarius-device"} {
		if strings.Contains(newPerson(t, s.URL).get("/door/me", "Cookie", name+"="+token()).body, `"signedIn":true`) {
			t.Errorf("the cookie %s counts", name)
		}
	}
}

func TestLinkToSetAPassword(t *testing.T) {
	t.Parallel()
	s, _ := keepers(t)
	_, out, _ := run(t, "", "people", "add", "walt", "--role", "keeper", "--link", "--data", s.Data)
	link := regexp.MustCompile(`http://\S+/door/recover\?link=\S+`).FindString(out)
	if !strings.HasPrefix(link, s.URL) {
		t.Fatalf("%s", out)
	}
	ctx := tab(t)
	do(ctx, t, chromedp.Navigate(link), chromedp.Reload()) // looking does not use it up
	look(ctx, t, "h1", "Set your password")
	accessible(ctx, t, "set a password")
	do(ctx, t, keys("#password", "password1"), keys("#again", "password1\r"))
	look(ctx, t, "[role=alert]", "easy to guess")
	do(ctx, t, keys("#password", "paint-and-lentil-soup"), keys("#again", "paint-and-lentil-soup\r"))
	look(ctx, t, "[role=status]", "Your password is set")
	do(ctx, t, keys("#username", "walt"), keys("#password", "paint-and-lentil-soup\r"))
	look(ctx, t, "h1", "members/index.html")
	do(ctx, t, chromedp.Navigate(link))
	look(ctx, t, "h1", "This link has expired")
	if a := newPerson(t, s.URL).get(strings.TrimPrefix(link, s.URL)); a.status != 410 || a.header.Get("Referrer-Policy") != "no-referrer" {
		t.Errorf("%d %v", a.status, a.header)
	}
	if strings.Contains(s.Log(), strings.SplitAfter(link, "link=")[1]) {
		t.Error("the link is in the log")
	}
}

// One's own account, in two browsers.
func TestOwnAccount(t *testing.T) {
	t.Parallel()
	s, _ := keepers(t)
	here, there := tab(t), tab(t)
	for _, ctx := range []context.Context{here, there} {
		do(ctx, t, SignIn(s.URL, "tobias", "quiet-harbour-ledger"), chromedp.Navigate(s.URL+"/door/account"))
		look(ctx, t, "main", "Chrome on Linux")
	}
	do(here, t, chromedp.Reload())
	look(here, t, "main", "trustee")
	accessible(here, t, "account")
	do(here, t, chromedp.Click(`button[value=others]`))
	look(here, t, "[role=status]", "All other sessions were signed out")
	do(there, t, chromedp.Reload())
	look(there, t, "h1", "Sign in")
	do(there, t, keys("#username", "tobias"), keys("#password", "quiet-harbour-ledger\r"))
	look(there, t, "h1", "Your account")

	change := func(old, password string) {
		do(here, t, keys("#password", old), keys("#new", password), keys("#again", password+"\r"))
	}
	change("not-mine-at-all", "kettle-moth-anvil")
	look(here, t, "[role=alert]", "current password is wrong")
	change("quiet-harbour-ledger", "tobias2026")
	look(here, t, "[role=alert]", "easy to guess")
	change("quiet-harbour-ledger", "kettle-moth-anvil")
	look(here, t, "h1", "account/changed.html")
	do(here, t, chromedp.Navigate(s.URL+"/door/account"))
	look(here, t, "h1", "Your account")
	do(there, t, chromedp.Reload())
	look(there, t, "h1", "Sign in")
	// Ending this very session signs out.
	do(here, t, chromedp.Click(chromedp.CSS(".sessions button")))
	look(here, t, "h1", "members/index.html")
	do(here, t, chromedp.NavigateBack())
	look(here, t, "h1", "Sign in")
}

func TestPeopleImportAndExport(t *testing.T) {
	t.Parallel()
	s, _ := keepers(t)
	dir := t.TempDir()
	write(t, dir, "people.csv", "Name,Email,Roles,Notes\nbo,bo@marram.example,keeper;trustee@2999-12-31,\"paints, mostly\"\nines,,trustee,\n")
	file := filepath.Join(dir, "people.csv")
	people := func(args ...string) (int, string, string) {
		return run(t, "", append(append([]string{"people"}, args...), "--data", s.Data)...)
	}
	if code, out, _ := people("import", file, "--dry-run"); code != 0 ||
		!strings.Contains(out, "line 2  add     bo    roles keeper, trustee until 3000-01-01 00:00; no password yet") ||
		!strings.Contains(out, "1 new, 1 changed, 0 unchanged, 0 errors; nothing was changed: this was a dry run") {
		t.Errorf("exit %d\n%s", code, out)
	}
	if code, _, _ := people("show", "bo"); code != 1 {
		t.Error("a dry run added an account")
	}
	if code, out, errOut := people("import", file); code != 0 || !strings.Contains(out, "done") {
		t.Errorf("exit %d\n%s%s", code, out, errOut)
	}
	if _, out, _ := people("list", "--role", "trustee", "--sort", "name",
		"--down"); !regexp.MustCompile(`(?s)tobias.*ines.*bo`).MatchString(out) || strings.Contains(out, "agnes") {
		t.Errorf("trustees:\n%s", out)
	}
	_, exported, _ := people("export")
	if !strings.Contains(exported, "bo,bo@marram.example,keeper;trustee@") || !strings.Contains(exported, `"paints, mostly"`) ||
		strings.Contains(exported, "argon2") {
		t.Errorf("%s", exported)
	}
	write(t, dir, "again.csv", exported)
	if code, out, errOut := people("import", filepath.Join(dir, "again.csv")); code != 0 ||
		!strings.Contains(out, "0 new, 0 changed, 4 unchanged") {
		t.Errorf("exit %d\n%s%s", code, out, errOut)
	}
	_, asJSON, _ := people("export", "-o", "json")
	write(t, dir, "again.json", asJSON)
	if code, out, errOut := people("import", filepath.Join(dir, "again.json")); code != 0 ||
		!strings.Contains(out, "0 new, 0 changed, 4 unchanged") {
		t.Errorf("exit %d\n%s%s", code, out, errOut)
	}
	for text, says := range map[string]string{
		"":                        "no head line",
		"email\nx@y.z\n":          "the column name is missing",
		"name,password\nx,y\n":    `the column "password" is not known`,
		"[{\"name\": \"x\"},\n\n": "bad.csv: The list cannot be read: line 1: this is not the JSON that export writes",
	} {
		write(t, dir, "bad.csv", text)
		if code, _, errOut := people("import", filepath.Join(dir, "bad.csv")); code != 1 || !strings.Contains(errOut, says) {
			t.Errorf("%q: exit %d %s", text, code, errOut)
		}
	}
	write(t, dir, "bad.csv", "name,roles\nfine,keeper\nnot fine,keper\nx,keeper@soon\n")
	if code, out, _ := people("import", filepath.Join(dir, "bad.csv")); code != 1 || !strings.Contains(out, "line 3  error") ||
		!strings.Contains(out, `"soon" is no time`) || !strings.Contains(out, "nothing was changed") {
		t.Errorf("exit %d\n%s", code, out)
	}
	if code, _, _ := people("show", "fine"); code != 1 {
		t.Error("half of an import was done")
	}
}

func TestConsoleImport(t *testing.T) {
	t.Parallel()
	s, _ := keepers(t)
	dir := t.TempDir()
	ctx := tab(t)
	do(ctx, t, SignIn(s.URL, "agnes", "amber-lantern-shelf"), chromedp.Navigate(s.URL+"/door/console/people"))
	look(ctx, t, "table", "ines")
	do(ctx, t, chromedp.Click(`//button[.="Import"]`), chromedp.WaitVisible(`[role=dialog] textarea`))

	// Pasted, with a mistake: nothing can be brought in.
	do(ctx, t, keys(`[role=dialog] textarea`, "name,roles\nbo,keeper\ncy,keper\n"), chromedp.Click(`//button[.="Preview"]`))
	look(ctx, t, "[role=dialog] table", `"keper"`)
	look(ctx, t, "[role=dialog] [role=status]", "1 new")
	accessible(ctx, t, "import")
	do(ctx, t, chromedp.WaitVisible(`//button[.="Import 1" and @disabled]`))

	// From a file, first shown, then done.
	write(t, dir, "people.csv", "name,roles\nbo,keeper\ncy,keeper@2999-12-31\nines,keeper\n")
	do(ctx, t, chromedp.SetUploadFiles(`[role=dialog] input[type=file]`, []string{filepath.Join(dir, "people.csv")}))
	look(ctx, t, "[role=dialog] table", "no password yet")
	if code, _, _ := run(t, "", "people", "show", "bo", "--data", s.Data); code != 1 {
		t.Error("looking added an account")
	}
	do(ctx, t, chromedp.Click(`//button[.="Import 2"]`))
	look(ctx, t, "[role=dialog]", "Done.")
	accessible(ctx, t, "imported")
	do(ctx, t, chromedp.Click(`//button[.="Close"]`), chromedp.WaitNotPresent(`[role=dialog]`))
	look(ctx, t, "table", "cy")

	// What is exported is what the command writes.
	do(ctx, t, chromedp.Click(`//button[.="Export"]`), chromedp.WaitVisible(`//a[.="as CSV"]`))
	accessible(ctx, t, "export")
	got, err := chromedp.Run(ctx, chromedp.Evaluate[string](`fetch([...document.querySelectorAll("a[download]")].find(a => a.innerText `+
		`=== "as CSV").href).then(r => r.text())`, chromedp.EvalAwaitPromise))
	_, want, _ := run(t, "", "people", "export", "--data", s.Data)
	if err != nil || got != want || !strings.Contains(got, "cy,,keeper@2999-12-31T") && !strings.Contains(got, "cy,,keeper@3000-01-01T") {
		t.Errorf("%v\n%s\n%s", err, got, want)
	}
}

func TestSessionsAndActivityCommands(t *testing.T) {
	t.Parallel()
	s, _ := keepers(t)
	p := newPerson(t, s.URL)
	p.signIn("ines", "seven-brass-prisms", "")
	_, out, _ := run(t, "", "sessions", "list", "--data", s.Data)
	handle := regexp.MustCompile(`(?m)^([0-9a-f]{20})  ines`).FindStringSubmatch(out)
	if handle == nil {
		t.Fatalf("%s", out)
	}
	for _, step := range []struct {
		args string
		code int
		says string
	}{
		{"sessions list --account nobody", 1, "there is no account"},
		{"sessions list --account tobias", 0, "nobody is signed in"},
		{"sessions list --limit 0", 2, "from 1"},
		{"sessions end " + handle[1], 0, "has to sign in again"},
		{"sessions end " + handle[1], 1, "there is no session"},
		{"people end-sessions ines", 0, "ended 0 sessions of ines"},
		{"sessions end --all", 0, "ended 0 sessions"},
		{"sessions end --all x", 2, "takes no argument"},
		{"people edit ines", 2, "say what to change"},
		{"people edit ines --name agnes", 1, "another account has that name"},
		{"people edit ines --notes east", 0, "changed ines"},
		{"people grant ines trustee --from 2999-01-01 --until 2998-01-01", 1, "not after its beginning"},
		{"people grant ines trustee --from 2999-01-01", 0, "has the role"},
		{"people list --state asleep", 2, "--state asleep is unknown"},
		{"people list --search zzz", 0, "no matching accounts"},
		{"people add xy --words 2", 2, "from 4 to 12"},
		{"people add xy --generate", 0, "password  "},
		{"people link xy", 0, "/door/recover?link="},
		{"people disable xy", 0, "disabled"},
		{"people link xy", 1, "enable it first"},
		{"activity --kind role", 0, "role trustee from 2999-01-01"},
		{"activity --account xy --since 24h", 0, "account disabled"},
		{"activity --since 2999-01-01", 0, "no matching entries"},
		{"activity --since whenever", 2, "is not a time"},
		{"activity --kind sign-in -o json", 0, `"kind": "sign-in"`},
		{"password --words 6", 0, "-"},
		{"password --length 15", 0, "-"},
		{"password --length 9", 2, "from 10 to 64"},
		{"password --words 5 --all-characters", 2, "can't be used with"},
		{"people add yz --length 32 --all-characters", 0, "password  "},
	} {
		args := strings.Fields(step.args)
		if args[0] != "password" {
			args = append(args, "--data", s.Data)
		}
		code, out, errOut := run(t, "", args...)
		if code != step.code || !strings.Contains(out+errOut, step.says) {
			t.Errorf("%s: exit %d, %q %q, want %d, %q", step.args, code, out, errOut, step.code, step.says)
		}
	}
	p.is("/log/", 303, "/door/sign-in?next=%2Flog%2F")
	if _, out, _ := run(t, "", "activity", "--limit", "1000", "--data", s.Data); strings.Contains(out, "prisms") ||
		strings.Contains(out, "ledger") {
		t.Error("a password is in the activity")
	}
}

func TestMetrics(t *testing.T) {
	t.Parallel()
	s, _ := keepers(t)
	p := newPerson(t, s.URL)
	p.is("/door/metrics", 404, "")
	p.signIn("ines", "seven-brass-prisms", "")
	p.is("/door/metrics", 404, "")
	p.get("/office/")
	p.signIn("agnes", "amber-lantern-shelf", "")
	a := p.get("/door/metrics")
	if a.status != 200 || !strings.Contains(a.body, `ostiarius_requests_total{outcome="refuse"} 1`) ||
		!strings.Contains(a.body, "go_goroutines") {
		t.Errorf("%d %s", a.status, a.body)
	}
	open := start(t, siteOf(t), "--metrics-from", "127.0.0.0/8")
	if a := newPerson(t, open.URL).get("/door/metrics"); a.status != 200 {
		t.Errorf("from a network that may: %d", a.status)
	}
}

func siteOf(t *testing.T) string {
	dir := t.TempDir()
	write(t, dir, "site/index.html", "x")
	write(t, dir, "doors.yaml", "sources: [{path: /, files: ./site}]\ndoors: [{path: /, admit: public}]\n")
	return dir
}

// At least fifty spellings of next that lead elsewhere, or do in some program's reading.
func TestNextLeadsNowhereElse(t *testing.T) {
	s, _ := keepers(t)
	spellings, err := os.ReadFile("testdata/next.txt")
	if err != nil {
		t.Fatal(err)
	}
	tried := 0
	for _, line := range strings.Split(strings.TrimSpace(string(spellings)), "\n") {
		next, err := url.PathUnescape(line)
		if err != nil {
			next = line
		}
		tried++
		p := newPerson(t, s.URL)
		page := p.get("/door/sign-in?next=" + url.QueryEscape(next))
		kept := regexp.MustCompile(`name="next" value="([^"]*)"`).FindStringSubmatch(page.body)
		if kept == nil || !ownPath(kept[1]) {
			t.Errorf("%q: the form keeps %q", next, kept)
		}
		if page.header.Get("X-Injected") != "" {
			t.Errorf("%q injects a header", next)
		}
	}
	// A sign-in for each would take long; these lead to every way through the reading.
	for _, next := range []string{"https://elsewhere.example/", "//elsewhere.example", "/\\elsewhere.example",
		"/log/\r\nX-Injected: 1", "javascript:alert(1)", "/%2f%2felsewhere.example"} {
		if a := newPerson(t, s.URL).signIn("ines", "seven-brass-prisms", next); a.status != 303 || a.location != "/log/" ||
			a.header.Get("X-Injected") != "" {
			t.Errorf("%q: %d to %q", next, a.status, a.location)
		}
	}
	if tried < 50 {
		t.Errorf("only %d spellings", tried)
	}
}

// ownPath reports whether every browser takes an address for a path on this site.
func ownPath(s string) bool {
	return s == "" || s[0] == '/' && !strings.HasPrefix(s, "//") && !strings.ContainsAny(s, "\\\t\r\n\x00 ") &&
		!strings.HasPrefix(strings.TrimLeft(s, "/"), "/")
}
