package service

import (
	"context"
	"encoding/json"
	"testing"
	"time"

	"ostiarius/core/activity"
	"ostiarius/core/document"
	"ostiarius/core/policy"
	"ostiarius/patrol"
	"ostiarius/store"
)

// walked is what leaves traces of walks through the site, and of what they have found.
func walked(ctx context.Context, t *testing.T, s *Service, leaves func(what string, do func() error, kinds ...activity.Kind),
	wrong func(do func() error) func() error, secret func(string)) {
	walks, room := s.rooms.Walks, s.rooms.Patrols
	id := ""
	leaves("a walk", func() error {
		begun, err := walks.Begin("test", []policy.Visitor{{SignedIn: true}, {Shared: []string{"press-kit"}}})
		id = begun.ID
		for _, token := range begun.Tokens {
			secret(token)
		}
		return err
	}, activity.WalkBegun)
	leaves("its end", func() error { return walks.End("test", id) }, activity.WalkEnded)
	leaves("its end, twice", wrong(func() error { return walks.End("test", id) }))
	f := patrol.Finding{Rule: "kept", Severity: document.SeverityError, Path: "/log/", As: "role:keeper", Message: "kept"}
	text, err := json.Marshal(patrol.Result{Findings: []patrol.Finding{f}})
	if err != nil {
		t.Fatal(err)
	}
	var number int64
	leaves("a patrol", func() (err error) {
		number, err = s.store.AddPatrol(ctx,
			store.Patrol{Began: time.Now(), Ended: time.Now(), By: "test", Found: 1, Fresh: 1, Result: string(text)}, 20, nil,
			store.Activity{At: time.Now(), Kind: activity.PatrolMade, AccountID: store.NoAccount, Actor: "test"})
		return err
	}, activity.PatrolMade)
	accept := func(key, reason string, until time.Time) func() error {
		return func() error { return room.Accept(ctx, "test", number, key, reason, until) }
	}
	leaves("accepting what was not found", wrong(accept("other", "so it is", time.Time{})))
	leaves("accepting without a reason", wrong(accept(f.Key(), " ", time.Time{})))
	leaves("accepting until it was", wrong(accept(f.Key(), "so it is", time.Now().Add(-time.Hour))))
	leaves("accepting", accept(f.Key(), "so it is", time.Now().Add(time.Hour)), activity.FindingAccepted)
	leaves("taking that back", func() error { return room.Reject(ctx, "test", f.Key()) }, activity.FindingRejected)
	leaves("taking that back, twice", wrong(func() error { return room.Reject(ctx, "test", f.Key()) }))
}
