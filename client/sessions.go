package client

import (
	"context"
	"net/url"
	"strconv"
)

// SessionCalls are the calls about sessions.
type SessionCalls struct{ c *Client }

// Sessions returns the calls about sessions.
func (c *Client) Sessions() SessionCalls { return SessionCalls{c} }

// List returns the sessions of an account, or of all if it is "".
func (k SessionCalls) List(ctx context.Context, account, search string, offset, limit int) (all Sessions, err error) {
	v := url.Values{"account": {account}, "search": {search}, "offset": {strconv.Itoa(offset)}, "limit": {strconv.Itoa(limit)}}
	return all, k.c.do(ctx, "GET", "/sessions?"+v.Encode(), nil, &all)
}

// End ends one session.
func (k SessionCalls) End(ctx context.Context, handle string) error {
	return k.c.do(ctx, "DELETE", "/sessions/"+url.PathEscape(handle), nil, nil)
}

// EndAll signs everybody out and returns how many sessions there were.
func (k SessionCalls) EndAll(ctx context.Context) (n int, err error) {
	var ended struct{ Ended int }
	err = k.c.do(ctx, "DELETE", "/sessions", nil, &ended)
	return ended.Ended, err
}
