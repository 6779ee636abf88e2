package read

import (
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"

	"ostiarius/core/policy"
)

// Every policy in the documentation is read, and every word of the language stands there.
func TestDocumentation(t *testing.T) {
	found := 0
	for _, name := range []string{"README.md", "docs/policy.md", "docs/basic.md", "docs/proxying.md", "docs/joining.md",
		"docs/selling.md", "docs/looks.md"} {
		text, err := os.ReadFile(filepath.Join("..", "..", "..", name))
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
			for _, words := range [][]string{policyKeys, doorKeys, policy.KeysOfDemands(), guaranteeKeys,
				{"public", "signed-in", "nobody", "hide", "anonymous", "refused", "go", "say"}} {
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

var ruleInCode = regexp.MustCompile(`(?:"broken": |"unproven": |\.warnDoor\([^"\n]*|(?:\.at|\bp\.At)\([^"\n]*|` +
	`(?:\.fault|\bp\.Fault|\bp\.Warn|\bwarn)\(\s*[^"\n]*\s*|Rule: )"([a-z]+(?:-[a-z]+)*)"`)

// Every rule that the code has is explained, and no other.
func TestFindingsAreDocumented(t *testing.T) {
	text, err := os.ReadFile(filepath.Join("..", "..", "..", "docs", "findings.md"))
	if err != nil {
		t.Fatal(err)
	}
	rules := map[string]bool{}
	for _, pattern := range []string{
		"*.go", "../*.go", "../../document/*.go", "../../prove/*.go", "../../../service/*/*/*.go", "../../../cli/*.go",
	} {
		files, _ := filepath.Glob(pattern)
		for _, file := range files {
			code, err := os.ReadFile(file)
			if err != nil {
				t.Fatal(err)
			}
			if strings.HasSuffix(file, "_test.go") {
				continue
			}
			for _, match := range ruleInCode.FindAllStringSubmatch(string(code), -1) {
				rules[match[1]] = true
			}
		}
	}
	for rule := range rules {
		if !strings.Contains(string(text), "\n| `"+rule+"` |") {
			t.Errorf("docs/findings.md does not explain %s", rule)
		}
	}
	if rows := strings.Count(string(text), "\n| `"); rows != len(rules) {
		t.Errorf("docs/findings.md explains %d rules, the code has %d", rows, len(rules))
	}
}

// testName is one that the documentation names: with its package where several have a test of that name.
var testName = regexp.MustCompile("`(?:([a-z0-9]+)\\.)?((?:Test|Fuzz|Benchmark)[A-Za-z0-9]+)`")

var testFunction = regexp.MustCompile(`(?m)^func ((?:Test|Fuzz|Benchmark)[A-Za-z0-9]+)\(\w+ \*testing\.[TFB]\)`)

// What is shown by no test: a rule about the documentation, whose page is named, and what there is not.
var shownOtherwise = regexp.MustCompile(`document.*\]\(|there (?:is|are) none|does not apply|not met`)

// promises are the rows of the tables whose last column says by what something is shown.
func promises(text string) (rows []string) {
	in := false
	for line := range strings.Lines(text) {
		line = strings.TrimSpace(line)
		switch {
		case !strings.HasPrefix(line, "|"):
			in = false
		case strings.HasSuffix(line, "| shown by |"):
			in = true
		case in && !strings.HasPrefix(line, "| ---"):
			rows = append(rows, line)
		}
	}
	return rows
}

// Each promise names a test; each test that it names is there, and it is clear which one is meant.
func TestNamedTestsExist(t *testing.T) {
	in := map[string][]string{} // the packages that have a test of a name
	for _, pattern := range []string{"*", "*/*", "*/*/*", "*/*/*/*"} {
		files, _ := filepath.Glob(filepath.Join("..", "..", "..", pattern+"_test.go"))
		for _, file := range files {
			content, err := os.ReadFile(file)
			if err != nil {
				t.Fatal(err)
			}
			for _, found := range testFunction.FindAllSubmatch(content, -1) {
				in[string(found[1])] = append(in[string(found[1])], filepath.Base(filepath.Dir(file)))
			}
		}
	}
	for doc, least := range map[string]int{"asvs.md": 80, "threats.md": 250, "reliability.md": 15} {
		text, err := os.ReadFile(filepath.Join("..", "..", "..", "docs", doc))
		if err != nil {
			t.Fatal(err)
		}
		for _, row := range promises(string(text)) {
			if !testName.MatchString(row) && !shownOtherwise.MatchString(row) {
				t.Errorf("docs/%s: no test is named by %s", doc, row)
			}
		}
		names := testName.FindAllStringSubmatch(string(text), -1)
		for _, name := range names {
			switch of, where := name[1], in[name[2]]; {
			case len(where) == 0:
				t.Errorf("docs/%s names %s, which is not there", doc, name[2])
			case of == "" && len(where) > 1:
				t.Errorf("docs/%s names %s, which is in %s; write the package before it", doc, name[2], strings.Join(where, ", "))
			case of != "" && !slices.Contains(where, of):
				t.Errorf("docs/%s names %s, which is not in the package %s, but in %s", doc, name[2], of, strings.Join(where, ", "))
			}
		}
		if len(names) < least {
			t.Errorf("only %d names were found in docs/%s", len(names), doc)
		}
	}
}
