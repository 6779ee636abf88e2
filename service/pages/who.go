package pages

import (
	"net/http"

	"ostiarius/client"
	"ostiarius/core/policy"
	"ostiarius/service/guard"
	"ostiarius/service/problem"
)

// me tells a page's scripts who is signed in.
func (p *Pages) me(w http.ResponseWriter, r *http.Request) {
	v := guard.TurnOf(r).Visitor
	roles := v.Roles
	if roles == nil {
		roles = []string{}
	}
	writeJSON(w, map[string]any{"signedIn": v.SignedIn, "name": v.Account, "roles": roles})
}

// may tells a page's scripts which of the addresses given as path the visitor may go to.
// What is hidden and what is merely closed look alike.
func (p *Pages) may(w http.ResponseWriter, r *http.Request) {
	query := r.URL.Query()
	paths := query["path"]
	method := query.Get("method")
	if method == "" {
		method = http.MethodGet
	}
	if len(paths) == 0 || len(paths) > 100 {
		problem.Write(w, client.Problem{Status: http.StatusBadRequest, Detail: "The query has between 1 and 100 parameters path, such as path=/rota/."})
		return
	}
	may := map[string]bool{}
	for _, path := range paths {
		d, err := p.o.Visitors.Decide(r, guard.TurnOf(r), policy.Request{Method: method, Host: r.Host, Path: path})
		if err != nil {
			p.failed(w, r)
			return
		}
		may[path] = d.Outcome == policy.Admit
	}
	writeJSON(w, map[string]any{"may": may})
}
