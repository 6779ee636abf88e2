package e2e

import (
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
)

// A program outside of the repository imports the package as docs/embedding.md says.
func TestImportingAsDocumented(t *testing.T) {
	t.Parallel()
	text, err := os.ReadFile(filepath.Join(Root(), "docs", "embedding.md"))
	if err != nil {
		t.Fatal(err)
	}
	commands := regexp.MustCompile("(?s)```sh\n(make -C.*?)```").FindSubmatch(text)
	code := regexp.MustCompile("(?s)```go\n(doors, err := .*?)```").FindSubmatch(text)
	if commands == nil || code == nil {
		t.Fatal("the commands or the code are not found")
	}
	dir := t.TempDir()
	if err := os.Symlink(Root(), filepath.Join(dir, "ostiarius")); err != nil {
		t.Fatal(err)
	}
	write(t, dir, "tides/main.go", "package main\n\nimport (\n\t\"log\"\n\t\"net/http\"\n\n\t\"ostiarius/embed\"\n)\n\nfunc main() "+
		"{\n\tmux := http.NewServeMux()\n"+string(code[1])+"}\n")
	write(t, dir, "tides/go.mod", "module tides\n\ngo 1.26\n")
	for _, line := range strings.Split(strings.TrimSpace(string(commands[1])), "\n") {
		words := strings.Fields(line)
		if words[0] == "make" { // it is built already
			continue
		}
		c := exec.Command(words[0], words[1:]...)
		c.Dir = filepath.Join(dir, "tides")
		if out, err := c.CombinedOutput(); err != nil {
			t.Fatalf("%s: %v\n%s", line, err, out)
		}
	}
	if _, err := os.Stat(filepath.Join(dir, "tides", "tides")); err != nil {
		t.Error(err)
	}
}
