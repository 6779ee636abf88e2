package e2e

import (
	"io"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"
)

// Where no service runs, what is asked is read from the records, also those of one that was killed, and nothing of
// them is changed.
func TestRecordsAreReadAtRest(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	write(t, dir, "doors.yaml", "roles: { keeper: }\ndoors: [ { path: /**, admit: public } ]\n")
	data := filepath.Join(dir, "d")
	if code, _, errOut := run(t, "", "people", "list", "--data", data); code != 1 || !strings.Contains(errOut, "no service is running") {
		t.Errorf("nothing there: %d %s", code, errOut)
	}
	s, err := Start("serve", "--policy", filepath.Join(dir, "doors.yaml"), "--listen", "127.0.0.1:0", "--data", data)
	if err != nil {
		t.Fatal(err)
	}
	if code, _, errOut := run(t, "seven-brass-prisms\n", "people", "add", "ines", "--role", "keeper", "--password-stdin", "--data",
		data); code != 0 {
		t.Fatal(errOut)
	}
	s.Kill()
	before := filesIn(t, data)
	if len(before["ostiarius.db-wal"]) == 0 {
		t.Fatal("all is in the file already, so this shows little")
	}
	for _, c := range []struct {
		args []string
		want string
	}{
		{[]string{"people", "list"}, "ines"},
		{[]string{"people", "show", "ines"}, "keeper"},
		{[]string{"people", "list", "-o", "json"}, `"name": "ines"`},
		{[]string{"people", "members"}, "keeper"},
		{[]string{"people", "export"}, "ines"},
		{[]string{"history"}, "found when the service started"},
		{[]string{"show", "1"}, "admit: public"},
		{[]string{"activity"}, "account added"},
		{[]string{"sessions", "list"}, ""},
		{[]string{"events", "targets", "list"}, ""},
	} {
		code, out, errOut := run(t, "", append(c.args, "--data", data)...)
		if code != 0 || !strings.Contains(out, c.want) || strings.Count(errOut, "this is read from its records") != 1 {
			t.Errorf("%q: %d\n%s\n%s", c.args, code, out, errOut)
		}
	}
	if code, _, errOut := run(t, "", "people", "show", "nobody-here", "--data", data); code != 1 || !strings.Contains(errOut, "nobody-here") {
		t.Errorf("unknown: %d %s", code, errOut)
	}
	for _, args := range [][]string{{"rollback", "1"}, {"people", "disable", "ines"}, {"sessions", "end", "--all"}, {"upstreams"},
		{"apply", filepath.Join(dir, "doors.yaml")}} {
		if code, out, errOut := run(t, "", append(args, "--data", data)...); code == 0 ||
			!strings.Contains(errOut, "no service is running") || strings.Contains(errOut, "its records") {
			t.Errorf("%q: %d %s %s", args, code, out, errOut)
		}
	}
	// What reads first, and then goes to the site, says so too.
	if code, out, errOut := run(t, "", "patrol", "--data", data); code == 0 || out != "" ||
		!strings.Contains(errOut, "no service is running") {
		t.Errorf("patrol: %d %s %s", code, out, errOut)
	}
	for name, text := range filesIn(t, data) {
		if was, there := before[name]; name != "ostiarius.db-shm" && (!there || was != text) {
			t.Errorf("%s has changed", name)
		}
	}
}

