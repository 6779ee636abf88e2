package pages

import (
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
)

var codeInSource = regexp.MustCompile(`(?:trouble\{|Code: )"([a-z-]+)"|return "([a-z-]+-needed)"`)

// Every code that a script can be told stands in the one list of them.
func TestCodesAreDocumented(t *testing.T) {
	t.Parallel()
	list, err := os.ReadFile("../../../docs/front-ends.md")
	if err != nil {
		t.Fatal(err)
	}
	_, codes, ok := strings.Cut(string(list), "## Codes")
	if !ok {
		t.Fatal("there is no list")
	}
	files, _ := filepath.Glob("*.go")
	found := map[string]bool{}
	for _, file := range files {
		source, err := os.ReadFile(file)
		if err != nil {
			t.Fatal(err)
		}
		for _, match := range codeInSource.FindAllStringSubmatch(string(source), -1) {
			found[match[1]+match[2]] = true
		}
	}
	for code := range found {
		if !strings.Contains(codes, "`"+code+"`") {
			t.Errorf("the code %s is in no list", code)
		}
	}
	if len(found) < 15 {
		t.Errorf("found only %v", found)
	}
}
