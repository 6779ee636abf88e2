package cli

import (
	"bytes"
	"os"
	"path/filepath"
	"strings"
	"testing"
)

// What makes no sense is told in one line on standard error, with what would; exit code 2 for the command line,
// 1 for what could not be done.
func TestMainTellsWhatIsWrong(t *testing.T) {
	dir := t.TempDir()
	good, bad := filepath.Join(dir, "doors.yaml"), filepath.Join(dir, "bad.yaml")
	for file, text := range map[string]string{good: "doors: [{path: /, admit: public}]\n", bad: "doors: [{path: /, admit: {rol: x}}]\n"} {
		if err := os.WriteFile(file, []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	for _, test := range []struct {
		args []string
		code int
		want string
	}{
		{[]string{"chek"}, 2, `did you mean "check"?`},
		{[]string{"check", good, good}, 2, "is one argument too many; usage: ostiarius check"},
		{[]string{"check", "--strikt"}, 2, "--strikt"},
		{[]string{"check", filepath.Join(dir, "nowhere.yaml")}, 1, "the policy can't be read"},
		{[]string{"check", bad}, 1, ""},
		{[]string{"compare", good}, 2, "NEW is missing; usage: ostiarius compare OLD NEW"},
		{[]string{"compare", good, bad}, 2, "bad.yaml has errors and can't be compared"},
		{[]string{"compare", good, good}, 0, ""},
		{[]string{"explain", "GET", "nonsense", "--policy", good}, 2, "nonsense"},
		{[]string{"explain", "GET", "/", "--policy", bad}, 1, ""},
		{[]string{"explain", "GET", "/", "--policy", good, "--as", "nonsense"}, 2, "nonsense"},
		{[]string{"matrix", "--policy", bad}, 1, ""},
		{[]string{"doors", "list", "--policy", bad}, 1, ""},
		{[]string{"people", "list", "--data", dir}, 1, "no service is running"},
		{[]string{"doors", "list", "--data", dir}, 1, "or give a file with --policy"},
		{[]string{"people", "list", "--sort", "age", "--data", dir}, 2, "--sort age is unknown"},
		{[]string{"people", "link", "--first", "ines", "--data", dir}, 2, "takes no arguments"},
		{[]string{"sessions", "list", "--limit", "0", "--data", dir}, 2, "--limit is a number from 1"},
		{[]string{"serve", "--metrics-from", "everywhere"}, 2, "--metrics-from everywhere isn't a network"},
		{[]string{"serve", "--odd-fields", "keep"}, 2, "--odd-fields keep is unknown; use drop or refuse"},
		{[]string{"serve", "--files", dir, "--proxy", "http://x", "--policy", filepath.Join(dir, "new.yaml")}, 2, "can't be used together"},
	} {
		var out, errOut bytes.Buffer
		code := Main(test.args, strings.NewReader(""), &out, &errOut)
		said := errOut.String()
		if code != test.code || !strings.Contains(said, test.want) {
			t.Errorf("%q: %d %q, want %d %q", test.args, code, said, test.code, test.want)
		}
		lines := 1 // what is wrong; of the command line also where to read on
		if test.code == 2 {
			lines = 2
		}
		if test.want != "" && strings.Count(said, "\n") != lines && !strings.Contains(test.want, "can't be compared") {
			t.Errorf("%q says more: %q", test.args, said)
		}
	}
}

// The version is printed by the command and by the flag, whatever a container sets.
func TestVersion(t *testing.T) {
	for _, name := range []string{"OSTIARIUS_VERSION", "OSTIARIUS_HELP"} {
		t.Setenv(name, "1.2.3")
	}
	var said []string
	for _, args := range [][]string{{"version"}, {"--version"}} {
		var out, errOut bytes.Buffer
		if code := Main(args, strings.NewReader(""), &out, &errOut); code != 0 || !strings.HasPrefix(out.String(), "ostiarius "+Version) {
			t.Errorf("%q: %d %q %q", args, code, out.String(), errOut.String())
		}
		said = append(said, out.String())
	}
	if said[0] != said[1] {
		t.Errorf("%q", said)
	}
}
