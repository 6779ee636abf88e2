package policy

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
)

// Every policy in the documentation is read, and every word of the language stands there.
func TestDocumentation(t *testing.T) {
	found := 0
	for _, name := range []string{"README.md", "docs/policy.md"} {
		text, err := os.ReadFile(filepath.Join("..", "..", name))
		if err != nil {
			t.Fatal(err)
		}
		for _, part := range strings.Split(string(text), "```yaml\n")[1:] {
			example, _, _ := strings.Cut(part, "```")
			found++
			if _, findings := Parse(name, []byte(example)); len(findings) > 0 {
				t.Errorf("an example in %s: %v\n%s", name, findings, example)
			}
		}
		if name == "docs/policy.md" {
			for _, words := range [][]string{policyKeys, doorKeys, demandKeys, {"public", "signed-in", "nobody", "hide", "anonymous", "refused", "go", "say"}} {
				for _, word := range words {
					if !strings.Contains(string(text), "`"+word) && !strings.Contains(string(text), word+":") {
						t.Errorf("%s does not explain %q", name, word)
					}
				}
			}
		}
	}
	if found < 6 {
		t.Errorf("only %d examples found", found)
	}
}
