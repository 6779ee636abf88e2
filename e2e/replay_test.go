package e2e

import (
	"bytes"
	"compress/gzip"
	"encoding/json"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"

	"ostiarius/client"
	"ostiarius/core/replay"
)

const replayLog = `192.0.2.7 - ines [26/Nov/2026:12:30:05 +0000] "GET /log/ HTTP/1.1" 200 120 "-" "x"
192.0.2.8 - - [26/Nov/2026:12:31:05 +0000] "GET /visit/?a=b HTTP/1.1" 200 120 "-" "x"
192.0.2.9 - - [26/Nov/2026:12:32:05 +0000] "GET /visit/ HTTP/1.1" 200 120 "-" "x"
not a line
192.0.2.9 - - [26/Nov/2026:12:33:05 +0000] "GET /rota/ HTTP/1.1" 303 0 "-" "x"
`

// A log, however it comes, is judged by two policies; who asked is looked up.
func TestReplay(t *testing.T) {
	t.Parallel()
	s, dir := patrolSite(t)
	if _, err := client.AddPerson.Ask(t.Context(), client.New(s.Data),
		client.NewPerson{Name: "ines", Password: "seven-brass-prisms", Roles: []string{"keeper"}}); err != nil {
		t.Fatal(err)
	}
	draft := strings.NewReplacer("[/, /visit/**], admit: public",
		"/, admit: public }\n  - { path: /visit/**, admit: nobody").Replace(patrolPolicy)
	write(t, dir, "draft.yaml", draft)
	write(t, dir, "access.log", replayLog)
	var zipped bytes.Buffer
	z := gzip.NewWriter(&zipped)
	z.Write([]byte(replayLog))
	z.Close()
	write(t, dir, "access.log.1.gz", zipped.String())
	args := []string{"--policy", filepath.Join(dir, "draft.yaml"), "--against", "1", "--data", s.Data, "-o", "json"}
	var all []string
	for _, c := range []struct {
		in   string
		logs []string
	}{{"", []string{filepath.Join(dir, "access.log")}}, {replayLog, []string{"-"}}, {"", []string{filepath.Join(dir, "access.log.1.gz")}}} {
		code, out, errOut := run(t, c.in, append(append([]string{"replay"}, c.logs...), args...)...)
		if code != 1 {
			t.Fatalf("exit %d %s", code, errOut)
		}
		all = append(all, out)
	}
	var r replay.Result
	if err := json.Unmarshal([]byte(all[0]), &r); err != nil {
		t.Fatal(err)
	}
	if all[0] != all[1] || all[0] != all[2] {
		t.Error("the same lines come to something else compressed, or by standard input")
	}
	if r.Lines != 5 || r.Requests != 4 || r.Unread != 1 || r.Named != 1 || r.Changed != 2 || len(r.Groups) != 1 ||
		r.Groups[0].Effect != replay.Closed || r.Groups[0].Requests != 2 || r.Groups[0].People != 2 || r.Groups[0].Path != "/visit" {
		t.Errorf("%s", all[0])
	}
	code, out, _ := run(t, "", "replay", filepath.Join(dir, "access.log"), "--policy", filepath.Join(dir, "doors.yaml"), "--against",
		filepath.Join(dir, "doors.yaml"))
	if code != 0 || !strings.Contains(out, "No request would certainly get a different answer") || !strings.Contains(out, "not a line") {
		t.Errorf("exit %d %s", code, out)
	}
	write(t, dir, "broken.gz", zipped.String()[:40])
	for _, bad := range [][]string{{}, {filepath.Join(dir, "none.log")}, {filepath.Join(dir, "broken.gz")}, {dir}} {
		if code, _, errOut := run(t, "",
			append(append([]string{"replay"}, bad...), "--policy", filepath.Join(dir, "doors.yaml"))...); code == 0 ||
			strings.Count(errOut, "\n") > 2 {
			t.Errorf("%v: exit %d %s", bad, code, errOut)
		}
	}
}

