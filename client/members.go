package client

import (
	"context"
	"net/url"
	"strconv"
	"time"
)

// Member is somebody who has a role.
type Member struct {
	Account  string     `json:"account"`
	Email    string     `json:"email,omitempty"`
	Role     string     `json:"role"`
	Since    time.Time  `json:"since"`
	Until    *time.Time `json:"until,omitempty"`
	By       string     `json:"by"`              // who or what gave the role
	Order    string     `json:"order,omitempty"` // the latest for which it was given
	Joined   string     `json:"joined"`          // how the account was made
	Disabled bool       `json:"disabled,omitempty"`
}

// Members are members, and how many there are in all.
type Members struct {
	Members []Member `json:"members"`
	Total   int      `json:"total"` // of a search at most 5000
}

// MembersWeek is how many had each role at the end of a week.
type MembersWeek struct {
	Begins time.Time      `json:"begins"`
	Counts map[string]int `json:"counts"`
}

// MemberQuery says which members are meant.
type MemberQuery struct {
	Role   string
	Ending time.Duration // whose role ends within that time; 0 for any
	Search string        // with which the name or the address begins
	Past   bool          // whose role has ended
	Soon   bool          // whose role ends first come first
	Offset int
	Limit  int
}

// MemberCalls are the calls about members.
type MemberCalls struct{ c *Client }

// Members returns the calls about members.
func (c *Client) Members() MemberCalls { return MemberCalls{c} }

// List returns the members that a query means.
func (k MemberCalls) List(ctx context.Context, q MemberQuery) (all Members, err error) {
	v := url.Values{"role": {q.Role}, "search": {q.Search}, "offset": {strconv.Itoa(q.Offset)}, "limit": {strconv.Itoa(q.Limit)}}
	if q.Ending > 0 {
		v.Set("ending", strconv.FormatInt(int64(q.Ending.Seconds()), 10))
	}
	if q.Past {
		v.Set("past", "true")
	}
	if q.Soon {
		v.Set("sort", "until")
	}
	return all, k.c.do(ctx, "GET", "/members?"+v.Encode(), nil, &all)
}

// Weeks returns how many had each role at the end of each of the last weeks.
func (k MemberCalls) Weeks(ctx context.Context, n int) (all []MembersWeek, err error) {
	return all, k.c.do(ctx, "GET", "/members/weeks?weeks="+strconv.Itoa(n), nil, &all)
}
