package api

import (
	"context"
	"net/http"
	"time"

	"ostiarius/client"
	"ostiarius/core/policy"
	"ostiarius/core/replay"
)

// How long a draft is tried on what was decided, and how many addresses are told.
const (
	mostReplayed = 4 * time.Second
	mostGroups   = 100
)

// replayPolicy tries a draft on what was decided in the last days, if that is kept.
func (a *API) replayPolicy(w http.ResponseWriter, r *http.Request) {
	var draft client.Draft
	if !a.read(w, r, &draft, maxPolicyBody) {
		return
	}
	answer := client.Replayed{Groups: []replay.Group{}}
	if a.Decided.Keeps() == 0 {
		a.answer(w, http.StatusOK, answer)
		return
	}
	answer.Kept = policy.FormatDuration(a.Decided.Keeps())
	book, _ := policy.Parse(a.Policy.File(), []byte(draft.Text))
	if book == nil {
		a.problem(w, http.StatusUnprocessableEntity, "The draft has errors, so it cannot be tried.")
		return
	}
	ctx, cancel := context.WithTimeout(r.Context(), mostReplayed)
	defer cancel()
	found, whole, err := a.Decided.Replay(ctx, book)
	if err != nil {
		a.fail(w, err)
		return
	}
	answer.Whole, answer.Requests, answer.Changed, answer.People, answer.First, answer.Last = whole, found.Requests, found.Changed, found.People, found.First, found.Last
	answer.Groups = append(answer.Groups, found.Groups[:min(len(found.Groups), mostGroups)]...)
	answer.More = len(found.Groups) - len(answer.Groups)
	a.answer(w, http.StatusOK, answer)
}
