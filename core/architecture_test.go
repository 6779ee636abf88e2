package core

import (
	"go/ast"
	"go/parser"
	"go/token"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"testing"
	"unicode/utf8"
)

// rules say which room may import what. The longest matching room counts.
var rules = []struct {
	room   string // a directory, with all below
	never  []string
	reason string
}{
	{"core", []string{"net/http", "database/sql", "os", "os/exec", "io/ioutil", "github.com/spf13/cobra", "github.com/jmoiron/sqlx",
		"modernc.org/sqlite"}, "core is pure: no HTTP, SQL, files or commands"},
	{"core", []string{"ostiarius/store", "ostiarius/service", "ostiarius/client", "ostiarius/cli", "ostiarius/console",
		"ostiarius/demo", "ostiarius/e2e"}, "core imports nothing from the rest"},
	{"core/document", []string{"ostiarius/core/policy"}, "a text is read before anybody knows what it says"},
	{"core/policy", []string{"ostiarius/core/policy/edit", "ostiarius/core/policy/sample"}, "edits, and what is for tests, stand above"},
	{"service", []string{"database/sql", "github.com/jmoiron/sqlx", "modernc.org/sqlite", "github.com/spf13/cobra"}, "only store imports SQL"},
	{"service", []string{"ostiarius/cli"}, "the service does not know the commands"},
	{"service", []string{"ostiarius/service/rooms/house"}, "what opens a house for tests is for tests"},
	{"service/base/hashing", []string{"ostiarius/store"}, "hashing knows nobody"},
	{"service/keep/premises", []string{"ostiarius"}, "whose a directory is has nothing to do with what is in it"},
	{"client", []string{"ostiarius/store", "ostiarius/service", "ostiarius/cli"}, "the client knows the wire only"},
	{"store", []string{"net/http", "ostiarius/service", "ostiarius/cli", "ostiarius/client", "ostiarius/core/policy"},
		"the store keeps records and decides nothing"},
	{"cli", []string{"database/sql", "github.com/jmoiron/sqlx", "modernc.org/sqlite", "ostiarius/store"},
		"cli speaks to the service through client"},
	{"cli", []string{"ostiarius/service/rule/source", "ostiarius/service/who/people", "ostiarius/service/held/keyrings",
		"ostiarius/service/who/sessions", "ostiarius/service/who/signin", "ostiarius/service/door/visitor",
		"ostiarius/service/keep/activity", "ostiarius/service/face/pages", "ostiarius/service/face/api"},
		"what a command needs of a policy without a service is in inspect"},
	{"cmd", []string{"ostiarius/core", "ostiarius/store", "ostiarius/service", "ostiarius/client"}, "main and nothing else"},
	{"embed", []string{"ostiarius/store", "ostiarius/cli", "ostiarius/client"},
		"a program that embeds the service uses it as the command does"},
	{"patrol", []string{"ostiarius/store", "ostiarius/service", "ostiarius/cli", "ostiarius/demo"}, "a patrol sees a site from outside"},
	{"demo", []string{"ostiarius/store", "ostiarius/cli"}, "the demo uses the service as anybody would"},
}

// floors are the folders of the service, from below. An arrow goes down only: what is in a folder imports nothing of a folder above, and
// within a folder what the lines of inside allow.
var floors = []string{
	"base",   // what all lean on, and knows nobody
	"keep",   // what is written down besides: activity, mail, backups
	"held",   // what opens doors without an account
	"who",    // accounts, and how somebody proves to be the owner of one
	"walk",   // going through the site as somebody else
	"shop",   // what was paid for, and who is told
	"rule",   // the active policy, and what stands behind it
	"door",   // who asks, and what was decided
	"rooms",  // opens all of these
	"face",   // what people and programs meet
	"listen", // the ways in that are not HTTP
}

// inside are the floors within a folder, from below, where it has more than one.
var inside = map[string][][]string{
	"base":   {{"mistake", "problem", "chores", "recall", "hashing"}, {"guard", "ending", "known"}},
	"keep":   {{"activity", "letters", "mail", "premises"}, {"backup"}},
	"held":   {{"keyrings", "shared", "passes"}},
	"who":    {{"people", "sessions"}, {"factors", "accesskeys"}, {"signin", "recovery", "joining", "leaving"}, {"elsewhere"}},
	"walk":   {{"walks"}, {"patrols"}},
	"shop":   {{"members", "outgoing", "events"}},
	"rule":   {{"inspect"}, {"replace", "source"}, {"inforce"}},
	"door":   {{"visitor", "identity", "decisions"}},
	"face":   {{"pages", "api"}},
	"listen": {{"access", "authorizer"}},
	"rooms":  {{"house"}, {"another"}},
}

// A spot is where in the service a path of a file, or of an import, is.
type spot struct{ folder, room string }

func spotOf(path string) (s spot, in bool) {
	rest, in := strings.CutPrefix(strings.TrimPrefix(filepath.ToSlash(path), "ostiarius/"), "service/")
	parts := strings.Split(rest, "/")
	if strings.HasSuffix(path, ".go") {
		parts = parts[:len(parts)-1]
	}
	switch {
	case !in || len(parts) == 0:
		return s, false // of the service itself, which opens and closes everything
	case len(parts) == 1:
		return spot{parts[0], ""}, true
	}
	return spot{parts[0], parts[1]}, true
}

// below reports whether one spot may import another.
func below(to, from spot) bool {
	if to.folder != from.folder {
		return slices.Index(floors, to.folder) < slices.Index(floors, from.folder)
	}
	at := func(room string) int {
		return slices.IndexFunc(inside[to.folder], func(rooms []string) bool { return slices.Contains(rooms, room) })
	}
	return to.room == from.room || at(to.room) < at(from.room)
}

