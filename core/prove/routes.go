package prove

import (
	"fmt"

	"ostiarius/core/document"
	"ostiarius/core/policy"
)

// CheckRoutes finds routes of an application whose data is open to visitors who may not see the route: the browser hides what
// the service gives away. Each kind of visitor is looked at once for each route, the one who has least first. The findings stand in a file.
func CheckRoutes(b *policy.Book, file string, routes []policy.Route) (found []document.Finding) {
	visitors := Kinds(b)
	for _, route := range routes {
		for _, data := range route.Data {
			for i := range visitors {
				v := &visitors[i]
				at, has := b.Decide(policy.Request{Method: "GET", Path: route.Path},
					v), b.Decide(policy.Request{Method: data.Method, Path: data.Path}, v)
				if at.Outcome == policy.Admit || has.Outcome != policy.Admit {
					continue
				}
				found = append(found, document.Finding{
					Severity: document.SeverityWarning, Rule: "data-open", File: file, Line: route.Line, Column: route.Column, Length: route.Length,
					Message: fmt.Sprintf("the browser hides %s from %s, but %s %s is open to them; close that too", route.Path, v, data.Method, data.Path),
					Witness: &document.Witness{Method: data.Method, Path: data.Path, Visitor: v.String(), Outcome: string(has.Outcome)},
				})
				break
			}
		}
	}
	return found
}
