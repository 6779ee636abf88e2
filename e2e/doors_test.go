package e2e

import (
	"encoding/json"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"ostiarius/client"
)

// A door is set and removed in a file: the difference and what it opens are shown, what opens is asked
// for, and the rest of the file stays to the byte.
func TestDoorsInAFile(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	demo, err := os.ReadFile(filepath.Join(Root(), "demo", "doors.yaml"))
	if err != nil {
		t.Fatal(err)
	}
	write(t, dir, "doors.yaml", string(demo))
	file := filepath.Join(dir, "doors.yaml")
	if err := os.Chmod(file, 0o640); err != nil {
		t.Fatal(err)
	}
	link := filepath.Join(dir, "link.yaml")
	if err := os.Symlink("doors.yaml", link); err != nil {
		t.Fatal(err)
	}
	is := func(want string) {
		t.Helper()
		text, err := os.ReadFile(file)
		if err != nil || string(text) != want {
			t.Fatalf("the file is\n%s%v", text, err)
		}
	}
	doors := func(code int, want string, args ...string) {
		t.Helper()
		got, out, errOut := run(t, "", append([]string{"doors"}, args...)...)
		if got != code || !strings.Contains(out+errOut, want) {
			t.Fatalf("doors %q: %d, want %d and %q:\n%s%s", args, got, code, want, out, errOut)
		}
	}
	doors(0, "decides  45    /office/**", "show", "/office/minutes/", "--policy", file)
	doors(0, "no door covers /nothing; places without a door are set to signed-in", "show", "/nothing", "--policy", file)
	doors(2, "", "show", "/a%2fb", "--policy", file)
	doors(0, "+  - path: /newsletters/**", "set", "/newsletters/**", "--admit", "role:keeper", "--policy", file, "--dry-run")
	is(string(demo))
	doors(1, "Repeat with --yes to apply it", "set", "/leaflets/**", "--admit", "public", "--policy", file)
	doors(1, "nothing was changed", "set", "/leaflets/**", "--admit", "public", "--policy", file, "--yes", "--no-opening")
	is(string(demo))
	doors(0, "GET /leaflets as anonymous", "set", "/leaflets/**", "--admit", "public", "--policy", link, "--yes")
	is(strings.Replace(string(demo), "/desk/assets/**]", "/desk/assets/**, /leaflets/**]", 1))
	doors(0, "no changes", "set", "/leaflets/**", "--admit", "public", "--policy", file)
	doors(0, "closed", "remove", "/leaflets/**", "--policy", file)
	is(string(demo))
	if info, err := os.Lstat(link); err != nil || info.Mode()&os.ModeSymlink == 0 {
		t.Errorf("the link is gone: %v", err)
	}
	if info, err := os.Stat(file); err != nil || info.Mode().Perm() != 0o640 {
		t.Errorf("the mode is %v, %v", info.Mode(), err)
	}
	doors(1, "there is no such door", "remove", "/leaflets/**", "--policy", file)
	doors(1, `unknown role "keper"; did you mean "keeper"?`, "set", "/x", "--admit", "role:keper", "--policy", file)
	doors(2, "--admit is missing", "set", "/x", "--policy", file)
	doors(2, "--admit: ", "set", "/x", "--admit", "everyone", "--policy", file)
	doors(2, "path \"x\"", "set", "x", "--admit", "public", "--policy", file)
	doors(2, "--realm needs", "set", "/x", "--admit", "signed-in", "--realm", "x", "--policy", file)
	doors(0, "realm: Gauges", "set", "/gauges/**", "--methods", "POST", "--host", "*.marram.example", "--admit", "role:device",
		"--ask", "basic", "--realm", "Gauges", "--policy", file, "--yes")
	_, out, _ := run(t, "", "doors", "list", "--policy", file, "-o", "json")
	var all []struct{ Door, Admits string }
	if err := json.Unmarshal([]byte(out), &all); err != nil || len(all) != 30 || all[28].Door != "POST *.marram.example/gauges/**" ||
		all[28].Admits != `role: device, ask: basic, realm: "Gauges"` {
		t.Errorf("%v %+v", err, all)
	}
	doors(0, "opened", "remove", "/gauges/**", "--methods", "POST", "--host", "*.marram.example", "--policy", file, "--yes")
	is(string(demo))
	checked := filepath.Join(dir, "checked.yaml")
	write(t, dir, "checked.yaml", "roles: { trustee: }\ndoors: [ { path: /orders/**, admit: signed-in } ]\nchecks: { approve: { path: "+
		"'/orders/*/approve', methods: [POST], admit: { role: trustee } } }\n")
	doors(0, "check approve: POST /orders/*/approve", "list", "--policy", checked)
	doors(0, "Only people with the role trustee", "show", "/orders/7/approve", "--method", "POST", "--policy", checked)
	if _, out, _ := run(t, "", "doors", "show", "/elsewhere", "--policy",
		checked); out != "no door covers /elsewhere; places without a door are set to signed-in\n" {
		t.Errorf("%q", out)
	}
	write(t, dir, "broken.yaml", "doors: [")
	doors(1, "this is not YAML", "set", "/x", "--admit", "public", "--policy", filepath.Join(dir, "broken.yaml"))
}

// The same with the running service: it has a new version, and whoever comes second is told.
func TestDoorsOfTheRunningService(t *testing.T) {
	t.Parallel()
	s, api := keepers(t)
	p := newPerson(t, s.URL)
	before, err := client.ShowPolicy.Ask(t.Context(), api, client.None{})
	if err != nil {
		t.Fatal(err)
	}
	p.is("/newsletters/", 303, "/door/sign-in?next=%2Fnewsletters%2F")
	code, out, errOut := run(t, "", "doors", "set", "/newsletters/**", "--admit", "public", "--yes", "--data", s.Data, "-m", "they are old")
	if code != 0 || !strings.Contains(out, "version 2 is active") {
		t.Fatal(code, out, errOut)
	}
	p.is("/newsletters/", 404, "")
	after, err := client.ShowPolicy.Ask(t.Context(), api, client.None{})
	if err != nil || after.Comment != "they are old" || strings.Contains(before.Text, "newsletters") ||
		!strings.Contains(after.Text, "/newsletters/**") {
		t.Fatalf("%+v %v", after, err)
	}
	// Somebody else has edited meanwhile.
	if _, err := client.ApplyPolicy.Ask(t.Context(), api, client.Draft{Text: before.Text, Base: before.ID}); err == nil ||
		!strings.Contains(err.Error(), "Meanwhile command line has brought another version into force (“they are old”)") {
		t.Errorf("on top of an older version: %v", err)
	}
	if code, out, errOut := run(t, "", "doors", "remove", "/newsletters/**", "--data", s.Data); code != 0 {
		t.Fatal(code, out, errOut)
	}
	now, err := client.ShowPolicy.Ask(t.Context(), api, client.None{})
	if err != nil || now.Text != before.Text {
		t.Errorf("removed, the text is\n%s\nand was\n%s (%v)", now.Text, before.Text, err)
	}
}
