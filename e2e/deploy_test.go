package e2e

import (
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"ostiarius/e2e/needs"
)

// What is in deploy/ and in its documentation uses flags that there are.
func TestDeploy(t *testing.T) {
	t.Parallel()
	_, help, _ := run(t, "", "serve", "--help")
	flags := 0
	for _, file := range []string{"../deploy/ostiarius.service", "../deploy/ostiarius.socket", "../deploy/Containerfile",
		"../docs/running.md", "../docs/backup.md"} {
		text, err := os.ReadFile(file)
		if err != nil {
			t.Fatal(err)
		}
		_, backup, _ := run(t, "", "backup", "--help")
		_, restore, _ := run(t, "", "restore", "--help")
		_, link, _ := run(t, "", "people", "link", "--help")
		for _, line := range strings.Split(string(text), "\n") {
			if !strings.Contains(line, "ostiarius") && !strings.HasPrefix(line, "CMD") && !strings.Contains(line, "`--") ||
				strings.Contains(line, "useradd") || strings.Contains(line, "podman") || strings.Contains(line, "systemctl") {
				continue
			}
			for _, flag := range regexp.MustCompile(`--[a-z][a-z-]+`).FindAllString(line, -1) {
				flags++
				if !regexp.MustCompile(flag + `[ \n]`).MatchString(help + backup + restore + link) {
					t.Errorf("%s: there is no flag %s", file, flag)
				}
			}
		}
	}
	if flags < 10 {
		t.Errorf("%d flags; that shows little", flags)
	}
	settings, err := os.ReadFile("../docs/running.md")
	if err != nil {
		t.Fatal(err)
	}
	_, example, _ := strings.Cut(string(settings), "```yaml\n")
	example, _, _ = strings.Cut(example, "```")
	dir := t.TempDir()
	write(t, dir, "settings.yaml", example)
	if code, _, errOut := run(t, "", "serve", "--settings", filepath.Join(dir, "settings.yaml"), "--listen", "nowhere", "--data",
		filepath.Join(dir, "d"), "--access-log",
		filepath.Join(dir, "l")); code != 1 || !strings.Contains(errOut, "HOST:PORT") && !strings.Contains(errOut, "nowhere") {
		t.Errorf("the settings of the documentation: %d %s", code, errOut)
	}
}

// systemd understands the unit.
func TestUnit(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	analyze, err := exec.LookPath("systemd-analyze")
	if err != nil {
		needs.Skip(t, "there is no systemd here")
	}
	unit, err := os.ReadFile("../deploy/ostiarius.service")
	if err != nil {
		t.Fatal(err)
	}
	binary, err := filepath.Abs(Binary())
	if err != nil {
		t.Fatal(err)
	}
	write(t, dir, "ostiarius.service",
		strings.ReplaceAll(strings.ReplaceAll(string(unit), "/usr/local/bin/ostiarius", binary), "=ostiarius\nGroup=ostiarius", "=root"))
	if out, err := exec.Command(analyze, "verify", filepath.Join(dir, "ostiarius.service")).CombinedOutput(); err != nil ||
		strings.Contains(string(out), "ostiarius.service:") {
		t.Errorf("%v: %s", err, out)
	}
}
