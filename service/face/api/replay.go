package api

import (
	"context"
	"time"

	"ostiarius/client"
	"ostiarius/core/document"
	"ostiarius/core/policy/read"
	"ostiarius/core/replay"
	"ostiarius/service/base/mistake"
)

// How long a draft is tried on what was decided, and how many addresses are told.
const (
	mostReplayed = 4 * time.Second
	mostGroups   = 100
)

func init() { On(client.ReplayPolicy, (*API).replayPolicy) }

// replayPolicy tries a draft on what was decided in the last days, if that is kept.
func (a *API) replayPolicy(by Caller, draft client.Draft) (shown client.Replayed, err error) {
	shown.Groups = []replay.Group{}
	if a.Decided.Keeps() == 0 {
		return shown, nil
	}
	shown.Kept = document.FormatDuration(a.Decided.Keeps())
	book, _ := read.Parse(a.Policy.File(), []byte(draft.Text))
	if book == nil {
		return shown, mistake.Invalid("The draft has errors, so it cannot be tried.")
	}
	ctx, cancel := context.WithTimeout(by, mostReplayed)
	defer cancel()
	found, whole, err := a.Decided.Replay(ctx, book)
	if err != nil {
		return shown, err
	}
	shown.Whole, shown.Requests, shown.Changed, shown.People = whole, found.Requests, found.Changed, found.People
	shown.First, shown.Last = found.First, found.Last
	shown.Groups = append(shown.Groups, found.Groups[:min(len(found.Groups), mostGroups)]...)
	shown.More = len(found.Groups) - len(shown.Groups)
	return shown, nil
}
