package api

import (
	"fmt"
	"net/http"

	"ostiarius/client"
	"ostiarius/core/policy"
	"ostiarius/patrol"
	"ostiarius/service/visitor"
)

// The most visitors of one patrol.
const mostWalking = 100

// beginPatrol gives out what a patrol sends to be judged as some visitors. That would let a steward see what they may not see; so it is for
// those who reach the socket, and can read the records anyway.
func (a *API) beginPatrol(w http.ResponseWriter, r *http.Request) {
	var asked client.NewPatrol
	if !a.read(w, r, &asked, maxBody) {
		return
	}
	if a.Shuts {
		a.problem(w, http.StatusForbidden, "A patrol is begun with the command ostiarius patrol, where the service runs.")
		return
	}
	if len(asked.Visitors) == 0 || len(asked.Visitors) > mostWalking {
		a.problem(w, http.StatusUnprocessableEntity, fmt.Sprintf("A patrol has between 1 and %d visitors.", mostWalking))
		return
	}
	var as []policy.Visitor
	for _, who := range asked.Visitors {
		v, err := a.visitor(r.Context(), who)
		if err != nil {
			a.problem(w, http.StatusUnprocessableEntity, err.Error())
			return
		}
		as = append(as, v)
	}
	begun, err := a.Walks.Begin(a.Actor(r), as)
	if err != nil {
		a.fail(w, err)
		return
	}
	answer := client.Patrol{ID: begun.ID, Cookie: visitor.WalkCookie(false), SecureCookie: visitor.WalkCookie(true), Tokens: begun.Tokens, Mark: begun.Mark, Until: begun.Until}
	a.answer(w, http.StatusCreated, answer)
}

// beginWalk lets a steward walk through the site as somebody else, in the browser that asks.
func (a *API) beginWalk(w http.ResponseWriter, r *http.Request) {
	var asked client.NewWalk
	if !a.read(w, r, &asked, maxBody) {
		return
	}
	if a.GiveWalk == nil {
		a.problem(w, http.StatusForbidden, "One walks in a browser, in which one is signed in as a steward, where the console is beside the site.")
		return
	}
	v, err := a.visitor(r.Context(), asked.As)
	if err != nil {
		a.problem(w, http.StatusUnprocessableEntity, err.Error())
		return
	}
	begun, err := a.Walks.BeginAs(a.Actor(r), v, asked.Changes)
	if err != nil {
		a.fail(w, err)
		return
	}
	a.GiveWalk(w.Header(), r, begun.Tokens[0], begun.Until.Sub(a.Now()))
	a.answer(w, http.StatusCreated, client.Walk{Path: a.Policy.Book().Prefix + "/walk", Until: begun.Until})
}

// keepPatrol keeps what a patrol has found that was begun by command, so that it is listed with the others.
func (a *API) keepPatrol(w http.ResponseWriter, r *http.Request) {
	began, is := a.Walks.Began(parameter(r, "id"))
	if !is || a.Shuts {
		a.problem(w, http.StatusNotFound, "There is no such patrol; it may have ended.")
		return
	}
	var found patrol.Result
	if !a.read(w, r, &found, mostPatrol) {
		return
	}
	a.done(w, a.Patrols.Made(r.Context(), a.Actor(r), began, &found))
}

// mostPatrol is how long the result of a patrol may be, in bytes.
const mostPatrol = 16 << 20

func (a *API) endWalk(w http.ResponseWriter, r *http.Request) {
	a.done(w, a.Walks.End(a.Actor(r), parameter(r, "id")))
}
