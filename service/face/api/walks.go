package api

import (
	"fmt"
	"net/http"

	"ostiarius/client"
	"ostiarius/core/exact"
	"ostiarius/core/policy"
	"ostiarius/patrol"
	"ostiarius/service/base/mistake"
	"ostiarius/service/door/visitor"
)

func init() {
	On(client.BeginPatrol, (*API).beginPatrol)
	On(client.BeginWalk, (*API).beginWalk)
	Do(client.EndWalk, func(a *API, by Caller, of client.ByID) error { return a.Walks.End(by.Actor, of.ID) })
	Do(client.KeepPatrol, (*API).keepPatrol)
}

// The most visitors of one patrol.
const mostWalking = 100

// beginPatrol gives out what a patrol sends to be judged as some visitors. That would let a steward see what they may not see; so it is for
// those who reach the socket, and can read the records anyway.
func (a *API) beginPatrol(by Caller, asked client.NewPatrol) (begins client.Patrol, err error) {
	if a.Shuts {
		return begins, refuse(http.StatusForbidden, "A patrol is begun with the command ostiarius patrol, where the service runs.")
	}
	if len(asked.Visitors) == 0 || len(asked.Visitors) > mostWalking {
		return begins, mistake.Invalid("A patrol has between 1 and %d visitors.", mostWalking)
	}
	var as []policy.Visitor
	for _, who := range asked.Visitors {
		v, err := a.visitor(by, who)
		if err != nil {
			return begins, unprocessable(err)
		}
		as = append(as, v)
	}
	begun, err := a.Walks.Begin(by.Actor, as)
	if err != nil {
		return begins, err
	}
	return client.Patrol{
		ID: begun.ID, Cookie: visitor.WalkCookie(false), SecureCookie: visitor.WalkCookie(true), Tokens: begun.Tokens, Mark: begun.Mark,
		Until: begun.Until,
	}, nil
}

// beginWalk lets a steward walk through the site as somebody else, in the browser that asks.
func (a *API) beginWalk(by Caller, asked client.NewWalk) (begins client.Walk, err error) {
	if a.GiveWalk == nil {
		return begins, refuse(http.StatusForbidden,
			"One walks in a browser, in which one is signed in as a steward, where the console is beside the site.")
	}
	v, err := a.visitor(by, asked.As)
	if err != nil {
		return begins, unprocessable(err)
	}
	begun, err := a.Walks.BeginAs(by.Actor, v, asked.Changes)
	if err != nil {
		return begins, err
	}
	a.GiveWalk(by.Header, by.Request, begun.Tokens[0], begun.Until.Sub(a.Now()))
	return client.Walk{Path: a.Policy.Book().Prefix + "/walk", Until: begun.Until}, nil
}

// keepPatrol keeps what a patrol has found that was begun by command, so that it is listed with the others.
func (a *API) keepPatrol(by Caller, asked client.FoundByPatrol) error {
	began, is := a.Walks.Began(asked.ID)
	if !is || a.Shuts {
		return mistake.Unknown("There is no such patrol; it may have ended.")
	}
	var found patrol.Result
	if err := exact.UnmarshalKnown(asked.Result, &found); err != nil {
		return refuse(http.StatusBadRequest, fmt.Sprintf("The body is not the JSON that is expected here: %v", err))
	}
	return a.Patrols.Made(by, by.Actor, began, &found)
}
