package e2e

import (
	"bytes"
	"encoding/json"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"ostiarius/cli"
	"ostiarius/core/policy/read"
)

// run runs a command of the real binary.
func run(t *testing.T, in string, args ...string) (code int, out, errOut string) {
	t.Helper()
	var o, e bytes.Buffer
	c := exec.Command(Binary(), args...)
	c.Stdin, c.Stdout, c.Stderr = strings.NewReader(in), &o, &e
	err := c.Run()
	if _, exited := err.(*exec.ExitError); err != nil && !exited {
		t.Fatal(err)
	}
	return c.ProcessState.ExitCode(), o.String(), e.String()
}

func TestPeople(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	write(t, dir, "site/index.html", "x")
	write(t, dir, "doors.yaml", "roles: {keeper: , guide: }\nsources: [{path: /, files: ./site}]\ndoors: [{path: /, admit: {role: keeper}}]\n")
	s := start(t, dir)
	for _, step := range []struct {
		args string
		in   string
		code int
		says string // on standard output, or on standard error if it fails
	}{
		{"list", "", 0, "no accounts yet"},
		{"add Ines --role keeper --password-stdin", "seven-brass-prisms\n", 0, "added Ines with keeper"},
		{"add INES --password-stdin", "kettle-moth-anvil\n", 1, `there is an account "INES" already`},
		{"add bo --password-stdin", "short\n", 1, "at least 8"},
		{"add bo --password-stdin", "", 2, "standard input is empty"},
		{"add bo", "", 2, "--password-stdin"},
		{"add b/o --password-stdin", "long-enough-1\n", 1, "a name has none of"},
		{"add bo --role keper --password-stdin", "long-enough-1\n", 1, `unknown role "keper"; the policy has keeper, guide, steward`},
		{"add bo --email nonsense --password-stdin", "long-enough-1\n", 1, "no e-mail address"},
		{"add", "", 2, "NAME is missing"},
		{"list", "", 0, " enabled  never"},
		{"show ines", "", 0, "roles now     keeper"},
		{"show nobody", "", 1, `there is no account "nobody"`},
		{"grant ines guide --until 2999-12-31", "", 0, "has the role guide, until 2999-12-31"},
		{"grant ines guide --until 1999-12-31", "", 1, "not in the future"},
		{"grant ines guide --until soon", "", 2, "write a date"},
		{"grant ines nothing", "", 1, "unknown role"},
		{"revoke ines keeper", "", 0, "revoked the role keeper from"},
		{"revoke ines keeper", "", 1, "has not been granted"},
		{"set-password ines --password-stdin", "eight-brass-prisms\n", 0, "its sessions have ended"},
		{"disable ines", "", 0, "disabled ines"},
		{"show ines", "", 0, "disabled"},
		{"enable ines", "", 0, "enabled ines"},
		{"remove ines", "", 0, "removed ines"},
		{"remove ines", "", 1, "there is no account"},
		{"lst", "", 2, `did you mean "list"`},
		{"list extra", "", 2, "takes no arguments"},
		{"list -o xml", "", 2, "table or json"},
		{"list --nonsense", "", 2, "unknown flag"},
	} {
		code, out, errOut := run(t, step.in, append(strings.Fields("people "+step.args), "--data", s.Data)...)
		said, other := out, errOut
		if step.code != 0 {
			said, other = errOut, out
		}
		if code != step.code || !strings.Contains(said, step.says) || other != "" {
			t.Errorf("people %s: exit %d, out %q, err %q; want %d, %q", step.args, code, out, errOut, step.code, step.says)
		}
		if lines := strings.Count(errOut, "\n"); step.code == 1 && lines != 1 || step.code == 2 && lines != 2 {
			t.Errorf("people %s: the error has %d lines: %q", step.args, lines, errOut)
		}
		if strings.Contains(s.Log()+errOut+out, "prisms") {
			t.Errorf("people %s: a password was shown", step.args)
		}
	}
}

