package client

import (
	"context"
	"net/url"
	"time"
)

// NewPatrol asks for what a patrol sends to be judged as some visitors.
type NewPatrol struct {
	Visitors []string `json:"visitors"` // in the notation for visitors
}

// Patrol is a walk through the site as several visitors.
type Patrol struct {
	ID           string    `json:"id"`
	Cookie       string    `json:"cookie"`       // the name of the cookie that a token is sent in
	SecureCookie string    `json:"secureCookie"` // over HTTPS
	Tokens       []string  `json:"tokens"`       // one for each visitor, in order
	Mark         string    `json:"mark"`         // to stand at the end of User-Agent, so that the patrol isn't counted as visitors
	Until        time.Time `json:"until"`
}

// NewWalk asks for a walk through the site as somebody else, in the browser that asks.
type NewWalk struct {
	As      string `json:"as"`                // in the notation for visitors
	Changes bool   `json:"changes,omitempty"` // requests may change something
}

// Walk is a walk that has begun.
type Walk struct {
	Path  string    `json:"path"` // of the page with the bar
	Until time.Time `json:"until"`
}

// BeginPatrol begins a patrol as some visitors.
func (c *Client) BeginPatrol(ctx context.Context, visitors []string) (p Patrol, err error) {
	return p, c.do(ctx, "POST", "/walks", NewPatrol{Visitors: visitors}, &p)
}

// PatrolMade tells the service what a patrol has found that was begun with BeginPatrol, before it ends: a result as the command
// ostiarius patrol prints it as JSON.
func (c *Client) PatrolMade(ctx context.Context, id string, result any) error {
	return c.do(ctx, "POST", "/walks/"+url.PathEscape(id)+"/made", result, nil)
}

// EndPatrol ends what was begun.
func (c *Client) EndPatrol(ctx context.Context, id string) error {
	return c.do(ctx, "DELETE", "/walks/"+url.PathEscape(id), nil, nil)
}
