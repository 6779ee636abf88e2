package embed

import (
	"fmt"
	"slices"
	"strings"
	"testing"

	"ostiarius/core/policy"
	"ostiarius/core/policy/read"
)

func TestPlacesOfRoutes(t *testing.T) {
	for route, want := range map[string]string{
		"/": "[GET / GET /x]", "/{$}": "[GET /]", "GET /orders/{id}": "[GET /orders/x]", "POST /orders/{id}/approve": "[POST /orders/x/approve]",
		"example.com/static/": "[GET example.com/static GET example.com/static/x]", "/files/{path...}": "[GET /files GET /files/x]",
		"/orders/{id:[0-9]{1,3}}/lines/{n:a/b}": "[GET /orders/x/lines/x]", "/static/*": "[GET /static GET /static/x]",
		"/report-{year}.pdf": "[GET /report-x.pdf]", "DELETE  /a/{$}": "[DELETE /a]", "nothing": "[]",
	} {
		if got := fmt.Sprint(placesOf(route)); got != want {
			t.Errorf("%s: %s, want %s", route, got, want)
		}
	}
}

func TestUncovered(t *testing.T) {
	d := opened(t, Options{Text: text})
	routes := []string{"/tides", "/log/{day}", "POST /log/{day}", "/rota/", "/orders/{id}", "/gate/*", "/press/{kit}.zip", "/{$}", "/"}
	if got := d.Uncovered(routes...); !slices.Equal(got, []string{"/orders/{id}", "/"}) {
		t.Error(got)
	}
	draft := Draft("Marram Point", "/admin/{page}", "/static/", "GET /orders/{id}")
	book, findings := read.Parse("doors.yaml", []byte(draft))
	if book == nil {
		t.Fatal(findings, draft)
	}
	for _, path := range []string{"/admin/x", "/orders/1", "/static/x.css", "/other"} {
		if d := book.Decide(policy.Request{Method: "GET", Path: path}, &policy.Visitor{}); d.Outcome == policy.Admit {
			t.Errorf("%s is open in\n%s", path, draft)
		}
	}
	if !strings.Contains(draft, "the routes of the program") {
		t.Error(draft)
	}
}