// What is changed holds on the very next request of an open session.
func TestChangesAreSeenAtOnce(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	write(t, dir, "site/index.html", "x")
	write(t, dir, "doors.yaml", "roles: {keeper: , guide: }\nsources: [{path: /, files: ./site}]\ndoors: [{path: /, admit: {role: keeper}}]\n")
	s := start(t, dir)
	people := func(in string, args ...string) {
		t.Helper()
		if code, _, errOut := run(t, in, append(append([]string{"people"}, args...), "--data", s.Data)...); code != 0 {
			t.Fatalf("people %v: %s", args, errOut)
		}
	}
	people("seven-brass-prisms\n", "add", "ines", "--password-stdin")
	p := newPerson(t, s.URL)
	p.signIn("ines", "seven-brass-prisms", "/")
	p.is("/", 403, "")
	people("", "grant", "ines", "keeper")
	p.is("/", 200, "")
	people("", "revoke", "ines", "keeper")
	p.is("/", 403, "")
	until := time.Now().Add(1500 * time.Millisecond).Truncate(time.Millisecond)
	people("", "grant", "ines", "keeper", "--until", until.UTC().Format(time.RFC3339Nano))
	p.is("/", 200, "")
	eventually(t, func() bool { return p.get("/").status == 403 })
	if early := time.Now().Before(until); early {
		t.Error("the grant ended too early")
	}
	people("", "grant", "ines", "keeper")
	p.is("/", 200, "")
	people("", "disable", "ines")
	p.is("/", 303, "/door/sign-in?next=%2F")
	if a := p.signIn("ines", "wrong-password", "/"); a.status != 422 || strings.Contains(a.body, "is disabled") {
		t.Error("a stranger learns that the account is disabled")
	}
	if a := p.signIn("ines", "seven-brass-prisms", "/"); a.status != 403 || !strings.Contains(a.body, "is disabled") {
		t.Errorf("a disabled account is told %d %s", a.status, a.body)
	}
	people("", "enable", "ines")
	p.is("/", 303, "/door/sign-in?next=%2F") // the old session does not come back
	p.signIn("ines", "seven-brass-prisms", "/")
	p.is("/", 200, "")
	people("eight-brass-prisms\n", "set-password", "ines", "--password-stdin")
	p.is("/", 303, "/door/sign-in?next=%2F")
	p.signIn("ines", "eight-brass-prisms", "/")
	p.is("/", 200, "")
	people("", "remove", "ines")
	p.is("/", 303, "/door/sign-in?next=%2F")
}

