package client

import (
	"context"
	"net/url"
	"strconv"
)

// AccessKeyCalls are the calls about access keys.
type AccessKeyCalls struct{ c *Client }

// AccessKeys returns the calls about access keys.
func (c *Client) AccessKeys() AccessKeyCalls { return AccessKeyCalls{c} }

// List returns the access keys of an account, or of all if it is "".
func (k AccessKeyCalls) List(ctx context.Context, account string, offset, limit int) (all AccessKeys, err error) {
	v := url.Values{"account": {account}, "offset": {strconv.Itoa(offset)}, "limit": {strconv.Itoa(limit)}}
	return all, k.c.do(ctx, "GET", "/access-keys?"+v.Encode(), nil, &all)
}

// Add makes an access key.
func (k AccessKeyCalls) Add(ctx context.Context, n NewAccessKey) (made MadeAccessKey, err error) {
	return made, k.c.do(ctx, "POST", "/access-keys", n, &made)
}

// Remove removes an access key, by its handle.
func (k AccessKeyCalls) Remove(ctx context.Context, handle string) error {
	return k.c.do(ctx, "DELETE", "/access-keys/"+url.PathEscape(handle), nil, nil)
}

// Factors returns what an account has set up beside its password.
func (k PeopleCalls) Factors(ctx context.Context, name string) (held HeldFactors, err error) {
	return held, k.c.do(ctx, "GET", person(name)+"/factors", nil, &held)
}

// ResetFactors takes away what an account has set up beside its password, for somebody who has lost it.
func (k PeopleCalls) ResetFactors(ctx context.Context, name string) (reset FactorReset, err error) {
	return reset, k.c.do(ctx, "POST", person(name)+"/factors/reset", nil, &reset)
}

// DropFactorReset has a reset that waits not be made.
func (k PeopleCalls) DropFactorReset(ctx context.Context, name string) error {
	return k.c.do(ctx, "DELETE", person(name)+"/factors/reset", nil, nil)
}
