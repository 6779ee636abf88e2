package api

import (
	"ostiarius/client"
	"ostiarius/core/document"
	"ostiarius/patrol"
	"ostiarius/store"
)

func patrolMade(p store.Patrol) client.PatrolMade {
	return client.PatrolMade{
		ID: p.ID, Began: p.Began, Ended: p.Ended, By: p.By, Problem: p.Problem, Visited: p.Visited, Found: p.Found, Fresh: p.Fresh,
	}
}

func init() {
	On(client.ListPatrols, (*API).listPatrols)
	Do(client.StartPatrol, func(a *API, by Caller, _ client.None) error { return a.Patrols.Start(by.Actor) })
	Do(client.StopPatrol, func(a *API, _ Caller, _ client.None) error { return a.Patrols.Stop() })
	On(client.ShowPatrol, (*API).showPatrol)
	Do(client.Accept, func(a *API, by Caller, asked client.AcceptFinding) error {
		return a.Patrols.Accept(by, by.Actor, asked.Patrol, asked.Key, asked.Reason, timeOf(asked.Until))
	})
	Do(client.Reject, func(a *API, by Caller, asked client.RejectFinding) error {
		return a.Patrols.Reject(by, by.Actor, asked.Key)
	})
}

func (a *API) listPatrols(by Caller, _ client.None) (client.Patrols, error) {
	all, err := a.Patrols.List(by)
	shown := client.Patrols{Patrols: make([]client.PatrolMade, len(all))}
	for i, p := range all {
		shown.Patrols[i] = patrolMade(p)
	}
	if every := a.Policy.Book().Patrol; every > 0 {
		shown.Every = document.FormatDuration(every)
	}
	if under := a.Patrols.Running(); under != nil {
		shown.Running = &client.PatrolRunning{Began: under.Began, By: under.By, Done: under.Done, Known: under.Known}
	}
	return shown, err
}

func (a *API) showPatrol(by Caller, of client.ByNumber) (shown client.PatrolResult, err error) {
	p, found, err := a.Patrols.Find(by, of.ID)
	if err != nil {
		return shown, err
	}
	accepted, err := a.Patrols.Accepted(by)
	shown = client.PatrolResult{
		PatrolMade: patrolMade(p), Visitors: append([]string{}, found.Visitors...), Requests: found.Requests,
		Findings: []client.PatrolFinding{}, LeftOut: []client.PatrolLeft{},
	}
	for i := range found.Findings {
		f := &found.Findings[i]
		one := client.PatrolFinding{
			Key: f.Key(), Rule: f.Rule, About: patrol.About[f.Rule], Severity: string(f.Severity), Path: f.Path, Message: f.Message, As: f.As,
			Door: f.Door, Requests: []client.PatrolRequest{},
		}
		for _, q := range f.Requests {
			one.Requests = append(one.Requests, client.PatrolRequest(q))
		}
		if by, is := accepted[one.Key]; is {
			one.Accepted = &client.PatrolAccepted{Reason: by.Reason, By: by.By, At: by.At, Until: moment(by.Until)}
		}
		shown.Findings = append(shown.Findings, one)
	}
	for _, l := range found.LeftOut {
		shown.LeftOut = append(shown.LeftOut, client.PatrolLeft(l))
	}
	return shown, err
}