func TestCheckAndExplain(t *testing.T) {
	dir := t.TempDir()
	good, bad := filepath.Join(dir, "good.yaml"), filepath.Join(dir, "bad.yaml")
	write(t, dir, "good.yaml", "roles: {keeper: }\ndoors:\n  - { path: /log/**, admit: { role: keeper } }\n")
	write(t, dir, "bad.yaml", "roles: {keeper: }\nsources: [{path: /, files: ./nowhere}]\ndoors:\n  - { path: /log/**, admit: { role: "+
		"keper } }\n  - { path: x, admit: public }\n")

	if code, out, _ := run(t, "", "check", good); code != 0 || !strings.Contains(out, "no errors") {
		t.Errorf("check good: %d %q", code, out)
	}
	code, out, _ := run(t, "", "check", bad, "-o", "json")
	var checked struct {
		OK       bool
		Findings []struct {
			Severity, Rule, Message, File string
			Line, Column                  int
		}
	}
	if err := json.Unmarshal([]byte(out), &checked); err != nil || code != 1 || checked.OK || len(checked.Findings) != 2 ||
		checked.Findings[0].Line != 4 || checked.Findings[0].Column != 37 || checked.Findings[1].Rule != "bad-pattern" {
		t.Errorf("check bad as JSON: %d %+v %v", code, checked, err)
	}
	if code, out, _ := run(t, "", "check", bad); code != 1 ||
		!strings.Contains(out, ":4:37: error: unknown role \"keper\"; did you mean \"keeper\"?") || !strings.Contains(out, "^^^^^") {
		t.Errorf("check bad: %d %s", code, out)
	}
	if code, _, errOut := run(t, "", "check", filepath.Join(dir, "none.yaml")); code != 1 || !strings.Contains(errOut, "can't be read") {
		t.Errorf("check none: %d %q", code, errOut)
	}
	if code, _, _ := run(t, "", "check", good, bad); code != 2 {
		t.Errorf("check two files: %d", code)
	}
	_, out, _ = run(t, "", "check", bad, "-o", "sarif")
	var sarif struct {
		Version string
		Runs    []struct {
			Results []struct {
				RuleID, Level string
				Locations     []struct {
					PhysicalLocation struct {
						Region struct{ StartLine, StartColumn, EndColumn int }
					}
				}
			}
		}
	}
	if err := json.Unmarshal([]byte(out), &sarif); err != nil || sarif.Version != "2.1.0" || len(sarif.Runs) != 1 ||
		len(sarif.Runs[0].Results) != 2 {
		t.Errorf("check as SARIF: %v %s", err, out)
	} else if r := sarif.Runs[0].Results[0]; r.RuleID != "unknown-role" || r.Level != "error" ||
		r.Locations[0].PhysicalLocation.Region.EndColumn != 42 {
		t.Errorf("check as SARIF: %+v", r)
	}
	write(t, dir, "bad.yaml", "sources: [{path: /, files: ./nowhere}]\ndoors: [{path: /, admit: public}]\n")
	if code, out, _ := run(t, "", "check", bad); code != 1 || !strings.Contains(out, ":1:28: error: there is no directory") {
		t.Errorf("check a missing source: %d %q", code, out)
	}

	write(t, dir, "huge.yaml", strings.Repeat("# fifty million bytes of nothing\n", 50_000_000/33))
	if code, out, _ := run(t, "", "check", filepath.Join(dir, "huge.yaml")); code != 1 ||
		!strings.Contains(out, "a policy has at most") || len(out) > 1000 {
		t.Errorf("check a huge file: %d %.200q", code, out)
	}

	code, out, _ = run(t, "", "explain", "GET", "/log/?x=1", "--policy", good, "--as", "anonymous", "-o", "json")
	var e struct {
		Outcome, Path string
		Doors         []struct {
			Line int
			Path string
		}
		Answer struct {
			Status   int
			Location string
		}
		Steps []any
	}
	if err := json.Unmarshal([]byte(out), &e); err != nil || code != 0 || e.Outcome != "challenge" || e.Path != "/log" ||
		len(e.Doors) != 1 || e.Doors[0].Line != 3 || e.Doors[0].Path != "/log/**" ||
		e.Answer.Status != 303 || e.Answer.Location != "/door/sign-in?next=%2Flog%2F%3Fx%3D1" || len(e.Steps) < 5 {
		t.Errorf("explain: %d %s %v", code, out, err)
	}
	if code, out, _ := run(t, "", "explain", "GET", "/log/", "--policy", good, "--as", "role:volunteer"); code != 0 ||
		!strings.HasPrefix(out, "refuse\n") {
		t.Errorf("explain a refusal: %d %q", code, out)
	}
	if code, _, errOut := run(t, "", "explain", "GET", "/log/", "--policy", good, "--as", "somebody"); code != 2 ||
		!strings.Contains(errOut, "not understood") {
		t.Errorf("explain for nobody: %d %q", code, errOut)
	}
	// The running service gives the same explanation, and knows its accounts.
	_, fromFile, _ := run(t, "", "explain", "GET", "/office/", "--policy", filepath.Join(lampDir, "doors.yaml"), "--as", "role:volunteer")
	if _, fromService, errOut := run(t, "", "explain", "GET", "/office/", "--data", lampDir, "--as",
		"role:volunteer"); fromService != fromFile {
		t.Errorf("the file says %q, the service %q %s", fromFile, fromService, errOut)
	}
	if _, out, _ := run(t, "", "explain", "GET", "/log/", "--data", lampDir, "--as", "user:ines"); !strings.HasPrefix(out, "admit\n") {
		t.Errorf("the service does not know ines: %s", out)
	}
}

