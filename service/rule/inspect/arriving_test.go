package inspect

import (
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"ostiarius/core/document"
	"ostiarius/core/policy"
	"ostiarius/core/policy/read"
)

// site writes files and a policy, and returns what is found of pages that arrive without their looks.
func arrives(t *testing.T, doors string, files map[string]string) (found []document.Finding) {
	t.Helper()
	dir := t.TempDir()
	for name, text := range files {
		path := filepath.Join(dir, "site", name)
		if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(path, []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	file := filepath.Join(dir, "doors.yaml")
	book, findings := read.Parse(file, []byte("roles: { keeper: }\nsources: [ { path: /, files: ./site } ]\ndoors:\n"+doors))
	if book == nil {
		t.Fatal(findings)
	}
	for _, f := range Check(book, file, Own{}) {
		if f.Rule == "arrives-without" {
			found = append(found, f)
		}
	}
	return found
}

const closedSite = "  - { path: /**, admit: signed-in }\n  - { path: [ /, /visit/** ], admit: public }\n"

func TestPagesArriveWithTheirLooks(t *testing.T) {
	for name, c := range map[string]struct {
		doors string
		page  string // at /visit/
		want  string // in the message; "" for no finding
	}{
		"a style sheet":   {closedSite, `<link rel="stylesheet" href="/theme/a.css">`, "without /theme/a.css, "},
		"relative":        {closedSite, `<link rel=stylesheet href=../theme/a.css?v=2>`, "without /theme/a.css, "},
		"by a base":       {closedSite, `<base href="/theme/"><link rel=stylesheet href=a.css>`, "without /theme/a.css, "},
		"a script":        {closedSite, `<script src="/theme/x.js"></script>`, "without /theme/x.js, "},
		"a picture":       {closedSite, `<IMG SRC="/theme/b%67.png">`, "without /theme/bg.png, "},
		"in a style":      {closedSite, `<style>p { background: url( "/theme/bg.png" ) }</style>`, "without /theme/bg.png, "},
		"in an attribute": {closedSite, `<p style="background: url(/theme/bg.png)">`, "without /theme/bg.png, "},
		"several": {closedSite, `<link rel=stylesheet href=/theme/a.css><script src=/theme/x.js></script><img ` +
			`src=/intern/plan.png>`, "add the door - { path: [ /intern/plan.png, /theme/** ], admit: public }"},
		"a directory of looks":  {closedSite, `<link rel=stylesheet href=/theme/a.css>`, "add the door - { path: /theme/**, admit: public }"},
		"beside what is closed": {closedSite, `<img src=/intern/plan.png>`, "add the door - { path: /intern/plan.png, admit: public }"},
		"a link only":           {closedSite, `<a href="/intern/">for us</a>`, ""},
		"not there":             {closedSite, `<img src=/theme/none.png>`, ""},
		"elsewhere": {closedSite, `<img src=https://else.example/theme/bg.png><img src=//else.example/theme/bg.png><img ` +
			`src=data:image/png,x>`, ""},
		"in a comment": {closedSite, `<!-- <img src=/theme/bg.png> --><style>/* url(/theme/bg.png) */</style>`, ""},
		"open": {closedSite + "  - { path: /theme/**, admit: public }\n",
			`<link rel=stylesheet href=/theme/a.css><script src=/theme/x.js></script>`, ""},
		"all closed": {"  - { path: /**, admit: signed-in }\n", `<link rel=stylesheet href=/theme/a.css>`, ""},
		"closed by unlisted": {"  - { path: [ /, /visit/** ], admit: public }\n", `<link rel=stylesheet href=/theme/a.css>`,
			"without /theme/a.css, "},
		"hidden from strangers": {"  - { path: /**, admit: public }\n  - { path: /theme/**, admit: { role: keeper }, otherwise: { " +
			"anonymous: hide, refused: hide } }\n", `<link rel=stylesheet href=/theme/a.css>`, "without /theme/a.css, "},
		"a style sheet's images": {closedSite + "  - { path: /theme/a.css, admit: public }\n", `<link rel=stylesheet href=/theme/a.css>`,
			"the page /theme/a.css is open to everybody and arrives without /theme/bg.png, "},
	} {
		found := arrives(t, c.doors, map[string]string{
			"index.html": "x", "visit/index.html": c.page, "theme/a.css": `@import "more.css"; body { background: url(bg.png) }`,
			"theme/x.js": "", "theme/bg.png": "",
			"intern/plan.png": "", "intern/index.html": "secret",
		})
		switch {
		case c.want == "" && len(found) > 0:
			t.Errorf("%s: %s", name, found[0].Message)
		case c.want != "" && (len(found) != 1 || !strings.Contains(found[0].Message, c.want) ||
			found[0].Severity != document.SeverityWarning || found[0].Witness == nil):
			t.Errorf("%s: %+v, want %q", name, found, c.want)
		}
	}
}

// With the door that a finding proposes, the finding is gone, and nothing is open that no page names.
func TestTheProposedDoorMends(t *testing.T) {
	files := map[string]string{
		"index.html": `<link rel=stylesheet href="/my theme/a.css"><img src=/intern/plan.png><img src=/b.png>`, "my theme/a.css": "",
		"my theme/c.css": "", "intern/plan.png": "", "intern/pay.html": "", "b.png": "",
	}
	found := arrives(t, "  - { path: /**, admit: signed-in }\n  - { path: /, admit: public }\n", files)
	if len(found) != 1 {
		t.Fatal(found)
	}
	_, door, _ := strings.Cut(found[0].Message, "add the door ")
	doors := "  - { path: /**, admit: signed-in }\n  - { path: /, admit: public }\n  " + door + "\n"
	if found := arrives(t, doors, files); len(found) > 0 {
		t.Errorf("with %s: %s", door, found[0].Message)
	}
	book, findings := read.Parse("doors.yaml", []byte("doors:\n"+doors))
	if book == nil {
		t.Fatal(findings)
	}
	var open []string
	for _, path := range []string{"/intern/", "/intern/pay.html", "/intern/plan.png", "/b.png", "/c.png", "/my%20theme/a.css"} {
		if book.Decide(policy.Request{Method: "GET", Path: path}, &policy.Visitor{}).Outcome == policy.Admit {
			open = append(open, path)
		}
	}
	if !slices.Equal(open, []string{"/intern/plan.png", "/b.png", "/my%20theme/a.css"}) {
		t.Errorf("with %s these are open: %q", door, open)
	}
}

// What is remembered of a file is forgotten when it changes.
func TestChangedPagesAreReadAgain(t *testing.T) {
	dir := t.TempDir()
	for i, text := range []string{"<img src=a.png>", "<img src=b.png><!-- longer -->"} {
		if err := os.WriteFile(filepath.Join(dir, "p.html"), []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
		n, err := readNames(dir, "p.html", "html")
		if want := []string{"a.png", "b.png"}[i]; err != nil || !slices.Equal(n.names, []string{want}) {
			t.Errorf("%v %v", n, err)
		}
	}
	if err := os.Symlink("/etc/hostname", filepath.Join(dir, "out.html")); err != nil {
		t.Fatal(err)
	}
	if _, err := readNames(dir, "out.html", "html"); err == nil {
		t.Error("a link that leads out was read")
	}
}
