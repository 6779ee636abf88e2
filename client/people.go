package client

import (
	"context"
	"net/url"
	"strconv"
)

// PeopleCalls are the calls about accounts.
type PeopleCalls struct{ c *Client }

// People returns the calls about accounts.
func (c *Client) People() PeopleCalls { return PeopleCalls{c} }

// List returns the accounts that a query means, a part at a time.
func (k PeopleCalls) List(ctx context.Context, q PeopleQuery) (all People, err error) {
	v := url.Values{}
	put := func(key, value string) {
		if value != "" && value != "0" {
			v.Set(key, value)
		}
	}
	put("search", q.Search)
	put("role", q.Role)
	put("state", q.State)
	put("sort", q.Sort)
	if q.Down {
		put("down", "true")
	}
	put("offset", strconv.Itoa(q.Offset))
	put("limit", strconv.Itoa(q.Limit))
	return all, k.c.do(ctx, "GET", "/people?"+v.Encode(), nil, &all)
}

// Get returns one account.
func (k PeopleCalls) Get(ctx context.Context, name string) (p Person, err error) {
	return p, k.c.do(ctx, "GET", person(name), nil, &p)
}

// Add adds an account.
func (k PeopleCalls) Add(ctx context.Context, n NewPerson) (p Person, err error) {
	return p, k.c.do(ctx, "POST", "/people", n, &p)
}

// Edit changes the details of an account.
func (k PeopleCalls) Edit(ctx context.Context, name string, to PersonEdit) (p Person, err error) {
	return p, k.c.do(ctx, "PATCH", person(name), to, &p)
}

// Remove removes an account with its grants and sessions.
func (k PeopleCalls) Remove(ctx context.Context, name string) error {
	return k.c.do(ctx, "DELETE", person(name), nil, nil)
}

// Link makes a link with which somebody sets the password of an account once.
func (k PeopleCalls) Link(ctx context.Context, name string) (l Link, err error) {
	return l, k.c.do(ctx, "POST", person(name)+"/link", nil, &l)
}

// MailLink sends a link to set the password once to the address of an account.
func (k PeopleCalls) MailLink(ctx context.Context, name string) error {
	return k.c.do(ctx, "POST", person(name)+"/link/mail", nil, nil)
}

// EndSessions ends all sessions of an account and returns how many there were.
func (k PeopleCalls) EndSessions(ctx context.Context, name string) (n int, err error) {
	var ended struct{ Ended int }
	err = k.c.do(ctx, "DELETE", person(name)+"/sessions", nil, &ended)
	return ended.Ended, err
}

// Import brings in accounts, all or none.
func (k PeopleCalls) Import(ctx context.Context, i Import) (done Imported, err error) {
	return done, k.c.do(ctx, "POST", "/people/import", i, &done)
}

// Export returns all accounts as text, in the format "csv" or "json".
func (k PeopleCalls) Export(ctx context.Context, format string) (text []byte, err error) {
	return text, k.c.do(ctx, "GET", "/people."+format, nil, &text)
}

// SetPassword gives an account another password and ends its sessions.
func (k PeopleCalls) SetPassword(ctx context.Context, name, password string) error {
	return k.c.do(ctx, "PUT", person(name)+"/password", NewPassword{password}, nil)
}

// SetDisabled disables or enables an account. Disabling ends its sessions.
func (k PeopleCalls) SetDisabled(ctx context.Context, name string, disabled bool) error {
	return k.c.do(ctx, "PUT", person(name)+"/disabled", disabled, nil)
}

// Grant gives a role to an account.
func (k PeopleCalls) Grant(ctx context.Context, name string, g NewGrant) error {
	return k.c.do(ctx, "POST", person(name)+"/grants", g, nil)
}

// Revoke takes a role from an account.
func (k PeopleCalls) Revoke(ctx context.Context, name, role string) error {
	return k.c.do(ctx, "DELETE", person(name)+"/grants/"+url.PathEscape(role), nil, nil)
}

// FirstLink makes a link with which the first steward makes an account, while there is none.
func (k PeopleCalls) FirstLink(ctx context.Context) (l Link, err error) {
	return l, k.c.do(ctx, "POST", "/first-link", nil, &l)
}
