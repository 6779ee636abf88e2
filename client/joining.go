package client

import (
	"context"
	"net/url"
	"time"
)

// Joining is who wants to join and is not in, and who is invited; the oldest first.
type Joining struct {
	By           string        `json:"by"` // nobody, invitation, approval or anybody, as the policy says
	Applications []Application `json:"applications"`
	Invitations  []Invitation  `json:"invitations"`
}

// Application is somebody who wants to join.
type Application struct {
	Name   string    `json:"name"`
	Email  string    `json:"email"`
	State  string    `json:"state"` // unproven: the address is to be proven; waiting: for a steward; declined
	MadeAt time.Time `json:"madeAt"`
	Until  time.Time `json:"until"` // when it is forgotten
}

// Invitation lets somebody join, once.
type Invitation struct {
	Email  string     `json:"email"`
	Roles  []string   `json:"roles"`
	Ends   *time.Time `json:"ends,omitempty"` // when the roles end
	MadeAt time.Time  `json:"madeAt"`
	MadeBy string     `json:"madeBy"`
	Until  time.Time  `json:"until"` // when it ends itself
}

// NewInvitation asks for an invitation.
type NewInvitation struct {
	Email    string     `json:"email"`
	Roles    []string   `json:"roles,omitempty"`
	Ends     *time.Time `json:"ends,omitempty"`     // when the roles end
	Lasts    int64      `json:"lasts,omitempty"`    // how long it lasts itself, in seconds; 14 days if it is left away
	Language string     `json:"language,omitempty"` // of the mail
	Mail     bool       `json:"mail,omitempty"`     // send it; else its link is answered, once
}

// Invited is an invitation that was made; Path is its link, below the address of the site, unless it was sent.
type Invited struct {
	Path  string    `json:"path,omitempty"`
	Until time.Time `json:"until"`
}

// Declining says why somebody is not let in.
type Declining struct {
	Text string `json:"text,omitempty"`
}

// JoiningCalls are the calls about who joins.
type JoiningCalls struct{ c *Client }

// Joining returns the calls about who joins.
func (c *Client) Joining() JoiningCalls { return JoiningCalls{c} }

// List returns who wants to join and is not in, and who is invited.
func (k JoiningCalls) List(ctx context.Context) (j Joining, err error) {
	return j, k.c.do(ctx, "GET", "/joining", nil, &j)
}

// Approve lets somebody in.
func (k JoiningCalls) Approve(ctx context.Context, name string) error {
	return k.c.do(ctx, "POST", "/joining/applications/"+url.PathEscape(name)+"/approve", nil, nil)
}

// Decline does not, and tells them so with a text of one's own, or none.
func (k JoiningCalls) Decline(ctx context.Context, name, text string) error {
	return k.c.do(ctx, "POST", "/joining/applications/"+url.PathEscape(name)+"/decline", Declining{text}, nil)
}

// Invite invites somebody.
func (k JoiningCalls) Invite(ctx context.Context, n NewInvitation) (i Invited, err error) {
	return i, k.c.do(ctx, "POST", "/joining/invitations", n, &i)
}

// Revoke ends the invitation to an address.
func (k JoiningCalls) Revoke(ctx context.Context, email string) error {
	return k.c.do(ctx, "DELETE", "/joining/invitations/"+url.PathEscape(email), nil, nil)
}
