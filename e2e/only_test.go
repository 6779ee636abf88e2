package e2e

import (
	"go/ast"
	"go/parser"
	"go/token"
	"path/filepath"
	"slices"
	"strings"
	"testing"
)

// browserTests returns the names of the tests that open a tab, by themselves or through what they call. In CI the others are run once, by
// make race, with the service that watches for races (see .ci/run).
func browserTests() (names []string, err error) {
	files, err := filepath.Glob(filepath.Join(Root(), "e2e", "*_test.go"))
	if err != nil {
		return nil, err
	}
	calls := map[string][]string{} // of each function, what it names
	for _, file := range files {
		tree, err := parser.ParseFile(token.NewFileSet(), file, nil, 0)
		if err != nil {
			return nil, err
		}
		for _, d := range tree.Decls {
			f, ok := d.(*ast.FuncDecl)
			if !ok {
				continue
			}
			ast.Inspect(f, func(n ast.Node) bool {
				if id, ok := n.(*ast.Ident); ok {
					calls[f.Name.Name] = append(calls[f.Name.Name], id.Name)
				}
				return true
			})
		}
	}
	opens := map[string]bool{"tab": true}
	for changed := true; changed; {
		changed = false
		for f, named := range calls {
			if !opens[f] && slices.ContainsFunc(named, func(name string) bool { return opens[name] }) {
				opens[f], changed = true, true
			}
		}
	}
	for f := range opens {
		if strings.HasPrefix(f, "Test") && f != "TestMain" && f != "TestBrowserTests" {
			names = append(names, f)
		}
	}
	slices.Sort(names)
	return names, nil
}

// Which tests open a tab is found, and which don't: each is run by make test or by make race, and none by neither.
func TestBrowserTests(t *testing.T) {
	names, err := browserTests()
	if err != nil || len(names) < 40 {
		t.Fatalf("%d tests: %v", len(names), err)
	}
	for name, want := range map[string]bool{
		"TestConsole": true, "TestPasskeyRoad": true, "TestHostileSpellings": false, "TestNoEnumeration": false,
	} {
		if slices.Contains(names, name) != want {
			t.Errorf("%s opens a tab: %v", name, !want)
		}
	}
}