func TestStartFailures(t *testing.T) {
	dir := t.TempDir()
	write(t, dir, "doors.yaml", "doors: [{path: /, admit: public}]\n")
	write(t, dir, "bad.yaml", "doors: [{path: /, admit: publik}]\n")
	taken, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer taken.Close()
	good := filepath.Join(dir, "doors.yaml")
	for _, test := range []struct {
		args []string
		code int
		says string
	}{
		{[]string{"serve", "--policy", good, "--listen", taken.Addr().String(), "--data", filepath.Join(dir, "d")}, 1,
			"is taken by another program; choose another port with --listen"},
		{[]string{"demo", "--listen", taken.Addr().String(), "--data", filepath.Join(dir, "e")}, 1, "is taken by another program"},
		{[]string{"serve", "--policy", good, "--listen", "0.0.0.0:0", "--data", filepath.Join(dir, "d")}, 1,
			"plain HTTP is served on loopback only"},
		{[]string{"demo", "--listen", "0.0.0.0:0", "--data", filepath.Join(dir, "e")}, 1, "plain HTTP is served on loopback only"},
		{[]string{"serve", "--policy", good, "--listen", "nonsense", "--data", filepath.Join(dir, "d")}, 1, "HOST:PORT"},
		{[]string{"serve", "--policy", filepath.Join(dir, "bad.yaml"), "--data", filepath.Join(dir, "d")}, 1, `did you mean "public"?`},
		{[]string{"serve", "--policy", filepath.Join(dir, "none.yaml"), "--data", filepath.Join(dir, "d")}, 1, "can't be read"},
		{[]string{"serve", "--policy", good, "--listen", "127.0.0.1:0", "--data", lampDir}, 1, "another service is running"},
		{[]string{"serve", "--policy", good, "--trusted-peer", "x", "--data", lampDir}, 2, "isn't a network"},
		{[]string{"serve", "--policy", good, "--tls-cert", "x", "--data", lampDir}, 1, "go together"},
		{[]string{"people", "list", "--data", filepath.Join(dir, "nothing")}, 1, "no service is running on the data directory"},
		{[]string{"nonsense"}, 2, "unknown command"},
	} {
		if code, _, errOut := run(t, "", test.args...); code != test.code || !strings.Contains(errOut, test.says) {
			t.Errorf("%v: exit %d, %q", test.args, code, errOut)
		}
	}
	if code, out, _ := run(t, "", "version"); code != 0 || !strings.HasPrefix(out, "ostiarius ") {
		t.Errorf("version: %d %q", code, out)
	}
	if code, out, _ := run(t, "", "completion", "bash"); code != 0 || !strings.Contains(out, "__start_ostiarius") {
		t.Errorf("completion: %d", code)
	}
	if code, out, _ := run(t, "", "__complete", "explain", "GET", "/", "--client", ""); code != 0 ||
		!strings.HasPrefix(out, "browser\nscript\napi\n") {
		t.Errorf("completion of --client: %d %q", code, out)
	}
}

func TestEnvironmentSetsFlags(t *testing.T) {
	c := exec.Command(Binary(), "people", "list", "-o", "json")
	c.Env = append(os.Environ(), "OSTIARIUS_DATA="+lampDir)
	out, err := c.Output()
	if err != nil || !strings.Contains(string(out), `"name": "agnes"`) || strings.Contains(string(out), "argon2") {
		t.Errorf("%v: %s", err, out)
	}
}

