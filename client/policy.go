package client

import (
	"context"
	"fmt"
)

// PolicyCalls are the calls about the policy and its versions.
type PolicyCalls struct{ c *Client }

// Policy returns the calls about the policy and its versions.
func (c *Client) Policy() PolicyCalls { return PolicyCalls{c} }

// InForce returns the version in force with its text.
func (k PolicyCalls) InForce(ctx context.Context) (v Version, err error) {
	return v, k.c.do(ctx, "GET", "/policy", nil, &v)
}

// Check says what is wrong with a text and how its doors differ from those in force.
func (k PolicyCalls) Check(ctx context.Context, text string) (checked Checked, err error) {
	return checked, k.c.do(ctx, "POST", "/policy/check", Draft{Text: text}, &checked)
}

// Apply brings a text into force. The error is a *Problem with the findings if the
// text has errors.
func (k PolicyCalls) Apply(ctx context.Context, d Draft) (a Applied, err error) {
	return a, k.c.do(ctx, "POST", "/policy", d, &a)
}

// Edit says what edits of the text in force would make of it. Nothing is changed.
func (k PolicyCalls) Edit(ctx context.Context, edits ...Edit) (e Edited, err error) {
	return e, k.c.do(ctx, "POST", "/policy/edit", Edits{Edits: edits}, &e)
}

// Site returns the places of the site as the policy in force has them, for a stranger.
func (k PolicyCalls) Site(ctx context.Context) (s Site, err error) {
	return s, k.c.do(ctx, "GET", "/site", nil, &s)
}

// Versions returns all versions without their texts, newest first.
func (k PolicyCalls) Versions(ctx context.Context) (all []Version, err error) {
	return all, k.c.do(ctx, "GET", "/policy/versions", nil, &all)
}

// Version returns one version with its text.
func (k PolicyCalls) Version(ctx context.Context, id int64) (v Version, err error) {
	return v, k.c.do(ctx, "GET", fmt.Sprintf("/policy/versions/%d", id), nil, &v)
}

// Rollback brings the text of an earlier version into force again, as a new version; only if
// overEdit is set also over an edit of the file that is not in force.
func (k PolicyCalls) Rollback(ctx context.Context, id int64, comment string, overEdit bool) (a Applied, err error) {
	return a, k.c.do(ctx, "POST", fmt.Sprintf("/policy/versions/%d/rollback", id), Draft{Comment: comment, OverEdit: overEdit}, &a)
}