// A service whose policy file is faulty starts with the version before, and says so to whoever looks.
func TestServiceStartsWithAFaultyFile(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	file, data := filepath.Join(dir, "doors.yaml"), filepath.Join(dir, "d")
	write(t, dir, "site/index.html", "<h1>The Point</h1>")
	write(t, dir, "doors.yaml", "sources: [ { path: /, files: ./site } ]\ndoors: [ { path: /, admit: public }, { path: /rota/**, admit: "+
		"signed-in } ]\n")
	start := func() *Process {
		s, err := Start("serve", "--policy", file, "--listen", "127.0.0.1:0", "--data", data)
		if err != nil {
			t.Fatal(err)
		}
		return s
	}
	s := start()
	if err := s.Stop(); err != nil {
		t.Fatal(err)
	}
	write(t, dir, "doors.yaml", "doors: [ { path: /**, admit: everybody } ]\n")
	past := time.Now().Add(-time.Hour) // nobody is at it
	if err := os.Chtimes(file, past, past); err != nil {
		t.Fatal(err)
	}
	s = start()
	defer s.Stop()
	get := func(path string) (int, string) {
		resp, err := (&http.Client{CheckRedirect: func(*http.Request,
			[]*http.Request) error {
			return http.ErrUseLastResponse
		}}).Get(s.URL + path)
		if err != nil {
			t.Fatal(err)
		}
		defer resp.Body.Close()
		body, _ := io.ReadAll(resp.Body)
		return resp.StatusCode, string(body)
	}
	if status, body := get("/"); status != 200 || !strings.Contains(body, "The Point") {
		t.Errorf("/: %d %s", status, body)
	}
	if status, _ := get("/rota/"); status != 303 {
		t.Errorf("/rota/: %d", status)
	}
	if _, body := get("/door/health"); !strings.Contains(body, `"degraded"`) || !strings.Contains(body, "the policy file") {
		t.Error(body)
	}
	if err := os.WriteFile(file, []byte("sources: [ { path: /, files: ./site } ]\ndoors: [ { path: /, admit: signed-in } ]\n"),
		0o600); err != nil {
		t.Fatal(err)
	}
	eventually(t, func() bool { status, _ := get("/"); return status == 303 })
	eventually(t, func() bool { _, body := get("/door/health"); return strings.Contains(body, `"ok"`) })
}

// filesIn are the files of a directory, by name.
func filesIn(t *testing.T, dir string) map[string]string {
	t.Helper()
	entries, err := os.ReadDir(dir)
	if err != nil {
		t.Fatal(err)
	}
	all := map[string]string{}
	for _, e := range entries {
		if e.Type().IsRegular() {
			text, err := os.ReadFile(filepath.Join(dir, e.Name()))
			if err != nil {
				t.Fatal(err)
			}
			all[e.Name()] = string(text)
		}
	}
	return all
}

// A running service is saved, and goes on from the backup elsewhere; a copy of half of its records is not taken for all.
func TestBackupOfARunningService(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	policy := filepath.Join(dir, "doors.yaml")
	write(t, dir, "doors.yaml", "roles: { keeper: }\ndoors: [ { path: /**, admit: public } ]\n")
	serve := func(data string, more ...string) (*Process, error) {
		return Start(append([]string{"serve", "--policy", policy, "--listen", "127.0.0.1:0", "--data", filepath.Join(dir, data)}, more...)...)
	}
	s, err := serve("d")
	if err != nil {
		t.Fatal(err)
	}
	defer s.Stop()
	ostiarius := func(wantCode int, want string, args ...string) {
		t.Helper()
		code, out, errOut := run(t, "seven-brass-prisms\n", args...)
		if code != wantCode || !strings.Contains(out+errOut, want) {
			t.Errorf("%q: %d\n%s\n%s", args, code, out, errOut)
		}
	}
	d, file, next := filepath.Join(dir, "d"), filepath.Join(dir, "b.tar.gz"), filepath.Join(dir, "next")
	ostiarius(0, "added ines", "people", "add", "ines", "--role", "keeper", "--password-stdin", "--data", d)
	ostiarius(0, "verified", "backup", file, "--data", d)
	ostiarius(1, "is there already", "backup", file, "--data", d)
	ostiarius(0, "is complete; nothing was restored", "restore", file, "--data", next, "--dry-run")
	ostiarius(1, "is not empty", "restore", file, "--data", d)
	ostiarius(0, "restored into", "restore", file, "--data", next)
	moved, err := serve("next")
	if err != nil {
		t.Fatal(err)
	}
	defer moved.Stop()
	ostiarius(0, "ines", "people", "list", "--data", next)

	half := filepath.Join(dir, "half")
	write(t, half, "ostiarius.db", filesIn(t, d)["ostiarius.db"])
	if _, err := serve("half"); err == nil || !strings.Contains(err.Error(), "only one of the two was copied") {
		t.Errorf("half of the records: %v", err)
	}
	ostiarius(1, "only one of the two was copied", "people", "list", "--data", half)
	anyway, err := serve("half", "--accept-loss")
	if err != nil {
		t.Fatal(err)
	}
	anyway.Stop()
}
