package e2e

import (
	"encoding/csv"
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"

	"ostiarius/client"
)

const smallPolicy = `roles: {keeper: , trustee: }
sources: [{path: /, files: ./site}]
doors:
  - {path: /visit/**, admit: public}
  - {path: /office/**, admit: {role: trustee}}
  - {path: /log/**, admit: {role: keeper}}
`

func TestMatrix(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	write(t, dir, "doors.yaml", smallPolicy)
	for _, name := range []string{"index.html", "visit/index.html", "office/minutes 2026.html", "office/.hidden", "=cmd.csv"} {
		write(t, dir, "site/"+name, "x")
	}
	write(t, dir, "list.txt", "# addresses\n/visit/\nPOST /office/new\n\n/a%2fb\n")
	write(t, dir, "sitemap.xml", `<?xml version="1.0"?><urlset xmlns="http://www.sitemaps.org/schemas/sitemap/0.9">
	  <url><loc>https://marram.example/visit/</loc><lastmod>2026-01-01</lastmod></url>
	  <url><loc>https://marram.example/office/?a=1&amp;b=2</loc></url></urlset>`)
	write(t, dir, "index.xml", `<sitemapindex><sitemap><loc>https://marram.example/sitemap.xml</loc></sitemap></sitemapindex>`)
	write(t, dir, "bad.txt", "/visit/\nvisit\n")
	policy := filepath.Join(dir, "doors.yaml")
	for _, test := range []struct {
		args string
		code int
		says []string
	}{
		{"", 0, []string{"place       anonymous  signed-in  role:keeper  role:trustee  role:steward",
			"/office/**  C          R          R            A             R", "unlisted    C          A          A            A             A"}},
		{"--files", 0, []string{"/office/minutes 2026.html  C", "/visit/ ", "4 places"}},
		{"--as role:trustee,from:192.0.2.7 -o json", 0, []string{`"role:trustee,from:192.0.2.7"`}},
		{"--addresses DIR/list.txt", 0, []string{"POST /office/new  C", "/a%2fb            X", "/a%2fb is rejected: "}},
		{"--addresses DIR/sitemap.xml", 0, []string{"marram.example/office/  C", "2 places"}},
		{"--addresses DIR/index.xml", 1, []string{"index of sitemaps"}},
		{"--addresses DIR/bad.txt", 1, []string{"bad.txt:2: ", "isn't an address"}},
		{"--addresses DIR/none.txt", 1, []string{"can't be read"}},
		{"--addresses DIR/doors.yaml --files", 2, []string{"can't be used together"}},
		{"--as keeper", 2, []string{`"keeper" is not understood`}},
		{"-o pdf", 2, []string{"table or csv or json or html"}},
	} {
		args := append([]string{"matrix", "--policy", policy}, strings.Fields(strings.ReplaceAll(test.args, "DIR", dir))...)
		code, out, errOut := run(t, "", args...)
		for _, says := range test.says {
			if code != test.code || !strings.Contains(out+errOut, says) {
				t.Errorf("matrix %s: exit %d, %q missing in\n%s%s", test.args, code, says, out, errOut)
			}
		}
	}

	_, out, _ := run(t, "", "matrix", "--policy", policy, "--files", "-o", "csv")
	records, err := csv.NewReader(strings.NewReader(out)).ReadAll()
	if err != nil || len(records) != 5 || records[0][5] != "anonymous" || records[4][5] != "admit" {
		t.Errorf("CSV: %v %q", err, records)
	}
	for _, record := range records {
		if strings.HasPrefix(record[0], "=") {
			t.Errorf("a formula in %q", record)
		}
	}

	// The running service says the same.
	s := start(t, dir)
	for _, args := range [][]string{{}, {"--files"}, {"--addresses", filepath.Join(dir, "list.txt")}} {
		_, offline, _ := run(t, "", append([]string{"matrix", "--policy", policy}, args...)...)
		_, online, errOut := run(t, "", append([]string{"matrix", "--data", s.Data}, args...)...)
		if offline != online {
			t.Errorf("matrix %v: the service says\n%s%s\nthe file\n%s", args, online, errOut, offline)
		}
	}
}

