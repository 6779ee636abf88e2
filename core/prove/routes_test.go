package prove

import (
	"fmt"
	"strings"
	"testing"

	"ostiarius/core/policy"
	"ostiarius/core/policy/read"
)

// What the browser hides is also closed by the service, or it is found.
func TestRoutesAndTheirData(t *testing.T) {
	const doors = `
roles: { keeper: , trustee: { includes: [keeper] } }
sources:
  - path: /desk
    files: ./desk
    routes:
      - { path: /desk/board, data: [ /api/board, POST /api/board ] }
      - { path: /desk/shifts, data: /api/shifts }
      - { path: /desk }
doors:
  - { path: /desk, admit: public }
  - { path: /desk/shifts, admit: signed-in }
  - { path: /desk/board, admit: { role: trustee } }
  - { path: /api/shifts, admit: signed-in }
`
	for open, want := range map[string]string{
		"public": "7:17 the browser hides /desk/board from anonymous, but GET /api/board is open to them; close that too|7:17 " +
			"the browser hides /desk/board from anonymous, but POST /api/board is open to them; close that too",
		"signed-in": "7:17 the browser hides /desk/board from signed-in, but GET /api/board is open to them; close that too|7:17 " +
			"the browser hides /desk/board from signed-in, but POST /api/board is open to them; close that too",
		"{ role: keeper }": "7:17 the browser hides /desk/board from role:keeper, but GET /api/board is open to them; close that " +
			"too|7:17 the browser hides /desk/board from role:keeper, but POST /api/board is open to them; close that too",
		"{ role: trustee }":  "",
		"{ user: somebody }": "",
	} {
		book, findings := read.Parse("doors.yaml", []byte(doors+"  - { path: /api/board, admit: "+open+" }\n"))
		if book == nil {
			t.Fatal(findings)
		}
		var got []string
		for _, f := range CheckRoutes(book, "doors.yaml", book.Sources[0].Routes) {
			got = append(got, fmt.Sprintf("%d:%d %s", f.Line, f.Column, f.Message))
		}
		if strings.Join(got, "|") != want {
			t.Errorf("%s:\n%s\nwant\n%s", open, strings.Join(got, "|"), want)
		}
	}
	routes, findings := read.ParseRoutes("routes.json",
		[]byte(`[{"path": "/desk/board", "data": ["/api/board"]}, {"path": "/desk"}]`), policy.Book{}.Rules)
	if len(routes) != 2 || len(findings) > 0 || routes[0].Data[0] != (policy.RequestTo{Method: "GET", Path: "/api/board"}) {
		t.Errorf("%+v %v", routes, findings)
	}
	for text, want := range map[string]string{
		"": "the list is empty", "5": "a list", `[{"data": "/x"}]`: "a route has a path", `[{"path": "desk"}]`: "begins with a slash",
		`[{"path": "/a%2fb"}]`: "not \"/a%2fb\"", `[{"path": "/a", "data": "get /b"}]`: "upper case", `[{"path": "/a", "x": 1}]`: "unknown key",
	} {
		if routes, findings := read.ParseRoutes("routes.json", []byte(text), policy.Book{}.Rules); routes != nil ||
			len(findings) == 0 || !strings.Contains(fmt.Sprint(findings), want) {
			t.Errorf("%s: %v %v", text, routes, findings)
		}
	}
}
