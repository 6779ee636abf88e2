package prove

import (
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"

	"ostiarius/core/place"
	"ostiarius/core/policy"
	"ostiarius/core/policy/read"
)

func TestRegions(t *testing.T) {
	book := parse(t, `
roles: {keeper: , trustee: {includes: keeper}}
doors:
  - {path: /visit/**, admit: public}
  - {path: /log/**, admit: {role: keeper}}
  - {path: /log/**, methods: [POST], admit: {role: trustee}}
  - {path: /**/*.map, host: "*.marram.example", admit: nobody, otherwise: hide}
`)
	ground, err := Survey(book)
	if err != nil {
		t.Fatal(err)
	}
	old, err := policy.ParseVisitor("role:trustee,proof-age:20m")
	if err != nil {
		t.Fatal(err)
	}
	m := ground.Regions(append(Kinds(book), old))
	if got := strings.Join(m.Visitors, " "); got != "anonymous signed-in role:keeper role:trustee role:steward role:trustee,proof-age:20m" {
		t.Errorf("visitors %s", got)
	}
	var rows []string
	for _, row := range m.Rows {
		text := row.Label + ":"
		for _, c := range row.Cells {
			text += " " + string(c.Outcome)
		}
		rows = append(rows, text)
	}
	want := []string{
		"/visit/**: admit admit admit admit admit admit",
		"/log/**: challenge refuse admit admit refuse admit",
		"POST /log/**: challenge refuse refuse admit refuse admit",
		"*.marram.example/**/*.map: hide hide hide hide hide hide",
		"/visit/** and *.marram.example/**/*.map: hide hide hide hide hide hide",
		"/log/** and *.marram.example/**/*.map: hide hide hide hide hide hide",
		"POST /log/** and *.marram.example/**/*.map: hide hide hide hide hide hide",
		"unlisted: challenge admit admit admit admit admit",
	}
	if strings.Join(rows, "\n") != strings.Join(want, "\n") {
		t.Errorf("rows\n%s\nwant\n%s", strings.Join(rows, "\n"), strings.Join(want, "\n"))
	}
	at := At(book, []policy.Request{{Method: "POST", Path: "/log/new"}, {Method: "GET", Path: "/a%2fb"}}, Kinds(book))
	if at.Rows[0].Cells[2].Outcome != policy.Refuse || at.Rows[1].Problem == "" || at.Rows[1].Cells[0].Outcome != policy.Reject {
		t.Errorf("%+v", at.Rows)
	}
}

// Every place is in one row, and every visitor gets there what the row says.
func TestRegionsAgainstBruteForce(t *testing.T) {
	r := rand.New(rand.NewPCG(17, 18))
	for range 100 {
		book, _ := read.Parse("doors.yaml", []byte(text(r, manyDoors(r))))
		if book == nil {
			continue
		}
		ground, err := Survey(book)
		if err != nil {
			t.Fatal(err)
		}
		people := Kinds(book)
		rows := map[string]Row{}
		for _, row := range ground.Regions(people).Rows {
			if key := fmt.Sprint(row.Doors); rows[key].Kind != "" {
				t.Fatalf("two rows for %s", key)
			} else {
				rows[key] = row
			}
		}
		met := map[string]bool{}
		for _, path := range []string{"/", "/a", "/b", "/x", "/ab", "/a/b", "/a/x", "/x/b", "/x/a", "/b/x", "/a/b/x", "/a/x/b", "/x/x/b",
			"/x/a/x", "/a/a/a", "/x/ab/x", "/x/x/x", "/a/a/b", "/x/a/b", "/ab/b", "/ab/a/b", "/ab/x"} {
			for _, method := range methods {
				p := place.Place{Path: path, Method: method}
				key := fmt.Sprint(refer(book.Deciding(p)))
				met[key] = true
				row, ok := rows[key]
				if !ok {
					t.Fatalf("%s %s is in no row: %v", method, path, rows)
				}
				for i := range people {
					if got := shown(book.Decide(policy.RequestFor(p), &people[i])); got != row.Cells[i].Detail {
						t.Fatalf("%s %s as %s: %s, the row says %s", method, path, people[i], got, row.Cells[i].Detail)
					}
				}
			}
		}
		for key := range rows {
			if p := rows[key]; fmt.Sprint(refer(book.Deciding(place.Place{Path: p.Path, Method: p.Method, Host: p.Host}))) != key {
				t.Fatalf("the example of %s is not in it", key)
			}
		}
	}
}
