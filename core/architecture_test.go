package core

import (
	"go/parser"
	"go/token"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"testing"
)

// rules say which room may import what. The longest matching room counts.
var rules = []struct {
	room   string // a directory, with all below
	never  []string
	reason string
}{
	{"core", []string{"net/http", "database/sql", "os", "os/exec", "io/ioutil", "github.com/spf13/cobra", "github.com/jmoiron/sqlx", "modernc.org/sqlite"}, "core is pure: no HTTP, SQL, files or commands"},
	{"core", []string{"ostiarius/store", "ostiarius/service", "ostiarius/client", "ostiarius/cli", "ostiarius/console", "ostiarius/demo", "ostiarius/e2e"}, "core imports nothing from the rest"},
	{"service", []string{"database/sql", "github.com/jmoiron/sqlx", "modernc.org/sqlite", "github.com/spf13/cobra"}, "only store imports SQL"},
	{"service", []string{"ostiarius/cli"}, "the service does not know the commands"},
	// The floors of the service: an arrow goes down only.
	{"service/hashing", []string{"ostiarius/store", "ostiarius/service/people", "ostiarius/service/activity"}, "hashing knows nobody"},
	{"service/mistake", []string{"ostiarius"}, "errors for people know nobody"},
	{"service/premises", []string{"ostiarius"}, "whose a directory is has nothing to do with what is in it"},
	{"service/activity", []string{"ostiarius/service"}, "what happened leans on the records alone"},
	{"service/ending", above("service/ending", "service/mistake"), "to take access away knows no kind of it"},
	{"service/keyrings", above("service/keyrings", "service/activity", "service/ending", "service/hashing", "service/mistake"), "a kind of record knows no other, and nothing above"},
	{"service/people", above("service/people", "service/activity", "service/ending", "service/hashing", "service/mistake"), "a kind of record knows no other, and nothing above"},
	{"client", []string{"ostiarius/store", "ostiarius/service", "ostiarius/cli"}, "the client knows the wire only"},
	{"store", []string{"net/http", "ostiarius/service", "ostiarius/cli", "ostiarius/client", "ostiarius/core/policy"}, "the store keeps records and decides nothing"},
	{"cli", []string{"database/sql", "github.com/jmoiron/sqlx", "modernc.org/sqlite", "ostiarius/store"}, "cli speaks to the service through client"},
	{"cli", []string{"ostiarius/service/source", "ostiarius/service/people", "ostiarius/service/keyrings", "ostiarius/service/activity", "ostiarius/service/pages", "ostiarius/service/api"}, "what a command needs of a policy without a service is in inspect"},
	{"service/inspect", above("service/inspect"), "to look at a policy needs no running service"},
	{"service/source", above("service/source", "service/guard", "service/inspect"), "a source answers what the guard admits"},
	{"cmd", []string{"ostiarius/core", "ostiarius/store", "ostiarius/service", "ostiarius/client"}, "main and nothing else"},
	{"demo", []string{"ostiarius/store", "ostiarius/cli"}, "the demo uses the service as anybody would"},
}

// above returns all rooms of the service but some.
func above(but ...string) (rooms []string) {
	for _, room := range []string{"activity", "api", "ending", "guard", "hashing", "inforce", "inspect", "keyrings", "mistake", "pages", "people", "premises", "source"} {
		if room = "service/" + room; !slices.Contains(but, room) {
			rooms = append(rooms, "ostiarius/"+room)
		}
	}
	return rooms
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
		for _, spec := range parsed.Imports {
			imported, _ := strconv.Unquote(spec.Path.Value)
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