// The page is whole: it shows in a browser without fetching anything.
func TestMatrixPage(t *testing.T) {
	t.Parallel()
	code, out, errOut := run(t, "", "matrix", "--policy", filepath.Join(Root(), "demo", "doors.yaml"), "-o", "html")
	if code != 0 {
		t.Fatal(errOut)
	}
	file := filepath.Join(t.TempDir(), "matrix.html")
	if err := os.WriteFile(file, []byte(out), 0o600); err != nil {
		t.Fatal(err)
	}
	ctx := tab(t)
	do(ctx, t, chromedp.Navigate("file://"+file))
	look(ctx, t, "h1", "Who gets what at Marram Point Lighthouse Trust")
	look(ctx, t, "tbody", "challenge (sign-in)")
	accessible(ctx, t, "matrix page")
	fetched, err := chromedp.Run(ctx, chromedp.Evaluate[int](`performance.getEntriesByType("resource").length`))
	if err != nil || fetched != 0 {
		t.Errorf("the page fetches %d things (%v)", fetched, err)
	}
}

func TestCheckFindsWhatIsWorthALook(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	write(t, dir, "doors.yaml", smallPolicy+"  - {path: /office/plans, admit: public}\n")
	write(t, dir, "site/press/index.html", "x")
	policy := filepath.Join(dir, "doors.yaml")
	code, out, _ := run(t, "", "check", policy, "-o", "json")
	var report client.Checked
	if err := json.Unmarshal([]byte(out), &report); err != nil || code != 0 || !report.OK {
		t.Fatal(code, err, out)
	}
	rules := map[string]string{}
	for _, f := range report.Findings {
		rules[f.Rule] = fmt.Sprint(f.Line, " ", f.Severity, " ", f.Witness)
	}
	want := map[string]string{
		"open-under-closed": "7 warning GET /office/plans as anonymous -> admit",
		"only-unlisted":     "2 warning GET /press/ as anonymous -> challenge",
	}
	if fmt.Sprint(rules) != fmt.Sprint(want) {
		t.Errorf("%v, want %v", rules, want)
	}
	for _, step := range []struct {
		args string
		code int
	}{{"--strict", 1}, {"--strict --allow only-unlisted", 1}, {"--strict --allow only-unlisted,open-under-closed", 0}} {
		if code, out, _ := run(t, "", append([]string{"check", policy}, strings.Fields(step.args)...)...); code != step.code {
			t.Errorf("check %s: exit %d\n%s", step.args, code, out)
		}
	}
}

func TestExpect(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	write(t, dir, "doors.yaml", smallPolicy)
	write(t, dir, "site/index.html", "x")
	policy, table := filepath.Join(dir, "doors.yaml"), filepath.Join(dir, "table.yaml")
	write(t, dir, "table.yaml", "- { as: [anonymous, role:trustee], path: /visit/, outcome: admit }\n- { as: role:keeper, method: POST, "+
		"path: [/office/, https://x.example/office/a], outcome: refuse }\n")
	code, out, _ := run(t, "", "expect", table, "--policy", policy)
	if code != 0 || !strings.Contains(out, "table.yaml:2: ok: POST https://x.example/office/a as role:keeper: refuse\n") ||
		!strings.Contains(out, "4 expectations, 0 not as expected") {
		t.Errorf("exit %d\n%s", code, out)
	}
	s := start(t, dir)
	if code, out, errOut := run(t, "", "expect", table, "--data", s.Data); code != 0 || !strings.Contains(out, "held against version 1") {
		t.Errorf("exit %d\n%s%s", code, out, errOut)
	}
	write(t, dir, "table.yaml", "- { as: role:keper, path: /visit/, outcome: admit }\n- { as: anonymous, path: /office/, outcome: hide }\n")
	code, out, _ = run(t, "", "expect", table, "--policy", policy)
	if code != 1 || !strings.Contains(out, `table.yaml:1: NOT AS EXPECTED: GET /visit/ as role:keper: admit, not admit; the policy has `+
		`no role "keper"`) ||
		!strings.Contains(out, "table.yaml:2: NOT AS EXPECTED: GET /office/ as anonymous: challenge, not hide; by line 5 (/office/**)") {
		t.Errorf("exit %d\n%s", code, out)
	}
	code, out, _ = run(t, "", "expect", table, "--policy", policy, "-o", "sarif")
	if code != 1 || strings.Count(out, `"ruleId": "expectation-missed"`) != 2 {
		t.Errorf("exit %d\n%s", code, out)
	}
	write(t, dir, "table.yaml", "- { as: nobody, path: /visit/, outcome: admit }\n")
	if code, _, errOut := run(t, "", "expect", table, "--policy", policy); code != 1 || !strings.Contains(errOut, "table.yaml:1:9: error: ") {
		t.Errorf("exit %d\n%s", code, errOut)
	}
}

