package store

import (
	"go/ast"
	"go/parser"
	"go/token"
	"maps"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"

	"ostiarius/core/account"
)

// Who writes what others keep in memory, or wait for, says so. What changes nothing of that is named here, with its reason.
func TestWhatIsWrittenIsNews(t *testing.T) {
	writes := regexp.MustCompile(`^\s*(UPDATE|INSERT INTO|DELETE FROM) (accounts|grants|keyring_entries|messages|events)\b`)
	silent := map[string]string{
		"SET signed_in_at =":        "when somebody signed in is read from the records",
		"SET proofs = proofs WHERE": "a lock: the row stays as it is",
		"SET told =":                "who has been told is read from the records",
		"SET agreed_at =":           "what was agreed to is asked for nowhere",
		"SET language =":            "mails are written as the records say",
		"SET words =":               "what is searched for",
		"SET skeleton =":            "what names are compared by",
		"SET to_key =":              "what addresses are compared by",
		"SET name = ?, name_key = ?, skeleton = ?, words = ?": "records of an earlier version, before anything is read",
		"SET hash = ? WHERE id = ? AND hash = ?":              "the same password",
		"SET hash = ? WHERE keyring = ?":                      "the same password",
		"SET used_at =":                                       "when it was used is read from the records",
		"SET gaps = ''":                                       "what has ended is not waited for",
		"DELETE FROM messages":                                "what is gone is not waited for",
		"SET state = ?, problem = ?, done_at = ?":             "what is done is not waited for",
		"SET body = ''":                                       "what is done is not waited for",
	}
	tables := []string{"accounts", "newAccounts", "grants", "newGrants", "entries", "messages", "newMessages", "events", "newEvents"}
	unused := maps.Clone(silent)
	files, err := filepath.Glob("*.go")
	if err != nil {
		t.Fatal(err)
	}
	found := 0
	for _, name := range files {
		if strings.HasSuffix(name, "_test.go") || name == "backup.go" { // a copy, which nobody uses yet
			continue
		}
		file, err := parser.ParseFile(token.NewFileSet(), name, nil, 0)
		if err != nil {
			t.Fatal(err)
		}
		for _, d := range file.Decls {
			f, ok := d.(*ast.FuncDecl)
			if !ok {
				continue
			}
			told, wrote := false, []string{}
			ast.Inspect(f, func(n ast.Node) bool {
				switch is := n.(type) {
				case *ast.SelectorExpr:
					told = told || slices.Contains([]string{"changed", "waits", "news"}, is.Sel.Name)
					of, ok := is.X.(*ast.Ident)
					if ok && slices.Contains(tables, of.Name) && slices.Contains([]string{"add", "addOne", "put", "change"}, is.Sel.Name) {
						wrote = append(wrote, of.Name)
					}
				case *ast.Ident:
					told = told || is.Name == "changeEntry"
				case *ast.BasicLit:
					text := strings.Trim(is.Value, "`")
					if !writes.MatchString(text) {
						return true
					}
					for says := range silent {
						if strings.Contains(text, says) {
							delete(unused, says)
							return true
						}
					}
					wrote = append(wrote, text)
				}
				return true
			})
			if found += len(wrote); len(wrote) > 0 && !told && f.Name.Name != "addAccounts" { // of new accounts nobody knows anything yet
				t.Errorf("%s in %s writes %q, and says nothing of it", f.Name.Name, name, wrote)
			}
		}
	}
	if found < 20 || len(unused) > 0 {
		t.Errorf("%d found; not there any more: %q", found, unused)
	}
}

// News are told once it is certain, or uncertain, that something has changed, and not of what was rolled back.
func TestNewsAreOfWhatWasCommitted(t *testing.T) {
	s := open(t, filepath.Join(t.TempDir(), FileName))
	var heard []News
	s.Subscribe(func(n News) { heard = append(heard, n) })
	id, err := s.AddAccount(t.Context(), &account.Account{Name: "ines"}, Keys{Name: "ines"}, "", Activity{})
	if err != nil || len(heard) != 1 || !heard[0].Accounts[id] {
		t.Fatalf("%v, heard %+v", err, heard)
	}
	heard = nil
	if err := s.SetDisabled(t.Context(), id, true, Activity{}); err != nil || len(heard) != 1 || !heard[0].Accounts[id] || heard[0].Mail {
		t.Errorf("%v, heard %+v", err, heard)
	}
	heard = nil
	if err := s.SetDisabled(t.Context(), id, true, Activity{}); err != nil || heard != nil {
		t.Errorf("nothing changed: %v, heard %+v", err, heard)
	}
	if err := s.RemoveAccount(t.Context(), id+1, Activity{}.At, Activity{}); err != ErrNone || heard != nil {
		t.Errorf("rolled back: %v, heard %+v", err, heard)
	}
	if _, err := s.EndAllSessions(t.Context(), Activity{}); err != nil || len(heard) != 1 || !heard[0].Everyone {
		t.Errorf("%v, heard %+v", err, heard)
	}
}
