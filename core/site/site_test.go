package site

import (
	"fmt"
	"strings"
	"testing"

	"ostiarius/core/place"
	"ostiarius/core/policy"
	"ostiarius/core/policy/read"
)

func TestSpots(t *testing.T) {
	book, findings := read.Parse("doors.yaml", []byte("roles: {keeper: }\ndoors:\n  - { path: /**, admit: public }\n  - { path: "+
		"/log/**, admit: { role: keeper } }\n  - { path: /log/today/notes, admit: public }\n  - { path: /**/*.map, admit: nobody }\n"))
	if book == nil {
		t.Fatal(findings)
	}
	var got []string
	spots, deciders := Spots(book,
		[]place.Place{{Path: "/", Slash: true}, {Path: "/a-b"}, {Path: "/a", Slash: true}, {Path: "/a/x.map"},
			{Path: "/a/backup-2024.zip"}, {Path: "/log/old/p.html"}}, &policy.Visitor{SignedIn: true, Roles: []string{"keeper"}})
	for _, s := range spots {
		mark := "-"
		if s.Directory {
			mark = "d"
		}
		if s.Own {
			mark += "!"
		}
		got = append(got, fmt.Sprintf("%s %s %s %d %s", s.Path, mark, s.Outcome, deciders[s.Decider].Line, s.Worry))
		if theirs := policy.Admit; s.Theirs != theirs && s.Path != "/a/x.map" {
			t.Errorf("a keeper meets %s at %s", s.Theirs, s.Path)
		}
		if deciders[s.Decider].Sentence.String() == "" || deciders[s.Decider].Terms == nil {
			t.Errorf("%s says nothing", s.Path)
		}
	}
	want := `/ d! admit 3 
/a d admit 3 
/a/backup-2024.zip - admit 3 may be a backup
/a/x.map - refuse 6 
/a-b - admit 3 
/log d! challenge 4 
/log/old d challenge 4 
/log/old/p.html - challenge 4 
/log/today d challenge 4 
/log/today/notes -! admit 5 `
	if strings.Join(got, "\n") != want {
		t.Errorf("got\n%s", strings.Join(got, "\n"))
	}
}

func TestWorry(t *testing.T) {
	for path, worries := range map[string]bool{
		"/": false, "/visit/tours": false, "/backup-2024.zip": true, "/a/dump.SQL": true, "/x/.git/config": true, "/admin": true,
		"/admin/x": true, "/administrate-me-not": false,
		"/members.csv": true, "/style.css": false, "/page.html~": true, "/contest": false, "/test/a": true, "/keys.kdbx": true,
		"/photo.jpg": false, "/old": false, "/database": false,
	} {
		if why := Worry(path); (why != "") != worries {
			t.Errorf("%s: %q", path, why)
		}
	}
}