// The documented pipeline runs, and does what its page says.
func TestContinuousIntegration(t *testing.T) {
	t.Parallel()
	page, err := os.ReadFile(filepath.Join(Root(), "docs", "continuous-integration.md"))
	if err != nil {
		t.Fatal(err)
	}
	block := func(language, with string) string {
		for _, part := range strings.Split(string(page), "```"+language+"\n")[1:] {
			if text, _, _ := strings.Cut(part, "```"); strings.Contains(text, with) {
				return text
			}
		}
		t.Fatalf("the page has no %s with %q", language, with)
		return ""
	}
	dir := t.TempDir()
	policy, err := os.ReadFile(filepath.Join(Root(), "demo", "doors.yaml"))
	if err != nil {
		t.Fatal(err)
	}
	if err := os.CopyFS(filepath.Join(dir, "site"), os.DirFS(filepath.Join(Root(), "demo", "site"))); err != nil {
		t.Fatal(err)
	}
	if err := os.CopyFS(filepath.Join(dir, "desk"), os.DirFS(filepath.Join(Root(), "demo", "desk", "dist"))); err != nil {
		t.Fatal(err)
	}
	write(t, dir, "desk-routes.json", `[{"path": "/desk"}]`)
	write(t, dir, "doors.yaml", string(policy))
	write(t, dir, "expectations.yaml", block("yaml", "as:"))
	write(t, dir, "pipeline.sh", block("sh", "set -eu"))
	write(t, dir, "opening.sh", block("sh", "this opens something"))
	shell := func(script string) (int, string) {
		c := exec.Command("sh", "-c", script)
		c.Dir = dir
		c.Env = append(os.Environ(), "PATH="+filepath.Dir(Binary())+":"+os.Getenv("PATH"), "BASE=HEAD",
			"GIT_AUTHOR_NAME=t", "GIT_AUTHOR_EMAIL=t@example.org", "GIT_COMMITTER_NAME=t", "GIT_COMMITTER_EMAIL=t@example.org")
		out, _ := c.CombinedOutput()
		return c.ProcessState.ExitCode(), string(out)
	}
	if code, out := shell("git init -q && git add doors.yaml && git commit -qm first"); code != 0 {
		t.Fatal(out)
	}
	if code, out := shell("sh pipeline.sh && sh opening.sh"); code != 0 || !strings.Contains(out, "The doors decide as before.") {
		t.Errorf("nothing changed: exit %d\n%s", code, out)
	}
	const friends = "/friends/**, admit: { role: friend }"
	write(t, dir, "doors.yaml", strings.Replace(string(policy), friends, "/friends/**, admit: { role: [friend, volunteer] }", 1))
	if code, out := shell("sh pipeline.sh"); code != 0 || !strings.Contains(out, "opened\n  GET /friends as role:volunteer") {
		t.Errorf("something opens: exit %d\n%s", code, out)
	}
	if code, out := shell("sh opening.sh"); code != 1 || !strings.Contains(out, "this opens something") {
		t.Errorf("something opens: exit %d\n%s", code, out)
	}
	write(t, dir, "doors.yaml", strings.Replace(string(policy), "outer, role: trustee", "outer, role: keeper", 1))
	if code, out := shell("sh pipeline.sh"); code != 1 || !strings.Contains(out, "guarantee-broken") {
		t.Errorf("a guarantee breaks: exit %d\n%s", code, out)
	}
}