// The documented pipeline against a running site holds what it says, from the first run on.
func TestPipelineAgainstARunningSite(t *testing.T) {
	t.Parallel()
	page, err := os.ReadFile(filepath.Join(Root(), "docs", "continuous-integration.md"))
	if err != nil {
		t.Fatal(err)
	}
	_, after, _ := strings.Cut(string(page), "## Against the running site")
	_, script, _ := strings.Cut(after, "```sh\n")
	script, _, _ = strings.Cut(script, "```")
	_, dir := patrolSite(t)
	write(t, dir, "base.yaml", patrolPolicy)
	write(t, dir, "access.log", replayLog)
	write(t, dir, "expectations.yaml", "- { as: anonymous, path: /log/, outcome: challenge }\n")
	write(t, dir, "pipeline.sh", script)
	pipeline := func() (int, string) {
		c := exec.Command("sh", "pipeline.sh")
		c.Dir = dir
		c.Env = append(os.Environ(), "PATH="+filepath.Dir(Binary())+":"+os.Getenv("PATH"), "LOG=access.log")
		out, _ := c.CombinedOutput()
		return c.ProcessState.ExitCode(), string(out)
	}
	for range 2 {
		if code, out := pipeline(); code != 0 || !strings.Contains(out, "No request would certainly get a different answer") {
			t.Fatalf("exit %d %s", code, out)
		}
	}
	write(t, dir, "www/visit/index.html", `<p>Tours for all who come, on Sundays and on holidays.</p><a href="/visit/gone/">Gone</a>`)
	if code, out := pipeline(); code != 1 || !strings.Contains(out, "broken-link") {
		t.Errorf("exit %d %s", code, out)
	}
	if report, err := os.ReadFile(filepath.Join(dir, "patrol.html")); err != nil || !strings.Contains(string(report), "/visit/gone/") {
		t.Errorf("the report: %v", err)
	}
	write(t, dir, "doors.yaml", strings.Replace(patrolPolicy, "/visit/**]", "/log/**, /visit/**]", 1))
	if code, out := pipeline(); code == 0 || !strings.Contains(out, "two-doors") && !strings.Contains(out, "log") {
		t.Errorf("exit %d %s", code, out)
	}
}

// A draft says which requests of the last days it would answer otherwise, and shows them, before it is applied.
func TestDraftIsTriedOnTheLastDays(t *testing.T) {
	t.Parallel()
	dir := shortDir(t)
	write(t, dir, "doors.yaml", patrolPolicy)
	for _, name := range []string{"visit", "rota", "log"} {
		write(t, dir, "www/"+name+"/index.html", name)
	}
	s := start(t, dir, "--keep-decisions", "7d")
	api := client.New(s.Data)
	if _, err := client.AddPerson.Ask(t.Context(), api,
		client.NewPerson{Name: "agnes", Password: "amber-lantern-shelf", Roles: []string{"steward", "keeper"}}); err != nil {
		t.Fatal(err)
	}
	stranger := newPerson(t, s.URL)
	for range 3 {
		stranger.is("/visit/?secret=x", 200, "")
	}
	stranger.is("/log/", 303, "/door/sign-in?next=%2Flog%2F")
	ctx := tab(t)
	do(ctx, t, SignIn(s.URL, "agnes", "amber-lantern-shelf"), chromedp.Navigate(s.URL+"/log/"))
	draft := strings.Replace(patrolPolicy, "[/, /visit/**], admit: public", "/, admit: public }\n  - { path: /visit/**, admit: signed-in", 1)
	tried, err := client.ReplayPolicy.Ask(t.Context(), api, client.Draft{Text: draft})
	if err != nil || !tried.Whole || tried.Kept != "7d" || tried.Changed != 3 || tried.People != 1 || len(tried.Groups) != 1 ||
		tried.Groups[0].Path != "/visit" || tried.Groups[0].Before != "admit" || tried.Groups[0].After != "challenge" {
		t.Fatalf("%+v %v", tried, err)
	}
	same, err := client.ReplayPolicy.Ask(t.Context(), api, client.Draft{Text: patrolPolicy})
	if err != nil || same.Changed != 0 || same.Requests < tried.Requests { // the browser may have asked for more meanwhile
		t.Errorf("%+v %v", same, err)
	}
	// The command reads the same records.
	days, err := filepath.Glob(filepath.Join(s.Data, "decisions", "*.jsonl"))
	if err != nil || len(days) == 0 {
		t.Fatal(days, err)
	}
	write(t, dir, "draft.yaml", draft)
	code, out, errOut := run(t, "", append(append([]string{"replay"}, days...), "--policy", filepath.Join(dir, "draft.yaml"), "-o", "json")...)
	if code != 1 || !strings.Contains(out, `"changed": 3`) || strings.Contains(out, "secret") {
		t.Errorf("exit %d %s%s", code, out, errOut)
	}
	do(ctx, t, chromedp.Navigate(s.URL+"/door/console/policy"))
	look(ctx, t, "main", "No changes: the draft is the same as the active policy.")
	do(ctx, t, chromedp.Focus(chromedp.CSS(".cm-content")), chromedp.KeyEvent(strings.Repeat(kb.ArrowDown, 7)+kb.Home),
		Insert("- { path: /visit, admit: nobody }\n  "))
	look(ctx, t, "main", "3 by 1 person would get a different answer.")
	do(ctx, t, pushed("Show them")...)
	look(ctx, t, "[role=dialog]", "GET 127.0.0.1/visit")
	look(ctx, t, "[role=dialog]", "3 requests, last")
	accessible(ctx, t, "what is answered otherwise")
}
