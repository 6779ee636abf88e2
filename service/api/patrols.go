package api

import (
	"net/http"
	"time"

	"ostiarius/client"
	"ostiarius/core/policy"
	"ostiarius/patrol"
	"ostiarius/store"
)

func patrolMade(p store.Patrol) client.PatrolMade {
	return client.PatrolMade{ID: p.ID, Began: p.Began, Ended: p.Ended, By: p.By, Problem: p.Problem, Visited: p.Visited, Found: p.Found, Fresh: p.Fresh}
}

func (a *API) listPatrols(w http.ResponseWriter, r *http.Request) {
	all, err := a.Patrols.List(r.Context())
	if err != nil {
		a.fail(w, err)
		return
	}
	answer := client.Patrols{Patrols: make([]client.PatrolMade, len(all))}
	for i, p := range all {
		answer.Patrols[i] = patrolMade(p)
	}
	if every := a.Policy.Book().Patrol; every > 0 {
		answer.Every = policy.FormatDuration(every)
	}
	if under := a.Patrols.Running(); under != nil {
		answer.Running = &client.PatrolRunning{Began: under.Began, By: under.By, Done: under.Done, Known: under.Known}
	}
	a.answer(w, http.StatusOK, answer)
}

func (a *API) startPatrol(w http.ResponseWriter, r *http.Request) {
	a.done(w, a.Patrols.Start(a.Actor(r)))
}

func (a *API) stopPatrol(w http.ResponseWriter, _ *http.Request) { a.done(w, a.Patrols.Stop()) }

func (a *API) showPatrol(w http.ResponseWriter, r *http.Request) {
	id, ok := a.numbered(w, r)
	if !ok {
		return
	}
	p, found, err := a.Patrols.Find(r.Context(), id)
	if err != nil {
		a.fail(w, err)
		return
	}
	accepted, err := a.Patrols.Accepted(r.Context())
	if err != nil {
		a.fail(w, err)
		return
	}
	answer := client.PatrolResult{PatrolMade: patrolMade(p), Visitors: append([]string{}, found.Visitors...), Requests: found.Requests, Findings: []client.PatrolFinding{}, LeftOut: []client.PatrolLeft{}}
	for i := range found.Findings {
		f := &found.Findings[i]
		shown := client.PatrolFinding{Key: f.Key(), Rule: f.Rule, About: patrol.About[f.Rule], Severity: string(f.Severity), Path: f.Path, Message: f.Message, As: f.As, Door: f.Door, Requests: []client.PatrolRequest{}}
		for _, q := range f.Requests {
			shown.Requests = append(shown.Requests, client.PatrolRequest(q))
		}
		if by, is := accepted[shown.Key]; is {
			shown.Accepted = &client.PatrolAccepted{Reason: by.Reason, By: by.By, At: by.At, Until: moment(by.Until)}
		}
		answer.Findings = append(answer.Findings, shown)
	}
	for _, l := range found.LeftOut {
		answer.LeftOut = append(answer.LeftOut, client.PatrolLeft(l))
	}
	a.answer(w, http.StatusOK, answer)
}

func (a *API) acceptFinding(w http.ResponseWriter, r *http.Request) {
	id, ok := a.numbered(w, r)
	if !ok {
		return
	}
	var asked client.AcceptFinding
	if !a.read(w, r, &asked, maxBody) {
		return
	}
	var until time.Time
	if asked.Until != nil {
		until = *asked.Until
	}
	a.done(w, a.Patrols.Accept(r.Context(), a.Actor(r), id, asked.Key, asked.Reason, until))
}

func (a *API) rejectFinding(w http.ResponseWriter, r *http.Request) {
	var asked client.RejectFinding
	if a.read(w, r, &asked, maxBody) {
		a.done(w, a.Patrols.Reject(r.Context(), a.Actor(r), asked.Key))
	}
}