func TestConsoleMatrix(t *testing.T) {
	ctx := tab(t)
	do(ctx, t, SignIn(lamp.URL, "agnes", agnes), chromedp.Navigate(lamp.URL+"/door/console/matrix"))
	look(ctx, t, "[role=grid]", "/board")
	accessible(ctx, t, "matrix")
	filter := func(words string) {
		t.Helper()
		do(ctx, t, chromedp.Focus("input[type=search]"),
			chromedp.Evaluate[chromedp.Void](`document.querySelector("input[type=search]").select()`), chromedp.KeyEvent(words+kb.Tab))
	}
	filter("unlisted")
	look(ctx, t, "[role=grid]", "everything else (unlisted)")
	filter("office")
	look(ctx, t, "[role=grid]", "/office/**")
	do(ctx, t, chromedp.Click(`//*[@aria-label="/minutes as role:keeper: denied"]`))
	look(ctx, t, "[role=dialog]", "missing: credentials from the keyring outer and the role trustee")
	look(ctx, t, "[role=dialog]", "GET /office/minutes/")
	accessible(ctx, t, "matrix, why")
	do(ctx, t, chromedp.Click(`//button[.="Close"]`), chromedp.WaitNotPresent(`[role=dialog]`))
	filter("recordings")
	do(ctx, t, chromedp.WaitNotPresent(`//code[.="/office/**"]`))
	look(ctx, t, "[role=grid]", "/recordings/**")

	// The lines are opened, and walked through, by the keyboard.
	do(ctx, t, chromedp.Navigate(lamp.URL+"/door/console/matrix"))
	look(ctx, t, "[role=grid]", "/board")
	do(ctx, t, chromedp.Focus(`[data-cell="0 0"]`), chromedp.KeyEvent(kb.ArrowLeft))
	do(ctx, t, chromedp.WaitNotPresent(`//code[starts-with(., "/board")]`))
	do(ctx, t, chromedp.KeyEvent(kb.ArrowRight), chromedp.WaitVisible(`//code[starts-with(., "/board")]`),
		chromedp.KeyEvent(kb.ArrowDown+kb.ArrowDown+kb.ArrowRight+kb.ArrowRight+kb.ArrowRight))
	at := func(cell string) {
		t.Helper()
		do(ctx, t, chromedp.WaitVisible(fmt.Sprintf(`[data-cell="%s"]:focus`, cell)))
	}
	at("2 2")
	do(ctx, t, chromedp.KeyEvent(kb.End+kb.Home))
	at("2 0")
	do(ctx, t, chromedp.KeyEvent(kb.PageDown))
	do(ctx, t, chromedp.WaitNotPresent(`[data-cell="2 0"]:focus`))
	// Columns are chosen, and stay chosen.
	for _, step := range []string{`//button[starts-with(., "Visitors: all")]`, `//button[.="Not signed in only"]`,
		`//label[contains(., "role:keeper")]//input`} {
		do(ctx, t, chromedp.Click(step))
	}
	do(ctx, t, chromedp.Navigate(lamp.URL+"/door/console/matrix"), chromedp.WaitVisible(`//button[starts-with(., "Visitors: 2 of")]`))
	look(ctx, t, "[role=grid]", "keeper")
	if n, err := chromedp.Run(ctx, chromedp.Evaluate[int](`document.querySelectorAll("[role=columnheader]").length`)); err != nil || n != 3 {
		t.Errorf("%d heads: %v", n, err)
	}

	do(ctx, t, chromedp.Navigate(lamp.URL+"/door/console/matrix?as=role:trustee,proof-age:20m"))
	look(ctx, t, "[role=grid]", "proof-age:20m")
	do(ctx, t, keys(`input[placeholder^="role:"]`, "nonsense\r"))
	look(ctx, t, "[role=alert]", "is not understood")
	do(ctx, t, chromedp.Click(`//button[.="Show the usual visitors only"]`))
	look(ctx, t, "[role=grid]", "/board")
}

func TestConsoleShowsGuarantees(t *testing.T) {
	ctx := tab(t)
	do(ctx, t, SignIn(lamp.URL, "agnes", agnes), chromedp.Navigate(lamp.URL+"/door/console/policy"),
		chromedp.WaitVisible(chromedp.CSS(".cm-content")))
	look(ctx, t, "main", "only: role: trustee")
	do(ctx, t, chromedp.Focus(chromedp.CSS(".cm-content")), chromedp.KeyEvent(strings.Repeat(kb.ArrowDown, 34)+kb.End),
		Insert("\n  - { path: /office/plans, admit: signed-in }"))
	look(ctx, t, "main", "broken")
	look(ctx, t, "main", "GET /office/plans as signed-in")
	look(ctx, t, "main", "minutes and keys are for trustees")
}