func TestSettingsFile(t *testing.T) {
	dir := t.TempDir()
	write(t, dir, "conf/site/a.txt", "a")
	write(t, dir, "conf/doors.yaml", "sources: [{path: /, files: ./site}]\ndoors: [{path: /**, admit: {network: 192.0.2.0/24}}]\n")
	data := shortDir(t)
	write(t, dir, "conf/settings.yaml", "# all of them\npolicy: doors.yaml\ndata: "+data+"\nlisten: \"nowhere\"\nplain-http: "+
		"true\ntrusted-peer: [10.0.0.0/8, 127.0.0.1]\nmetrics-from: 127.0.0.1\nhsts: 0\n")
	settings := filepath.Join(dir, "conf", "settings.yaml")
	t.Setenv("OSTIARIUS_LISTEN", "also-nowhere") // counts before the file, and a flag before both
	s, err := Start("serve", "--settings", settings, "--listen", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer s.Stop()
	p := newPerson(t, s.URL)
	if a := p.get("/a.txt", "X-Forwarded-For", "192.0.2.7"); a.status != 200 {
		t.Errorf("the peer is not trusted: %d", a.status)
	}
	if a := p.get("/a.txt"); a.status != 403 {
		t.Errorf("from another network: %d", a.status)
	}
	for text, says := range map[string]string{
		"listn: x": `:1:1: there is no setting "listn"`, "listen: [a, b]": ":1:9: listen takes one value", "listen:": "listen takes one value",
		"- listen": ":1:1: settings must have the form", "\nhash-memory: many": `:2:14: hash-memory: "many" is not uint32`,
		"trusted-peer: x": "--trusted-peer x isn't a network",
		"a: b: c":         ":1:", "listen: {a: b}": "listen takes one value", "settings: x": "there is no setting",
		"hsts: 0\nhsts: 1": ":2:1: ", "plain-http: perhaps": "is not bool",
		"trusted-peer: [[a]]": "trusted-peer takes a list of values", "listen: \"": ":1:",
	} {
		write(t, dir, "conf/bad.yaml", text)
		if code, out, errOut := run(t, "", "serve", "--settings", filepath.Join(dir, "conf", "bad.yaml")); code != 2 || out != "" ||
			!strings.Contains(errOut, says) {
			t.Errorf("%q: exit %d %s", text, code, errOut)
		}
	}
	if code, _, errOut := run(t, "", "serve", "--settings", filepath.Join(dir, "none.yaml")); code != 2 ||
		!strings.Contains(errOut, "none.yaml") {
		t.Errorf("no file: exit %d %s", code, errOut)
	}
}

func TestVersionsOfThePolicy(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	write(t, dir, "site/a.txt", "a")
	text := func(admit string) string {
		return "sources: [{path: /, files: ./site}]\ndoors:\n  - { path: /**, admit: " + admit + " }\n"
	}
	write(t, dir, "doors.yaml", text("nobody"))
	write(t, dir, "new.yaml", text("public")+"  - { path: /b, admit: nobody }\n")
	write(t, dir, "bad.yaml", text("publik"))
	write(t, dir, "promise.yaml", text("public")+"  - { path: /b/c, admit: public }\n  - { path: /b/**, admit: nobody }\nguarantees: "+
		"[{path: /b/**, only: {role: steward}, because: it is the safe}]\n")
	s := start(t, dir)
	p := newPerson(t, s.URL)
	p.is("/a.txt", 403, "")
	for _, step := range []struct {
		args   string
		code   int
		says   string
		status int // of /a.txt afterwards
	}{
		{"check", 0, "no errors", 403},
		{"apply new.yaml --dry-run", 0, "~ /**  nobody -> public  (line 3)\n+ /b  nobody  (line 4)\nopened\n  GET / as anonymous\n      " +
			"before  refuse, by line 3 (/**)\n      after   admit, by line 3 (/**)\nnothing was applied", 403},
		{"apply new.yaml --no-opening", 1, "was not applied, because it opens something: GET / to anonymous", 403},
		{"apply new.yaml -m open", 0, "after   admit, by line 3 (/**)\nversion 2 is active", 200},
		{"apply new.yaml", 0, "no changes to the doors\nversion 3 is active", 200},
		{"apply bad.yaml", 1, "did you mean \"public\"?", 200},
		{"apply bad.yaml --dry-run", 1, "did you mean \"public\"?", 200},
		{"apply none.yaml", 1, "can't be read", 200},
		{"apply promise.yaml", 1, "anonymous does at /b/c, by line 4 (/b/c); it was promised because: it is the safe", 200},
		{"history", 0, "command line  open", 200},
		{"show 1", 0, text("nobody"), 200},
		{"show 9", 1, "There is no such version", 200},
		{"show x", 2, "versions are numbers", 200},
		{"rollback 1 -m closed", 0, "~ /**  public -> nobody  (line 3)\n- /b  nobody\nclosed\n  GET / as anonymous\n      before  admit, " +
			"by line 3 (/**)\n      after   refuse, by line 3 (/**)\nversion 4 is active, with the text of version 1", 403},
		{"rollback 77", 1, "There is no such version", 403},
		{"history -o json", 0, "\"comment\": \"closed\"", 403},
	} {
		args := strings.Fields(step.args)
		for i := range args {
			if strings.HasSuffix(args[i], ".yaml") {
				args[i] = filepath.Join(dir, args[i])
			}
		}
		code, out, errOut := run(t, "", append(args, "--data", s.Data)...)
		if code != step.code || !strings.Contains(out+errOut, step.says) {
			t.Errorf("%s: exit %d, %q %q; want %d, %q", step.args, code, out, errOut, step.code, step.says)
		}
		if a := p.get("/a.txt"); a.status != step.status {
			t.Errorf("after %s: %d, want %d", step.args, a.status, step.status)
		}
	}
	if file, err := os.ReadFile(filepath.Join(dir, "doors.yaml")); err != nil || string(file) != text("nobody") {
		t.Errorf("the file is not what is in force: %q %v", file, err)
	}
	// A faulty file is reported by check of the running state; mended, it is taken.
	write(t, dir, "doors.yaml", text("publik"))
	eventually(t, func() bool { code, _, _ := run(t, "", "check", "--data", s.Data); return code == 1 })
	write(t, dir, "doors.yaml", text("nobody"))
	eventually(t, func() bool { code, _, _ := run(t, "", "check", "--data", s.Data); return code == 0 })
	if _, out, _ := run(t, "", "history", "--data", s.Data, "-o", "json"); strings.Count(out, `"id"`) != 4 {
		t.Errorf("going back to what is in force made a version: %s", out)
	}
	if a := p.get("/door/policy.schema.json"); a.status != 200 || a.body != string(read.Schema()) {
		t.Errorf("the schema: %d", a.status)
	}
	if _, out, _ := run(t, "", "schema"); out != string(read.Schema()) {
		t.Error("the command prints another schema")
	}
}

func TestCompare(t *testing.T) {
	dir := t.TempDir()
	write(t, dir, "old.yaml", "roles: {keeper: , guide: }\ndoors:\n  - { path: /log/**, admit: { role: keeper } }\n  - { path: /rota, "+
		"admit: signed-in }\n")
	write(t, dir, "same.yaml", "roles: {keeper: , guide: }\ndoors:\n  - { path: [/rota/, /rota/x], admit: signed-in }\n  - { path: "+
		"/log/**, admit: { any: [ { role: keeper } ] } }\n")
	write(t, dir, "new.yaml", "roles: {keeper: , guide: }\ndoors:\n  - { path: /log/**, admit: { role: [keeper, guide] } }\n  - { path: "+
		"/rota, admit: signed-in }\n")
	write(t, dir, "bad.yaml", "doors: []")
	old := filepath.Join(dir, "old.yaml")
	if code, out, errOut := run(t, "", "compare", old, filepath.Join(dir, "same.yaml")); code != 0 ||
		!strings.HasPrefix(out, "no changes") {
		t.Errorf("two spellings of a policy: %d %s %s", code, out, errOut)
	}
	code, out, _ := run(t, "", "compare", old, filepath.Join(dir, "new.yaml"), "-o", "json")
	var found struct {
		Changes []struct {
			Effect        string
			Witness       struct{ Method, Host, Path, Visitor string }
			Before, After string
		}
	}
	if err := json.Unmarshal([]byte(out), &found); err != nil || code != 1 || len(found.Changes) != 1 || found.Changes[0].Effect != "opened" ||
		found.Changes[0].Witness.Path != "/log" || found.Changes[0].Witness.Visitor != "role:guide" ||
		found.Changes[0].Before != "refuse" || found.Changes[0].After != "admit" {
		t.Errorf("a change: %d %s %v", code, out, err)
	}
	if code, out, _ := run(t, "", "compare", old, filepath.Join(dir, "new.yaml")); code != 1 ||
		!strings.Contains(out, "opened\n  GET /log as role:guide\n      before  refuse, by line 3 (/log/**)") {
		t.Errorf("a change as text: %d %s", code, out)
	}
	for _, args := range [][]string{{"compare", old}, {"compare", old, filepath.Join(dir, "bad.yaml")},
		{"compare", old, filepath.Join(dir, "none.yaml")}} {
		if code, _, errOut := run(t, "", args...); code != 2 || errOut == "" {
			t.Errorf("%v: %d %s", args, code, errOut)
		}
	}
	// A version of the running service.
	if code, out, errOut := run(t, "", "compare", "1", filepath.Join(lampDir, "doors.yaml"), "--data", lampDir); code != 0 {
		t.Errorf("version 1 of the demo: %d %s %s", code, out, errOut)
	}
}

// The reference of the commands is printed by the code; docs hold the same.
func TestCommandReferenceIsCurrent(t *testing.T) {
	text, err := os.ReadFile(filepath.Join(Root(), "docs", "commands.md"))
	if err != nil || string(text) != cli.Reference() {
		t.Errorf("docs/commands.md is not what the commands say; `make docs` writes it (%v)", err)
	}
	if strings.Count(string(text), "Example") < 12 {
		t.Error("commands without an example")
	}
}