func TestImportsFollowTheHouse(t *testing.T) {
	root, err := filepath.Abs("..")
	if err != nil {
		t.Fatal(err)
	}
	files := 0
	err = filepath.WalkDir(root, func(path string, entry fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		if entry.IsDir() && (entry.Name() == "node_modules" || entry.Name() == ".git") {
			return filepath.SkipDir
		}
		if !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") {
			return nil
		}
		files++
		parsed, err := parser.ParseFile(token.NewFileSet(), path, nil, parser.ImportsOnly)
		if err != nil {
			return err
		}
		where, _ := filepath.Rel(root, path)
		from, inService := spotOf(where)
		if inService && (!slices.Contains(floors, from.folder) ||
			from.room != "" && !slices.ContainsFunc(inside[from.folder], func(rooms []string) bool { return slices.Contains(rooms, from.room) })) {
			t.Errorf("%s is in a room of the service that has no floor", where)
		}
		for _, spec := range parsed.Imports {
			imported, _ := strconv.Unquote(spec.Path.Value)
			if to, also := spotOf(imported); inService && also && !below(to, from) {
				t.Errorf("%s imports %s, which is not on a floor below", where, imported)
			}
			for _, rule := range rules {
				if !strings.HasPrefix(where, rule.room+string(os.PathSeparator)) {
					continue
				}
				if slices.ContainsFunc(rule.never, func(never string) bool {
					return imported == never || strings.HasPrefix(never, "ostiarius/") && strings.HasPrefix(imported, never+"/")
				}) {
					t.Errorf("%s imports %s, but %s", where, imported, rule.reason)
				}
			}
		}
		return nil
	})
	if err != nil || files < 20 {
		t.Fatalf("%d files read: %v", files, err)
	}
}

// JSON that comes from outside is read in one way: package json takes "Sub" for "sub", and the last of two. The files
// that read what we have written ourselves, or read each member by hand, are named here.
func TestOutsideJSONIsReadExactly(t *testing.T) {
	own := []string{
		"core/exact/exact.go", "core/event/read.go", "core/roster/roster.go", "core/replay/record.go", "core/passkey/pretend/pretend.go",
		"core/openid/openid.go",
		"service/who/elsewhere/ways.go", "service/walk/patrols/patrols.go", "service/keep/backup/backup.go",
		"service/door/decisions/decisions.go",
		"service/keep/activity/notes.go",
	}
	root, err := filepath.Abs("..")
	if err != nil {
		t.Fatal(err)
	}
	for _, dir := range []string{"core", "service"} {
		err := filepath.WalkDir(filepath.Join(root, dir), func(path string, entry fs.DirEntry, err error) error {
			where, _ := filepath.Rel(root, path)
			if err != nil || !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") ||
				slices.Contains(own, filepath.ToSlash(where)) {
				return err
			}
			text, err := os.ReadFile(path)
			for _, reads := range []string{"json.Unmarshal(", "json.NewDecoder("} {
				if strings.Contains(string(text), reads) {
					t.Errorf("%s has %s...); what comes from outside is read with package exact", where, reads)
				}
			}
			return err
		})
		if err != nil {
			t.Fatal(err)
		}
	}
}

// No type outside the store collects use cases of everything.
func TestNoTypeIsAHeap(t *testing.T) {
	const most = 25
	root, err := filepath.Abs("..")
	if err != nil {
		t.Fatal(err)
	}
	methods := map[string]int{}
	err = filepath.WalkDir(root, func(path string, entry fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		if entry.IsDir() && slices.Contains([]string{"node_modules", ".git", "store"}, entry.Name()) {
			return filepath.SkipDir
		}
		if !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") {
			return nil
		}
		parsed, err := parser.ParseFile(token.NewFileSet(), path, nil, parser.SkipObjectResolution)
		if err != nil {
			return err
		}
		for _, d := range parsed.Decls {
			f, ok := d.(*ast.FuncDecl)
			if !ok || f.Recv == nil || !f.Name.IsExported() {
				continue
			}
			of := f.Recv.List[0].Type
			if pointer, ok := of.(*ast.StarExpr); ok {
				of = pointer.X
			}
			if name, ok := of.(*ast.Ident); ok {
				methods[filepath.Dir(path)+"."+name.Name]++
			}
		}
		return nil
	})
	if err != nil || len(methods) < 50 {
		t.Fatalf("%d types read: %v", len(methods), err)
	}
	for name, n := range methods {
		if n > most {
			t.Errorf("%s has %d exported methods; more than %d are a heap: divide it", name, n, most)
		}
	}
}

// Lines fit beside each other.
func TestLinesAreShort(t *testing.T) {
	const most = 140
	seen := 0
	err := filepath.WalkDir("..", func(file string, entry fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		switch {
		case entry.IsDir() && slices.Contains([]string{"node_modules", ".git", "third_party", "dist", "bin"}, entry.Name()):
			return filepath.SkipDir
		case !slices.Contains([]string{".go", ".ts", ".tsx"}, filepath.Ext(file)), strings.HasSuffix(file, "console/src/schema.ts"):
			return nil // or made from something else
		}
		text, err := os.ReadFile(file)
		seen++
		for i, line := range strings.Split(string(text), "\n") {
			if n := utf8.RuneCountInString(line); n > most {
				t.Errorf("%s:%d has %d characters, more than %d", file, i+1, n, most)
			}
		}
		return err
	})
	if err != nil || seen < 500 {
		t.Fatalf("%d files read: %v", seen, err)
	}
}
