package guard_test

import (
	"fmt"
	"net/http"
	"net/http/httptest"

	"ostiarius/core/policy"
	"ostiarius/core/policy/read"
	"ostiarius/service/base/guard"
)

// A guard in a program of one's own, which knows its visitors by a header field of its own.
func ExampleGuard() {
	book, findings := read.Parse("doors.yaml", []byte("roles: {keeper: }\ndoors:\n  - { path: /, admit: public }\n  - { path: "+
		"/log/**, admit: { role: keeper } }\n"))
	if book == nil {
		fmt.Println(findings)
		return
	}
	site := http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		fmt.Fprint(w, "welcome to ", r.URL.Path)
	})
	house := &guard.House{Book: book, Site: site}
	g := &guard.Guard{
		House: func() *guard.House { return house },
		Who: func(_ http.Header, r *http.Request) (policy.Visitor, error) {
			if r.Header.Get("Lamp") != "lit" {
				return policy.Visitor{}, nil
			}
			return policy.Visitor{SignedIn: true, Account: "ines", Roles: []string{"keeper"}}, nil
		},
		Turned: func(w http.ResponseWriter, _ *http.Request, t *guard.TurnedAway) {
			w.WriteHeader(t.Answer.Status)
			fmt.Fprint(w, t.Decision.Outcome)
		},
	}
	for _, lamp := range []string{"", "lit"} {
		r := httptest.NewRequest("GET", "/log//today/", nil)
		r.Header.Set("Lamp", lamp)
		w := httptest.NewRecorder()
		g.ServeHTTP(w, r)
		fmt.Println(w.Code, w.Body)
	}
	// Output:
	// 303 challenge
	// 200 welcome to /log/today/
}
