package e2e

import (
	"fmt"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"ostiarius/e2e/needs"
)

// A draft made of what there is has no errors, and serve takes it as it is.
func TestDraft(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	write(t, dir, "public/index.html", "<main>the lighthouse</main>")
	write(t, dir, "public/news/index.html", "<main>the news</main>")
	write(t, dir, "public/admin/index.html", "<main>for some</main>")
	write(t, dir, "public/backup-2024.zip", "PK")
	write(t, dir, "public/b c/it's [x] #1.html", "odd")
	draft := func(code int, want string, in string, args ...string) string {
		t.Helper()
		got, out, errOut := run(t, in, append([]string{"draft"}, args...)...)
		if got != code || !strings.Contains(out+errOut, want) {
			t.Fatalf("draft %q: %d, want %d and %q:\n%s%s", args, got, code, want, out, errOut)
		}
		return out
	}
	public := filepath.Join(dir, "public")
	for stance, want := range map[string]map[string]int{
		"closed": {"/": http.StatusSeeOther, "/news/": http.StatusSeeOther, "/backup-2024.zip": http.StatusForbidden},
		"open":   {"/": http.StatusOK, "/news/": http.StatusOK, "/admin/": http.StatusSeeOther, "/backup-2024.zip": http.StatusForbidden},
	} {
		text := draft(0, "may be a backup", "", "--files", public, "--stance", stance)
		home := t.TempDir()
		write(t, home, "doors.yaml", text)
		file := filepath.Join(home, "doors.yaml")
		if code, out, errOut := run(t, "", "check", file); code != 0 {
			t.Errorf("%s: %s%s", stance, out, errOut)
		}
		s, err := Start("serve", "--policy", file, "--listen", "127.0.0.1:0", "--data", filepath.Join(home, "data"))
		if err != nil {
			t.Fatal(err)
		}
		p := newPerson(t, s.URL)
		for path, status := range want {
			if a := p.get(path, "Accept", "text/html"); a.status != status {
				t.Errorf("%s, %s: %d, want %d", stance, path, a.status, status)
			}
		}
		if err := s.Stop(); err != nil {
			t.Error(err)
		}
	}
	draft(0, "path: /**, admit: signed-in", "", "--files", t.TempDir()) // with nothing in it
	draft(0, "path: /log/**, admit: public", "", "--files", filepath.Join(Root(), "demo", "site"))
	hostile := `1.2.3.4 - - [d] "GET /a/b HTTP/1.1" 200 1 "-" "x"` + "\n" + `x - - [d] "GET /gone HTTP/1.1" 404 1` + "\nnonsense \x1b[2J\n" +
		`x - - [d] "GET /\x1b[31m/..%2f HTTP/1.1" 200 2` + "\n" + `x - - [d] "GET /a/\"# HTTP/1.1" 200 2` + "\n" +
		strings.Repeat("y", 1<<20) + "\n" + `x - - [d] "GET /dump.sql HTTP/1.1" 200 2`
	out := draft(0, "path: /dump.sql, admit: nobody", hostile, "--log", "-", "--proxy", "http://127.0.0.1:3000")
	if !strings.Contains(out, "/a/**") || strings.Contains(out, "gone") || strings.ContainsAny(out, "\x1b") {
		t.Errorf("%s", out)
	}
	draft(0, "path: /visit/**, admit: public", "/visit/\nGET /visit/tours\n", "--addresses", "-")
	draft(1, "has no answered request", "nothing", "--log", "-")
	draft(1, "isn't a readable directory", "", "--files", filepath.Join(dir, "nowhere"))
	draft(2, "name the source", "")
	draft(2, "--stance ajar is unknown", "", "--files", public, "--stance", "ajar")
	many := t.TempDir()
	for i := range 2000 {
		if err := os.WriteFile(filepath.Join(many, fmt.Sprintf("page-%d.html", i)), nil, 0o644); err != nil {
			t.Fatal(err)
		}
	}
	if out := draft(0, "/page-0.html", "", "--files", many); strings.Count(out, "\n") > 80 {
		t.Errorf("a draft of %d lines", strings.Count(out, "\n"))
	}
}

// On a terminal it asks what names cannot tell, and what a flag says it does not ask.
func TestDraftAsks(t *testing.T) {
	t.Parallel()
	if _, err := exec.LookPath("script"); err != nil {
		needs.Skip(t, "there is no script(1) to make a terminal with")
	}
	dir := t.TempDir()
	write(t, dir, "public/index.html", "the lighthouse")
	write(t, dir, "public/members/index.html", "for some")
	asked := func(answers string, flags string) string {
		t.Helper()
		c := exec.Command("script", "-qec", Binary()+" draft --files public "+flags, "/dev/null")
		c.Dir, c.Stdin = dir, strings.NewReader(answers)
		out, err := c.CombinedOutput()
		if err != nil {
			t.Fatalf("%v\n%s", err, out)
		}
		return strings.ReplaceAll(string(out), "\r\n", "\n")
	}
	out := asked("Marram Point\n\nmember\nyes\n", "")
	for _, want := range []string{"What is the site called? [This site]", "[closed]", "Who is /members/** for",
		"1 part looks public", "site: \"Marram Point\"\n", "\n  member:\n",
		"  - { path: /**, admit: signed-in }", "  - { path: /members/**, admit: { role: member } }", "\n  - { path: /, admit: public }"} {
		if !strings.Contains(out, want) {
			t.Errorf("%q is missing in\n%s", want, out)
		}
	}
	out = asked("no role!\n", "--site Marram --stance open")
	if strings.Contains(out, "called?") || strings.Contains(out, "Places without a door: closed") ||
		!strings.Contains(out, "A role is one word") || !strings.Contains(out, "  - { path: /members/**, admit: signed-in }") {
		t.Errorf("%s", out)
	}
	if code, out, errOut := run(t, "", "draft", "--files", filepath.Join(dir, "public")); code != 0 ||
		strings.Contains(out+errOut, "called?") {
		t.Errorf("in a pipe: %s%s", out, errOut)
	}
}
