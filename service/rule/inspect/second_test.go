package inspect

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"ostiarius/core/policy/read"
)

// Files that can be had at two addresses with doors that do not ask for the same are told, whatever makes the second one.
func TestSecondWays(t *testing.T) {
	dir := t.TempDir()
	write := func(name string) {
		name = filepath.Join(dir, name)
		if err := os.MkdirAll(filepath.Dir(name), 0o755); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(name, []byte("the minutes"), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	for _, name := range []string{"site/minutes/may.txt", "site/press/may.txt", "site/log/caf\u00e9.txt", "site/log/cafe\u0301.txt",
		"other/a.txt"} {
		write(name)
	}
	must := func(err error) {
		if err != nil {
			t.Fatal(err)
		}
	}
	must(os.Symlink("../minutes/may.txt", filepath.Join(dir, "site/press/linked.txt")))
	must(os.Symlink("minutes", filepath.Join(dir, "site/archive")))
	must(os.Link(filepath.Join(dir, "site/minutes/may.txt"), filepath.Join(dir, "site/press/hard.txt")))
	must(os.Symlink("may.txt", filepath.Join(dir, "site/minutes/latest.txt"))) // the same door
	const doors = "doors:\n  - {path: /, admit: public}\n  - {path: /press/**, admit: public}\n  - {path: /log/**, admit: public}\n  - " +
		"{path: /minutes/**, admit: {role: trustee}}\n"
	for name, test := range map[string]struct {
		text string
		want []string // what is said, by rule and words
	}{
		"links": {"roles: {trustee: }\nsources: [{path: /, files: ./site}]\n" + doors, []string{
			"second-way /press/hard.txt", "second-way /press/linked.txt", "second-way /archive/latest.txt", "names-alike /log/caf"}},
		"a source within another": {"roles: {trustee: }\nsources: [{path: /, files: ./other}, {path: /press, files: ./site/minutes}, " +
			"{path: /minutes, files: ./site/minutes}]\n" + doors, []string{"second-way /minutes/may.txt"}},
		"a host": {"roles: {trustee: }\nsources: [{path: /, files: ./other}]\ndoors:\n  - {path: /**, admit: public}\n  - {path: " +
			"/**, host: office.marram.example, admit: {role: trustee}}\n", []string{"second-way office.marram.example"}},
		"a host of both": {"roles: {trustee: }\nsources: [{path: /, files: ./other}, {path: /, host: office.marram.example, files: " +
			"./site/minutes}]\ndoors:\n  - {path: /**, admit: public}\n  - {path: /**, host: office.marram.example, admit: {role: trustee}}\n", nil},
	} {
		book, findings := read.Parse("doors.yaml", []byte(test.text))
		if book == nil {
			t.Fatal(name, findings)
		}
		said := secondWays(book, filepath.Join(dir, "doors.yaml"))
		for _, want := range test.want {
			rule, words, _ := strings.Cut(want, " ")
			found := false
			for _, f := range said {
				found = found || f.Rule == rule && strings.Contains(f.Message, words) && f.Witness != nil
			}
			if !found {
				t.Errorf("%s: nothing says %s", name, want)
			}
		}
		if test.want == nil && said != nil {
			t.Errorf("%s: %+v", name, said)
		}
	}
}
