package e2e

import (
	"encoding/json"
	"errors"
	"os"
	"path/filepath"
	"strings"
	"sync/atomic"
	"testing"

	"ostiarius/client"
)

// A policy file that is written in pieces opens nothing, however long the pieces are apart, and a
// closed page is asked for all the while; every way to put another file in its place is noticed.
func TestPolicyFileWhateverBecomesOfIt(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	write(t, dir, "site/log/today.html", "the log")
	write(t, dir, "site/index.html", "the lighthouse")
	const head, tail = "sources: [{path: /, files: ../site}]\ndoors:\n  - { path: /**, admit: public }\n", "  - { path: /log/**, admit: " +
		"nobody }\n"
	write(t, dir, "conf/doors.yaml", head+tail)
	file := filepath.Join(dir, "conf/doors.yaml")
	data := filepath.Join(dir, "data")
	s, err := Start("serve", "--policy", file, "--listen", "127.0.0.1:0", "--data", data, "--policy-quiet", "200ms")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { s.Kill() })
	api := client.New(data)
	pending := func() *client.Pending {
		status, err := client.ShowStatus.Ask(t.Context(), api, client.None{})
		if err != nil {
			t.Fatal(err)
		}
		return status.Pending
	}
	p := newPerson(t, s.URL)
	var stop atomic.Bool
	asked := make(chan int)
	go func() {
		n, asking := 0, newPerson(t, s.URL)
		for ; !stop.Load(); n++ {
			if a := asking.get("/log/today.html"); a.status != 403 {
				t.Errorf("the closed page answers %d", a.status)
				break
			}
		}
		asked <- n
	}()

	for _, truncated := range []bool{true, false} {
		flags := os.O_WRONLY
		if truncated {
			flags |= os.O_TRUNC
		}
		f, err := os.OpenFile(file, flags, 0)
		if err != nil {
			t.Fatal(err)
		}
		text := "# a longer text than before, by its first line\n" + head
		if !truncated { // shorter, so that the rest of the text before stands behind it for a while
			text = head
		}
		f.WriteString(text)
		if !truncated {
			f.Truncate(int64(len(text)))
		}
		eventually(t, func() bool { p := pending(); return p != nil && p.Stuck })
		f.WriteString(tail)
		f.Close()
		eventually(t, func() bool { return pending() == nil })
	}
	if a := p.get("/door/health"); !strings.Contains(a.body, `"ok"`) {
		t.Errorf("%s", a.body)
	}
	// An edit that cannot be read is told, by every way.
	if err := os.Rename(file, file+".away"); err != nil {
		t.Fatal(err)
	}
	eventually(t, func() bool { return strings.Contains(p.get("/door/health").body, "degraded") })
	var health struct{ Status, Reason, Since string }
	if err := json.Unmarshal([]byte(p.get("/door/health").body), &health); err != nil ||
		health.Reason != "the policy file is not in force" || health.Since == "" {
		t.Errorf("%+v, %v", health, err)
	}
	if code, out, errOut := run(t, "", "check", "--data", data); code != 1 ||
		!strings.Contains(errOut, "newer than the active policy") || !strings.Contains(out, "no-file") {
		t.Errorf("%d %s %s", code, out, errOut)
	}
	run(t, "seven-brass-prisms\n", "people", "add", "ines", "--role", "steward", "--password-stdin", "--data", data)
	p.signIn("ines", "seven-brass-prisms", "")
	if today := p.get("/door/api/v1/today").body; !strings.Contains(today, "The policy file is newer than the active policy, since ") {
		t.Errorf("%s", today)
	}
	if err := os.Rename(file+".away", file); err != nil {
		t.Fatal(err)
	}
	eventually(t, func() bool { return strings.Contains(p.get("/door/health").body, `"ok"`) })
	stop.Store(true)
	if n := <-asked; n < 50 {
		t.Errorf("asked %d times only", n)
	}

	// A directory of configuration that is swapped by a link, and all its ways since.
	for i, change := range []func() error{
		func() error {
			return errors.Join(os.Rename(filepath.Join(dir, "conf"), filepath.Join(dir, "one")), os.Symlink("one", filepath.Join(dir, "conf")))
		},
		func() error {
			write(t, dir, "two/doors.yaml", head)
			return errors.Join(os.Symlink("two", filepath.Join(dir, "next")), os.Rename(filepath.Join(dir, "next"), filepath.Join(dir, "conf")))
		},
		func() error { return os.Link(filepath.Join(dir, "two/doors.yaml"), filepath.Join(dir, "too.yaml")) },
		func() error { return os.WriteFile(filepath.Join(dir, "too.yaml"), []byte(head+tail), 0o644) },
	} {
		if err := change(); err != nil {
			t.Fatal(err)
		}
		want := []int{403, 200, 200, 403}[i]
		eventually(t, func() bool { return p.get("/log/today.html").status == want })
	}

	// An edit is not written over unseen.
	write(t, dir, "doors2.yaml", head)
	write(t, dir, "two/doors.yaml", head+"  - nonsense\n")
	if code, _, errOut := run(t, "", "apply", filepath.Join(dir, "doors2.yaml"), "--data", data); code != 1 ||
		!strings.Contains(errOut, "has an edit, starting at line 4") {
		t.Errorf("%d %s", code, errOut)
	}
	if code, _, errOut := run(t, "", "apply", filepath.Join(dir, "doors2.yaml"), "--over-edit", "--data", data); code != 0 {
		t.Errorf("%d %s", code, errOut)
	}
	p.is("/log/today.html", 200, "")
	if left, _ := filepath.Glob(filepath.Join(dir, "two/.*")); len(left) > 0 {
		t.Errorf("%v are left", left)
	}
}
